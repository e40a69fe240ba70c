"""Statistics of every window of so many values in a row, none of which is missing."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.available import can_compile
from rhodolite.kernels.moments import ROUNDING
from rhodolite.kernels.order_statistics import find_places

Array = NDArray[Any]
KINDS = ("mean", "sum", "min", "max", "range")
SPREADS = ("std", "variance")
"""Those that are found at once where they can be compiled."""
_CELLS_AT_ONCE = 64
"""Whose series stay in the caches of a core."""
_WORTH_COMPILING = 1 << 22
"""Additions that take longer than to load what is compiled."""


def slide(values: Array, weights: Array | None, kind: str, length: int) -> Array:
    """Return a statistic of each window, by the place where it begins.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        None of them missing.
    weights : ndarray of float64, shape (n,), optional
        Of means and sums.
    kind : {"mean", "sum", "min", "max", "range", "std", "variance"}
        The last two need a compiler.
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


def slide_quantile(values: Array, share: float, length: int) -> Array:
    """Return a quantile of each window, compiled; by the place where it begins.

    Parameters
    ----------
    values : ndarray of float64, shape (n, cells)
        None of them missing.
    share : float
        From 0 to 1.
    length : int
        From 1 to n.

    Returns
    -------
    ndarray of float64, shape (n - length + 1, cells)

    Notes
    -----
    The values of a window stay in order from one to the next, of which one goes and another comes;
    between them as in `order_statistics.percentile`.

    Examples
    --------
    >>> slide_quantile(np.array([[1.0], [2.0], [6.0]]), 0.5, 2).tolist()
    [[1.5], [4.0]]
    """
    from rhodolite.kernels.compiled_window_quantiles import find_quantiles

    below, above, part = find_places(length, share)
    places = np.array([below, above], dtype=np.int64)
    series = np.ascontiguousarray(values.T)
    return np.ascontiguousarray(find_quantiles(series, places, float(part), length).T)


def _of_part(values: Array, weights: Array | None, kind: str, length: int) -> Array:
    if kind == "min":
        return _outermost(values, np.minimum, length)
    if kind == "max":
        return _outermost(values, np.maximum, length)
    if kind == "range":
        highest = _outermost(values, np.maximum, length)
        return np.asarray(highest - _outermost(values, np.minimum, length))
    count = len(values) - length + 1
    if weights is None:
        weights = np.ones(len(values))
    if kind in SPREADS:
        return _spread(values, weights, kind, length)
    if count * length * values.shape[1] >= _WORTH_COMPILING and can_compile():
        from rhodolite.kernels.compiled_sliding import add_windows

        result = np.empty((count, values.shape[1]))
        add_windows(values, weights, kind == "mean", length, result)
        return result
    rows = [slice(shift, shift + count) for shift in range(length)]
    origin = values[rows[0]] if kind == "mean" else np.zeros((1, values.shape[1]))
    total, weight = np.zeros((count, values.shape[1])), np.zeros((count, 1))
    for row in rows:
        total += weights[row, None] * (values[row] - origin)
        weight += weights[row, None]
    return origin + total / weight if kind == "mean" else total


def _spread(values: Array, weights: Array, kind: str, length: int) -> Array:
    result = np.full((len(values) - length + 1, values.shape[1]), np.nan)
    # One value has no spread.
    if length > 1:
        from rhodolite.kernels.compiled_sliding import find_variances

        find_variances(values, weights, length, ROUNDING, result)
    return np.sqrt(result) if kind == "std" else result


def _outermost(values: Array, work: np.ufunc, length: int) -> Array:
    """Return the least or the largest value of each window, from those of windows of one, two, four
    and more values."""
    width = 1
    while 2 * width <= length:
        values = work(values[:-width], values[width:])
        width *= 2
    rest = length - width
    return np.asarray(work(values[: len(values) - rest], values[rest:]))
