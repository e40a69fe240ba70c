"""The shipped outlines: public-domain Natural Earth coasts and borders at 1:110m and 1:50m."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.sphere import eastward_from

Line = NDArray[np.float64]
"""Vertices in degrees east and north, shape (n, 2)."""


@cache
def _load() -> dict[str, NDArray[Any]]:
    with (
        files("rhodolite.regions").joinpath("data/outlines.npz").open("rb") as file,
        np.load(file) as archive,
    ):
        return dict(archive)


@cache
def _arcs(scale: str) -> tuple[Line, ...]:
    stored = _load()
    step, origin = stored[f"transform_{scale}"]
    ends = np.cumsum(stored[f"lengths_{scale}"])[:-1]
    return tuple(
        np.cumsum(part, axis=0) * step + origin
        for part in np.split(stored[f"steps_{scale}"], ends)
    )


@cache
def lines(kind: str, scale: str) -> tuple[Line, ...]:
    """Return coastlines or the borders between countries.

    Parameters
    ----------
    kind : {"coast", "border"}
    scale : {"110m", "50m"}

    Notes
    -----
    Lines that cross the dateline are cut there. The edges along the dateline and the South Pole
    that close some polygons are not coasts and are left out.
    """
    wanted = kind == "border"
    parts: list[Line] = []
    for arc, border in zip(_arcs(scale), _load()[f"border_{scale}"], strict=True):
        if bool(border) != wanted:
            continue
        seam = (np.abs(arc[:, 0]) > 179.99) | (arc[:, 1] < -89.9)
        along_seam = seam[1:] & seam[:-1]
        across = np.abs(np.diff(arc[:, 0])) > 180
        cuts = np.flatnonzero(along_seam | across) + 1
        parts += [part for part in np.split(arc, cuts) if len(part) > 1]
    return tuple(parts)


def land_at(
    longitudes: NDArray[np.float64], latitudes: NDArray[np.float64], scale: str = "110m"
) -> NDArray[np.bool_]:
    """Return which positions lie on land.

    Parameters
    ----------
    longitudes, latitudes : ndarray of float64
        In degrees, of one shape; longitudes in any convention.
    scale : {"110m", "50m"}

    Returns
    -------
    ndarray of bool, of that shape
    """
    return within_any(land(scale), longitudes, latitudes)


def within_any(
    shapes: NDArray[Any],
    longitudes: NDArray[np.float64],
    latitudes: NDArray[np.float64],
) -> NDArray[np.bool_]:
    """Return which positions, in degrees, lie in any of some polygons.

    Parameters
    ----------
    shapes : ndarray
        Polygons.
    longitudes : ndarray of float64
        Degrees east.
    latitudes : ndarray of float64
        Degrees north.
    """
    import shapely

    inside = np.zeros(longitudes.shape, dtype=bool)
    for polygon in shapes:
        west, south, right, north = polygon.bounds
        # Polygons across the dateline run beyond 180; count longitudes from each one's west end.
        east = eastward_from(west, longitudes)
        near = (east <= right) & (latitudes >= south) & (latitudes <= north)
        if near.any():
            shapely.prepare(polygon)
            inside[near] |= shapely.contains_xy(polygon, east[near], latitudes[near])
    return inside


@cache
def countries(scale: str) -> dict[str, NDArray[Any]]:
    """Return the polygons of each country, holes cut out, by the name that it is stored under."""
    import shapely

    stored = _load()
    ends = np.cumsum(stored[f"ring_lengths_{scale}"])[:-1]
    shells: list[tuple[int, Line, list[Line]]] = []
    for (owner, order), ring in zip(
        stored[f"owners_{scale}"], np.split(stored[f"rings_{scale}"], ends), strict=True
    ):
        line = _ring(ring, _arcs(scale))
        if order == 0:
            shells.append((int(owner), line, []))
        else:
            shells[-1][2].append(line)
    pieces: dict[str, list[Any]] = {str(name): [] for name in stored[f"names_{scale}"]}
    names = list(pieces)
    for owner, shell, holes in shells:
        shape = shapely.make_valid(shapely.Polygon(shell, holes))
        pieces[names[owner]] += [
            part for part in shapely.get_parts(shape) if part.geom_type == "Polygon"
        ]
    return {name: np.array(parts, dtype=object) for name, parts in pieces.items()}


@cache
def land(scale: str) -> NDArray[Any]:
    """Return the polygons of all countries together."""
    return np.concatenate(list(countries(scale).values()))


def _ring(numbers: NDArray[np.int32], arcs: tuple[Line, ...]) -> Line:
    """Join arcs to a ring without jumps in longitude; a negative number is an arc run backwards."""
    parts = [arcs[at] if at >= 0 else arcs[~at][::-1] for at in numbers.tolist()]
    ring = np.concatenate([parts[0], *(part[1:] for part in parts[1:])])
    if np.abs(ring[:, 1]).max() > 89.9:  # closed along a pole already
        return ring
    ring[:, 0] = np.unwrap(ring[:, 0], period=360.0)
    if abs(ring[-1, 0] - ring[0, 0]) > 180:  # it goes round a pole, and is closed there
        pole = np.copysign(90.0, ring[:, 1].mean())
        ring = np.concatenate([ring, [(ring[-1, 0], pole), (ring[0, 0], pole)]])
    return ring
