"""Medians of pairwise slopes of many long series; compiled, apart from what short ones need."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.bracketed_slopes import PAIRS, choose_pairs, solve_long_series
from rhodolite.kernels.compiling import compiled
from rhodolite.kernels.pairwise_slopes import all_slopes, limits_of, median_and_limits

Array = NDArray[Any]


@compiled
def sen_of_long_rows(
    x: Array, rows: Array, wanted: Array, reach: Array, out: Array
) -> None:
    """Put statistic, median slope and its lower and upper limit of long series into `out`.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
        Times, ascending.
    rows : ndarray of float64, shape (cells, n)
        NaN marks missing values.
    wanted : ndarray of int, shape (wanted,)
        Which cells are worked on.
    reach : ndarray of float64, shape (cells,)
        By how many places the limits lie apart.
    out : ndarray of float64, shape (4, cells)
    """
    n = x.size
    room = np.empty(n * (n - 1) // 8 + 64)
    xs, ys = np.empty(n), np.empty(n)
    pairs, pairs_of = np.empty((2, PAIRS), np.int64), 0
    for cell in wanted:
        count_of_values = 0
        for step in range(n):
            value = rows[cell, step]
            if not math.isnan(value):
                xs[count_of_values], ys[count_of_values] = x[step], value
                count_of_values += 1
        count = count_of_values * (count_of_values - 1) // 2
        low, high = limits_of(count, reach[cell])
        places = (low, (count - 1) // 2, count // 2, high)
        if count_of_values != pairs_of:
            choose_pairs(count_of_values, pairs)
            pairs_of = count_of_values
        if solve_long_series(
            xs[:count_of_values],
            ys[:count_of_values],
            places,
            pairs,
            room,
            out[:, cell],
        ):
            continue
        slopes = np.empty(count)
        ends = np.empty(2, np.int64)
        ends[0], ends[1] = 0, count_of_values
        out[0, cell] = all_slopes(xs, ys, ends, slopes)
        median_and_limits(slopes, places, out[:, cell])
