"""Weighted sums, means and variances of every window, compiled.

Windows that follow each other are added up together, value after value: their rows are long, and
stay in the first cache of a core. Each is still the sum of its own values in their order.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for

Array = NDArray[Any]
_TILE = 64
"""Cells whose series stay in the caches of a core."""
_ROWS = 16
"""Windows that are added up together."""


@compiled_for("void(float64[::1], float64[::1], float64[::1], float64[::1], int64)")
def _add_up(
    series: Array, factors: Array, origin: Array, total: Array, length: int
) -> None:
    """Put the sums of differences from an origin, over `length` rows from each on, into `total`."""
    size, weighted = total.size, factors.size > 0
    for place in range(size):
        total[place] = 0.0
    for begin in range(0, length * _TILE, _TILE):
        row = series[begin : begin + size]
        if weighted:
            factor = factors[begin : begin + size]
            for place in range(size):
                total[place] += factor[place] * (row[place] - origin[place])
        else:
            for place in range(size):
                total[place] += row[place] - origin[place]


@compiled_for(
    "void(float64[::1], float64[::1], float64[::1], float64[::1], float64[::1], int64)"
)
def _add_squares(
    series: Array,
    factors: Array,
    origin: Array,
    shift: Array,
    total: Array,
    length: int,
) -> None:
    """Put the weighted sums of squares of deviations from `origin + shift` into `total`."""
    total[:] = 0.0
    size = total.size
    for begin in range(0, length * _TILE, _TILE):
        row, factor = series[begin : begin + size], factors[begin : begin + size]
        for place in range(size):
            deviation = row[place] - origin[place] - shift[place]
            total[place] += factor[place] * (deviation * deviation)


@compiled_for("float64[::1](float64[::1], int64, int64)")
def _add_weights(weights: Array, length: int, count: int) -> Array:
    """Return the weight of each of `count` windows, one for each value where there are none."""
    total = np.zeros(count)
    for first in range(count):
        if weights.size == 0:
            total[first] = length
        for step in range(first, min(first + length, weights.size)):
            total[first] += weights[step]
    return total


@compiled
def _take_tile(values: Array, left: int, series: Array) -> int:
    """Copy the series of up to a tile of cells, and return how many they are."""
    steps, cells = values.shape
    width: int = min(_TILE, cells - left)
    for step in range(steps):
        for cell in range(width):
            series[step * _TILE + cell] = values[step, left + cell]
    return width


@compiled
def add_windows(
    values: Array, weights: Array, means: bool, length: int, out: Array
) -> None:
    """Put the sum or the mean of each window into `out`.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        A window with a missing value has none.
    weights : ndarray of float64, shape (n,) or (0,)
        None of them where all weigh the same.
    means : bool
        Whether means are wanted, and not sums.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    series, factors = np.zeros(values.shape[0] * _TILE), np.repeat(weights, _TILE)
    weight = _add_weights(weights, length, out.shape[0])
    nothing, total = np.zeros(_ROWS * _TILE), np.empty(_ROWS * _TILE)
    for left in range(0, values.shape[1], _TILE):
        width = _take_tile(values, left, series)
        for first in range(0, out.shape[0], _ROWS):
            rows = min(_ROWS, out.shape[0] - first)
            begin, size = first * _TILE, rows * _TILE
            origin = series[begin : begin + size] if means else nothing[:size]
            _add_up(series[begin:], factors[begin:], origin, total[:size], length)
            for row in range(rows):
                divisor = weight[first + row] if means else 1.0
                for cell in range(width):
                    place = row * _TILE + cell
                    result = origin[place] + total[place] / divisor
                    out[first + row, left + cell] = result


@compiled
def find_variances(
    values: Array, weights: Array, length: int, rounding: float, out: Array
) -> None:
    """Put the variance of each window into `out`, as `grouped_statistics.Spread` has it.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        A window with a missing value has none.
    weights : ndarray of float64, shape (n,)
    length : int
        From 2 to n.
    rounding : float
        Part of a mean up to which deviations are those of equal values.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    series, factors = np.zeros(values.shape[0] * _TILE), np.repeat(weights, _TILE)
    weight = _add_weights(weights, length, out.shape[0])
    shift, squares = np.empty(_ROWS * _TILE), np.empty(_ROWS * _TILE)
    for left in range(0, values.shape[1], _TILE):
        width = _take_tile(values, left, series)
        for first in range(0, out.shape[0], _ROWS):
            rows = min(_ROWS, out.shape[0] - first)
            begin, size = first * _TILE, rows * _TILE
            ahead, factor = series[begin:], factors[begin:]
            _add_up(ahead, factor, ahead[:size], shift[:size], length)
            for place in range(size):
                shift[place] /= weight[first + place // _TILE]
            _add_squares(
                ahead, factor, ahead[:size], shift[:size], squares[:size], length
            )
            for row in range(rows):
                freedom = weight[first + row] * ((length - 1) / length)
                for cell in range(width):
                    place = row * _TILE + cell
                    least = rounding * abs(ahead[place] + shift[place])
                    vanishes = squares[place] <= weight[first + row] * (least * least)
                    variance = 0.0 if vanishes else squares[place] / freedom
                    out[first + row, left + cell] = variance
