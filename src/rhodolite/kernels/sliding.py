"""Statistics of every window of so many values in a row, none of which is missing."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
KINDS = ("mean", "sum", "min", "max")
_CELLS_AT_ONCE = 64
"""Whose series stay in the caches of a core."""


def slide(values: Array, weights: Array | None, kind: str, length: int) -> Array:
    """Return a statistic of each window, by the place where it begins.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        None of them missing.
    weights : ndarray of float64, shape (n,), optional
        Of means and sums.
    kind : {"mean", "sum", "min", "max"}
    length : int
        From 1 to n.

    Returns
    -------
    ndarray of float64, shape (n - length + 1, *cells)

    Notes
    -----
    Every window is added up by itself, from its first value on, and means are those of differences
    to this, so that no digit is lost along the way and equal values have exactly their mean.

    Examples
    --------
    >>> slide(np.array([1.0, 2.0, 6.0]), None, "mean", 2).tolist()
    [1.5, 4.0]
    """
    count = len(values) - length + 1
    flat = values.reshape(len(values), -1)
    result = np.empty((count, flat.shape[1]))
    for first in range(0, flat.shape[1], _CELLS_AT_ONCE):
        cells = slice(first, first + _CELLS_AT_ONCE)
        part = np.ascontiguousarray(flat[:, cells])
        result[:, cells] = _of_part(part, weights, kind, length)
    return result.reshape(count, *values.shape[1:])


def _of_part(values: Array, weights: Array | None, kind: str, length: int) -> Array:
    count = len(values) - length + 1
    rows = [slice(shift, shift + count) for shift in range(length)]
    if kind in ("min", "max"):
        work = np.minimum if kind == "min" else np.maximum
        outermost = values[rows[0]].copy()
        for row in rows[1:]:
            work(outermost, values[row], out=outermost)
        return outermost
    origin = values[rows[0]] if kind == "mean" else np.zeros((1, values.shape[1]))
    total, weight = np.zeros((count, values.shape[1])), np.zeros((count, 1))
    for row in rows:
        factor = np.ones((count, 1)) if weights is None else weights[row, None]
        total += factor * (values[row] - origin)
        weight += factor
    return origin + total / weight if kind == "mean" else total
