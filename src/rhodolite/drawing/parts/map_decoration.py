"""Dots, halos and labels on maps."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.space.mesh import Mesh


def dot_size(pixels: Array) -> float:
    """Return the size of dots, in square points, that leaves neighbours apart."""
    from scipy.spatial import cKDTree

    distinct = np.unique(np.round(pixels, 1), axis=0)
    if len(distinct) < 2:
        return 34.0
    apart = cKDTree(distinct).query(distinct, k=2)[0][:, 1]
    return float(np.clip((0.5 * np.quantile(apart, 0.25)) ** 2, 2.0, 34.0))


def cut_near(mesh: Mesh, wanted: float) -> float:
    """Return the edge between columns that is nearest to a longitude, along which the globe can be
    opened.
    """
    if mesh.longitude_edges is None:
        return wanted
    apart = shortest_turn(mesh.longitude_edges - wanted)
    return float(wanted + apart[np.argmin(np.abs(apart))])


def halo() -> Any:
    from matplotlib.patheffects import withStroke

    return withStroke(linewidth=2.5, foreground="#ffffffd0")


def label(
    axes: Any,
    name: str,
    place: tuple[float, float],
    shift: tuple[float, float],
    align: str,
) -> None:
    axes.annotate(
        name,
        place,
        shift,
        textcoords="offset pixels",
        fontsize=9,
        ha=align,
        va="bottom",
        zorder=7,
        path_effects=[halo()],
    )
