"""How much the cells of two axes overlap: the one-dimensional parts of the overlap of rectangular
grids."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from scipy import sparse

Array = NDArray[Any]


Measure = Callable[[Array, Array, Array], Array]
"""What counts of a stretch: takes its lower and its upper ends, and the cells of the source that it
lies in."""


def overlaps(
    source_edges: Array, target_edges: Array, measure: Measure | None = None
) -> sparse.csr_array:
    """Return the lengths that the cells of two axes have in common.

    Parameters
    ----------
    source_edges : ndarray, shape (n + 1,)
        Edges of cells that follow each other, in either direction.
    target_edges : ndarray, shape (m + 1,)
        Edges in the same units.
    measure : callable, optional
        What takes the place of the length.

    Returns
    -------
    sparse array, shape (m, n)
        In these units, float64. The sum of a column is the length of the source's cell, where the
        target covers all of it.

    Examples
    --------
    >>> overlaps(np.array([0.0, 1.0, 2.0]), np.array([0.5, 2.0])).toarray().tolist()
    [[0.5, 1.0]]
    """
    from scipy import sparse

    source, target = (
        edges if edges[-1] >= edges[0] else edges[::-1]
        for edges in (source_edges, target_edges)
    )
    low, high = np.maximum(source[0], target[0]), np.minimum(source[-1], target[-1])
    # All edges together cut the axis into stretches, each of which lies in one cell of either.
    cuts = np.unique(np.concatenate([source, target]))
    cuts = cuts[(cuts >= low) & (cuts <= high)]
    n, m = source.size - 1, target.size - 1
    if cuts.size < 2:
        return sparse.csr_array((m, n))
    inner = (cuts[1:] + cuts[:-1]) / 2
    columns = np.clip(np.searchsorted(source, inner) - 1, 0, n - 1)
    rows = np.clip(np.searchsorted(target, inner) - 1, 0, m - 1)
    if source is not source_edges:
        columns = n - 1 - columns
    if target is not target_edges:
        rows = m - 1 - rows
    lengths = (
        np.diff(cuts) if measure is None else measure(cuts[:-1], cuts[1:], columns)
    )
    return sparse.csr_array((lengths, (rows, columns)), shape=(m, n))


def overlaps_round(
    source_edges: Array,
    target_edges: Array,
    period: float = 360.0,
    centres: Array | None = None,
) -> sparse.csr_array:
    """Return the lengths that the cells of two axes have in common that go round, such as
    longitudes.

    Parameters
    ----------
    source_edges, target_edges : ndarray, shapes (n + 1,) and (m + 1,)
        Edges in the same units, in either direction.
    period : float
        Edges a whole number of periods apart are the same.
    centres : ndarray of float64, shape (n,), optional
        Of the source's cells; each length is then multiplied by the distance of its middle from the
        centre.

    Returns
    -------
    sparse array, shape (m, n)
        In these units, or with `centres` in their square, float64.

    Examples
    --------
    >>> overlaps_round(np.array([0.0, 180.0, 360.0]), np.array([-90.0, 90.0])).toarray().tolist()
    [[90.0, 90.0]]
    """
    from scipy import sparse

    low = min(source_edges[0], source_edges[-1]), min(target_edges[0], target_edges[-1])
    nearest = np.round((low[1] - low[0]) / period)
    total = sparse.csr_array((target_edges.size - 1, source_edges.size - 1))
    for turn in (-1, 0, 1):
        shift = (nearest + turn) * period
        measure = None if centres is None else _Moments(centres + shift)
        total = total + overlaps(source_edges + shift, target_edges, measure)
    return sparse.csr_array(total)


class _Moments:
    """Lengths times the distance of their middles from the centres of the source's cells."""

    def __init__(self, centres: Array) -> None:
        self._centres = centres

    def __call__(self, low: Array, high: Array, cells: Array) -> Array:
        return np.asarray((high - low) * ((high + low) / 2 - self._centres[cells]))


class ZoneMoments:
    """Areas of zones, per radian, times the distance of their mean latitude from that of the
    source's zones.

    Edges are in radians. The mean of latitude over a zone is the integral of phi cos(phi), which is
    phi sin(phi) + cos(phi), over that of cos(phi).
    """

    def __init__(self, edges: Array) -> None:
        self._means = _moments(edges[:-1], edges[1:]) / (
            np.sin(edges[1:]) - np.sin(edges[:-1])
        )

    def __call__(self, low: Array, high: Array, cells: Array) -> Array:
        return np.asarray(
            _moments(low, high) - self._means[cells] * (np.sin(high) - np.sin(low))
        )


def zones(low: Array, high: Array, _: Array) -> Array:
    """Return the areas of zones between latitudes in radians, per radian of longitude.

    Parameters
    ----------
    low : ndarray
        Lower ends.
    high : ndarray
        Upper ends.
    """
    return np.asarray(np.sin(high) - np.sin(low))


def _moments(low: Array, high: Array) -> Array:
    return np.asarray(
        (high * np.sin(high) + np.cos(high)) - (low * np.sin(low) + np.cos(low))
    )
