"""Quantiles of every window, compiled; the same to the bit as by NumPy."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.ordered_search import count_less

Array = NDArray[Any]


@compiled_for("void(float64[::1], float64, float64)")
def _exchange(ordered: Array, old: float, new: float) -> None:
    """Take a value out of some in ascending order and put another in its place in order."""
    place = count_less(ordered, ordered.size, old)
    while place + 1 < ordered.size and ordered[place + 1] < new:
        ordered[place] = ordered[place + 1]
        place += 1
    while place > 0 and ordered[place - 1] > new:
        ordered[place] = ordered[place - 1]
        place -= 1
    ordered[place] = new


@compiled
def find_quantiles(series: Array, places: Array, part: float, length: int) -> Array:
    """Return a quantile of each window.

    Parameters
    ----------
    series : ndarray of float64, shape (cells, n)
        None of them missing.
    places : ndarray of int64, shape (2,)
        Those of the values, in ascending order, that it lies between.
    part : float
        How far it is from the first to the second.
    length : int
        From 1 to n.

    Returns
    -------
    ndarray of float64, shape (cells, n - length + 1)

    Examples
    --------
    >>> series = np.array([[1.0, 5.0, 2.0, 4.0]])
    >>> find_quantiles(series, np.array([1, 2]), 0.0, 3).tolist()
    [[2.0, 4.0]]
    """
    cells, steps = series.shape
    out = np.empty((cells, steps - length + 1))
    for cell in range(cells):
        values = series[cell]
        ordered = np.sort(values[:length])
        for first in range(out.shape[1]):
            if first > 0:
                _exchange(ordered, values[first - 1], values[first + length - 1])
            low = ordered[places[0]]
            if part == 0.0:
                out[cell, first] = low
            else:
                out[cell, first] = (ordered[places[1]] - low) * part + low
    return out
