"""Weighted sums, means and variances of every window, compiled."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled

Array = NDArray[Any]


@compiled
def add_windows(
    values: Array, weights: Array, means: bool, length: int, out: Array
) -> None:
    """Put the sum or the mean of each window into `out`.

    The values of a window are met while they are in the first cache of a core.

    Parameters
    ----------
    values : ndarray of float64, shape (n, cells)
        None of them missing.
    weights : ndarray of float64, shape (n,)
    means : bool
        Whether means are wanted, and not sums.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    cells = values.shape[1]
    total, origin = np.empty(cells), np.zeros(cells)
    for first in range(out.shape[0]):
        total[:] = 0.0
        if means:
            origin[:] = values[first]
        weight = 0.0
        for step in range(first, first + length):
            factor = weights[step]
            weight += factor
            for cell in range(cells):
                total[cell] += factor * (values[step, cell] - origin[cell])
        for cell in range(cells):
            if means:
                out[first, cell] = origin[cell] + total[cell] / weight
            else:
                out[first, cell] = total[cell]


@compiled
def find_variances(
    values: Array, weights: Array, length: int, rounding: float, out: Array
) -> None:
    """Put the variance of each window into `out`, as `grouped_statistics.Spread` has it.

    Parameters
    ----------
    values : ndarray of float64, shape (n, cells)
        None of them missing.
    weights : ndarray of float64, shape (n,)
    length : int
        From 2 to n.
    rounding : float
        Part of a mean up to which deviations are those of equal values.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    cells = values.shape[1]
    shift, squares = np.empty(cells), np.empty(cells)
    for first in range(out.shape[0]):
        origin = values[first]
        shift[:] = 0.0
        squares[:] = 0.0
        weight = 0.0
        for step in range(first, first + length):
            factor, row = weights[step], values[step]
            weight += factor
            for cell in range(cells):
                shift[cell] += factor * (row[cell] - origin[cell])
        for cell in range(cells):
            shift[cell] /= weight
        for step in range(first, first + length):
            factor, row = weights[step], values[step]
            for cell in range(cells):
                deviation = row[cell] - origin[cell] - shift[cell]
                squares[cell] += factor * (deviation * deviation)
        freedom = weight * ((length - 1) / length)
        for cell in range(cells):
            least = rounding * abs(origin[cell] + shift[cell])
            vanishes = squares[cell] <= weight * (least * least)
            out[first, cell] = 0.0 if vanishes else squares[cell] / freedom
