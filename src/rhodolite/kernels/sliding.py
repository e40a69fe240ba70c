"""Statistics of every window of so many values in a row, none of which is missing."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.available import can_compile
from rhodolite.kernels.moments import ROUNDING
from rhodolite.kernels.order_statistics import find_places

Array = NDArray[Any]
SUMS = ("mean", "sum")
KINDS = (*SUMS, "min", "max", "range")
SPREADS = ("std", "variance")
"""Those that are found at once where they can be compiled."""
_CELLS_AT_ONCE = 64
"""Whose series stay in the caches of a core."""
_WORTH_COMPILING = 1 << 22
"""Additions that take longer than to load what is compiled."""


def slide(
    values: Array,
    weights: Array | None,
    kind: str,
    length: int,
    out: Array | None = None,
) -> Array:
    """Return a statistic of each window, by the place where it begins.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, *cells)
        None of them missing.
    weights : ndarray of float64, shape (n,), optional
        Of means and sums.
    kind : {"mean", "sum", "min", "max", "range", "std", "variance"}
        The last two need a compiler.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, *cells), optional
        Where to put them, in one piece.

    Returns
    -------
    ndarray of float64, shape (n - length + 1, *cells)

    Notes
    -----
    Every window is the sum of its own values and of no others, in two parts that are shared with
    its neighbours (see `compiled_sliding`), and means are those of differences to one of them, so
    that no digit is lost along the way and equal values have exactly their mean.

    Examples
    --------
    >>> slide(np.array([1.0, 2.0, 6.0]), None, "mean", 2).tolist()
    [1.5, 4.0]
    """
    if out is None:
        out = np.empty((len(values) - length + 1, *values.shape[1:]))
    flat, flat_out = values.reshape(len(values), -1), out.reshape(len(out), -1)
    if kind in SPREADS or (kind in SUMS and _is_worth_compiling(flat_out, length)):
        _slide_compiled(flat, weights, kind, length, flat_out)
        return out
    for first in range(0, flat.shape[1], _CELLS_AT_ONCE):
        cells = slice(first, first + _CELLS_AT_ONCE)
        part = np.ascontiguousarray(flat[:, cells], dtype=np.float64)
        flat_out[:, cells] = _of_part(part, weights, kind, length)
    return out


def _is_worth_compiling(out: Array, length: int) -> bool:
    return out.size * length >= _WORTH_COMPILING and can_compile()


def slide_quantile(
    values: Array, share: float, length: int, out: Array | None = None
) -> Array:
    """Return a quantile of each window, compiled; by the place where it begins.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        None of them missing.
    share : float
        From 0 to 1.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells), optional
        Where to put them, in one piece.

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
    if out is None:
        out = np.empty((len(values) - length + 1, values.shape[1]))
    find_quantiles(np.ascontiguousarray(values), places, float(part), length, out)
    return out


def _of_part(values: Array, weights: Array | None, kind: str, length: int) -> Array:
    if kind == "min":
        return fold_windows(values, np.minimum, length)
    if kind == "max":
        return fold_windows(values, np.maximum, length)
    if kind == "range":
        highest = fold_windows(values, np.maximum, length)
        return np.asarray(highest - fold_windows(values, np.minimum, length))
    return _sums_of_part(values, weights, kind == "mean", length)


def _sums_of_part(
    values: Array, weights: Array | None, means: bool, length: int
) -> Array:
    """Return sums or means by the same additions as `compiled_sliding.add_windows`."""
    count, cells = len(values) - length + 1, values.shape[1]
    # Blocks as long as a window, the last filled up, and one more for windows to end in.
    rows = (len(values) // length + 2) * length
    padding = ((0, rows - len(values)), (0, 0))
    series = np.pad(values, padding).reshape(-1, length, cells)
    given = np.ones(len(values)) if weights is None else weights
    factors = np.pad(given[:, None], padding).reshape(-1, length, 1)
    blocks, following = series[:-1], series[1:]
    nothing = np.zeros((len(blocks), 1, cells))
    origin = blocks[:, -1:] if means else nothing
    shift = following[:, :1] - origin if means else nothing
    ends = _add_backwards(factors[:-1] * (blocks - origin))
    starts = np.cumsum(factors[1:] * (following - origin - shift), axis=1)
    weight_ahead = np.cumsum(factors[1:], axis=1)
    weight = _add_backwards(factors[:-1])
    ends[:, 1:] += starts[:, :-1]
    ends[:, 1:] += weight_ahead[:, :-1] * shift
    weight[:, 1:] += weight_ahead[:, :-1]
    with np.errstate(invalid="ignore", divide="ignore"):  # beyond the last window
        results = origin + ends / weight if means else ends
    return results.reshape(-1, cells)[:count]


def _add_backwards(parts: Array) -> Array:
    """Return sums from each row of a block to its last."""
    return np.cumsum(parts[:, ::-1], axis=1)[:, ::-1]


def _slide_compiled(
    values: Array, weights: Array | None, kind: str, length: int, out: Array
) -> None:
    from rhodolite.kernels.compiled_sliding import add_windows, find_variances

    series = np.ascontiguousarray(values)
    factors = np.ones(len(series)) if weights is None else weights
    if kind in SUMS:
        add_windows(series, factors, kind == "mean", length, out)
    elif length == 1:
        out[:] = np.nan  # One value has no spread.
    else:
        find_variances(series, factors, length, ROUNDING, out)
        if kind == "std":
            np.sqrt(out, out=out)


def fold_windows(values: Array, work: np.ufunc, length: int) -> Array:
    """Return the values of each window taken together, by work for which a value may count twice:
    those of windows of two, of four and of more values, from windows of half as many.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
    work : ufunc
        Such as the smaller of two, or whether both are true.
    length : int
        From 1 to n.

    Returns
    -------
    ndarray, shape (n - length + 1, *cells)

    Examples
    --------
    >>> fold_windows(np.array([5, 3, 4, 9]), np.minimum, 3).tolist()
    [3, 3]
    """
    width = 1
    while 2 * width <= length:
        values = work(values[:-width], values[width:])
        width *= 2
    rest = length - width
    return np.asarray(work(values[: len(values) - rest], values[rest:]))
