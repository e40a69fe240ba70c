"""Quantiles of every window, compiled; the same to the bit as by NumPy."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for

Array = NDArray[Any]
_TILE = 16
"""Cells that lie in one line of a cache."""


@compiled_for("void(float64[::1], float64[::1], float64, float64)")
def _exchange(ordered: Array, remaining: Array, old: float, new: float) -> None:
    """Take a value out of some in ascending order, which lie between two infinite ones, and put
    another in its place in order.

    No place waits for another, so that a processor takes several at once.
    """
    last = ordered.size - 1
    for place in range(last):
        here, beyond = ordered[place], ordered[place + 1]
        remaining[place] = here if here < old else beyond
    for place in range(1, last):
        before, here = remaining[place - 1], remaining[place]
        lower = here if here < new else new
        ordered[place] = before if before > lower else lower


@compiled
def find_quantiles(
    values: Array, places: Array, part: float, length: int, out: Array
) -> None:
    """Put a quantile of each window into `out`.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        None of them missing.
    places : ndarray of int64, shape (2,)
        Those of the values, in ascending order, that it lies between.
    part : float
        How far it is from the first to the second.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells)

    Examples
    --------
    >>> values, out = np.array([[1.0], [5.0], [2.0], [4.0]]), np.empty((2, 1))
    >>> find_quantiles(values, np.array([1, 2]), 0.0, 3, out)
    >>> out.tolist()
    [[2.0], [4.0]]
    """
    steps, cells = values.shape
    tile = np.empty((_TILE, steps))
    ordered, remaining = np.empty(length + 2), np.empty(length + 1)
    ordered[0], ordered[-1] = -np.inf, np.inf
    low, high = places[0] + 1, places[1] + 1
    for left in range(0, cells, _TILE):
        width = min(_TILE, cells - left)
        for step in range(steps):
            for cell in range(width):
                tile[cell, step] = values[step, left + cell]
        for cell in range(width):
            series = tile[cell]
            ordered[1:-1], leaving = np.sort(series[:length]), 0.0
            for first in range(out.shape[0]):
                if first > 0:
                    entering = series[first + length - 1]
                    _exchange(ordered, remaining, leaving, entering)
                quantile = ordered[low]
                if part != 0.0:
                    quantile += (ordered[high] - quantile) * part
                leaving, series[first] = series[first], quantile
        for first in range(out.shape[0]):
            for cell in range(width):
                out[first, left + cell] = tile[cell, first]
