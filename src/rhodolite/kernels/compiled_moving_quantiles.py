"""Quantiles of groups that share most of their values with the group before, compiled; the same to
the bit as by NumPy.

The values of a cell are put in order once, and the time that a group takes does not grow with its
size.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.ordered_bits import (
    SHIFT,
    find_next,
    find_value,
    place_rows,
    turn_rows,
)

Array = NDArray[Any]
_TILE = 16
"""Cells whose results lie in one or two lines of a cache."""


@compiled_for("float64(int64, float64)")
def place_of(total: int, share: float) -> float:
    """Return the place of an unbiased quantile among so many values in order, counted from 1.

    Parameters
    ----------
    total : int
    share : float
        From 0 to 1.

    Notes
    -----
    Definition 8 of Hyndman and Fan 1996 (The American Statistician 50), as Zhang and others 2005
    have it.
    """
    place = total * share + (share + 1.0) / 3.0
    return float(min(max(place, 1.0), float(total)))


@compiled
def _follow_groups(
    places: Array,
    ordered: Array,
    comes: tuple[Array, Array],
    goes: tuple[Array, Array],
    share: float,
    unbiased: bool,
    quantiles: Array,
    sizes: Array,
) -> None:
    """Put the quantile of each group of one cell, and how many values it has, into the last two."""
    words = np.zeros((places.size >> SHIFT) + 1, np.uint64)
    counts, cursor = np.zeros(words.size, np.int64), np.zeros(2, np.int64)
    size, first = 0, 1 if unbiased else 0
    for group in range(quantiles.size):
        gone = goes[1][goes[0][group] : goes[0][group + 1]]
        come = comes[1][comes[0][group] : comes[0][group + 1]]
        size += turn_rows(words, counts, cursor, places, gone, -1)
        size += turn_rows(words, counts, cursor, places, come, 1)
        sizes[group], quantiles[group] = size, math.nan
        if size == 0:
            continue
        exact = place_of(size, share) if unbiased else (size - 1) * share
        below = math.floor(exact)
        part = exact - below
        at = find_value(words, counts, cursor, below - first)
        quantile = np.float64(ordered[at])
        if part != 0.0:
            high = np.float64(ordered[find_next(words, at)])
            quantile += (high - quantile) * part
        quantiles[group] = quantile


@compiled
def find_quantiles(
    values: Array,
    order: Array,
    known: Array,
    comes: tuple[Array, Array],
    goes: tuple[Array, Array],
    share: float,
    unbiased: bool,
    out: Array,
    sizes: Array,
) -> None:
    """Put a quantile of each group, and of how many values it is, into `out` and `sizes`.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (cells, n)
    order : ndarray of uint32, shape (cells, n)
        The rows in ascending order of their values, missing ones last.
    known : ndarray of int64, shape (cells,)
        How many of the values are not missing.
    comes, goes : (ndarray of int64, shape (groups + 1,), ndarray of int64)
        Where the rows begin that come to each group, beside those of the group before, and these
        rows; and those that are taken away from it first.
    share : float
        From 0 to 1.
    unbiased : bool
        Whether it is that of `daily_percentiles.median_unbiased`, or of
        `order_statistics.percentile`.
    out : ndarray of float64, shape (groups, cells)
        NaN where no value is known.
    sizes : ndarray of int64, shape (groups, cells)

    Examples
    --------
    >>> values, order = np.array([[5.0, 1.0, 2.0]]), np.array([[1, 2, 0]], np.uint32)
    >>> comes = np.array([0, 2, 3]), np.array([0, 1, 2])
    >>> goes = np.array([0, 0, 1]), np.array([0])
    >>> out, sizes = np.empty((2, 1)), np.empty((2, 1), np.int64)
    >>> find_quantiles(values, order, np.array([3]), comes, goes, 0.5, False, out, sizes)
    >>> out.tolist(), sizes.tolist()
    ([[3.0], [1.5]], [[2], [2]])
    """
    cells, rows = values.shape
    places, ordered = np.empty(rows, np.int32), np.empty(rows, values.dtype)
    tile = np.empty((_TILE, out.shape[0]))
    tile_sizes = np.empty((_TILE, out.shape[0]), np.int64)
    for left in range(0, cells, _TILE):
        width = min(_TILE, cells - left)
        for cell in range(width):
            series, ranked = values[left + cell], order[left + cell]
            place_rows(ranked, known[left + cell], places)
            for at in range(rows):
                ordered[at] = series[ranked[at]]
            results = tile[cell], tile_sizes[cell]
            _follow_groups(places, ordered, comes, goes, share, unbiased, *results)
        for group in range(out.shape[0]):
            for cell in range(width):
                out[group, left + cell] = tile[cell, group]
                sizes[group, left + cell] = tile_sizes[cell, group]
