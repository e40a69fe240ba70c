"""Medians of the slopes between all pairs of values of a series, and limits of them; compiled.

Importing this module takes a second, and the first use on a machine compiles it, which takes
some more; so it is imported where it is used.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.counting_sort import sort_counting, tied_pairs
from rhodolite.kernels.selection import select

Array = NDArray[Any]
_FEW = 1 << 13
"""Of series with more pairs than this only those are computed that matter."""


@compiled_for("UniTuple(int64, 2)(int64, float64)")
def limits_of(count: int, reach: float) -> tuple[int, int]:
    """Return the places of the confidence limits among `count` slopes in order."""
    low = max(round((count - reach) / 2) - 1, 0)
    high = min(round((count + reach) / 2), count - 1)
    return low, max(high, 0)


@compiled_for("float64(float64[::1], float64[::1], int64[::1], float64[::1])")
def all_slopes(xs: Array, ys: Array, ends: Array, slopes: Array) -> float:
    """Compute the slope of every pair, and return rising less falling pairs."""
    score = 0
    at = 0
    for season in range(ends.size - 1):
        for i in range(ends[season], ends[season + 1]):
            for j in range(i + 1, ends[season + 1]):
                change = ys[j] - ys[i]
                score += (change > 0) - (change < 0)
                slopes[at] = change / (xs[j] - xs[i])
                at += 1
    return float(score)


@compiled_for("void(float64[::1], UniTuple(int64, 4), float64[:])")
def median_and_limits(
    slopes: Array, places: tuple[int, int, int, int], out: Array
) -> None:
    """Put median and limits into `out`."""
    low, lower, upper, high = places
    bottom = select(slopes, low, 0)
    first = select(slopes, lower, low)
    second = first if upper == lower else select(slopes, upper, lower)
    out[1] = (first + second) / 2
    out[2] = bottom
    out[3] = select(slopes, high, upper)


@compiled
def sen_of_rows(
    x: Array,
    rows: Array,
    firsts: Array,
    members: Array,
    reach: Array,
    out: Array,
    left: Array,
) -> None:
    """Put statistic, median slope and its lower and upper limit of each series into `out`.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
        Times, ascending.
    rows : ndarray of float64, shape (cells, n)
        NaN marks missing values.
    firsts : ndarray of int, shape (seasons + 1,)
        Where the steps of each season begin among `members`.
    members : ndarray of int, shape (n,)
        Steps of each season in turn, ascending within it; only pairs of the same season count.
    reach : ndarray of float64, shape (cells,)
        By how many places the limits lie apart.
    out : ndarray of float64, shape (4, cells)
        NaN where there are no two values.
    left : ndarray of bool, shape (cells,)
        Becomes true where a series has so many pairs that `sen_of_long_rows` is faster.

    Notes
    -----
    The places of the limits among the slopes in order are those of Sen 1968, Journal of the
    American Statistical Association 63, 1379-1389, rounded half to even.
    """
    n = x.size
    few = np.empty(_FEW)
    xs, ys = np.empty(n), np.empty(n)
    for cell in range(rows.shape[0]):
        # The values that are there, season by season.
        ends = np.empty(firsts.size, np.int64)
        ends[0] = 0
        present = 0
        count = 0
        for season in range(firsts.size - 1):
            for at in range(firsts[season], firsts[season + 1]):
                step = members[at]
                value = rows[cell, step]
                if not math.isnan(value):
                    xs[present], ys[present] = x[step], value
                    present += 1
            ends[season + 1] = present
            size = present - ends[season]
            count += size * (size - 1) // 2
        if count == 0:
            for row in range(out.shape[0]):
                out[row, cell] = np.nan
            continue
        if count > _FEW and firsts.size == 2:
            left[cell] = True
            continue
        slopes = few[:count] if count <= _FEW else np.empty(count)
        low, high = limits_of(count, reach[cell])
        out[0, cell] = all_slopes(xs, ys, ends, slopes)
        median_and_limits(
            slopes, (low, (count - 1) // 2, count // 2, high), out[:, cell]
        )


@compiled
def kendall_of_rows(rows: Array, out: Array) -> None:
    """Put rising less falling pairs of each series into `out`.

    Parameters
    ----------
    rows : ndarray of float64, shape (cells, n)
        NaN marks missing values.
    out : ndarray of float64, shape (cells,)
    """
    series, order = np.empty(rows.shape[1]), np.empty(rows.shape[1], np.int64)
    for cell in range(rows.shape[0]):
        present = 0
        for value in rows[cell]:
            if not math.isnan(value):
                series[present], order[present] = value, present
                present += 1
        there = series[:present]
        falling = sort_counting(there, order[:present])
        pairs = present * (present - 1) // 2
        out[cell] = pairs - tied_pairs(there) - 2 * falling
