"""The order of the values of each of many series."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_AT_ONCE = 64
"""Series that stay in the outer caches of a core."""
_LOW_HALF = (1 << 32) - 1
_ALL_BUT_SIGN = np.int32((1 << 31) - 1)


def order_series(series: Array, stored: Array | None = None) -> tuple[Array, Array]:
    """Return the places of values in ascending order, missing ones last, and how many are there.

    Parameters
    ----------
    series : ndarray of float32 or float64, shape (cells, n)
        NaN marks missing values.
    stored : ndarray, shape (cells, n), optional
        Numbers in the order of the values, where those are sorted faster.

    Returns
    -------
    tuple of ndarray of uint32, shape (cells, n), and of int64, shape (cells,)

    Examples
    --------
    >>> order, known = order_series(np.array([[3.0, np.nan, 1.0]]))
    >>> order.tolist(), known.tolist()
    ([[2, 0, 1]], [2])
    """
    order = np.empty(series.shape, np.uint32)
    known = np.empty(len(series), np.int64)
    for first in range(0, len(series), _AT_ONCE):
        some = slice(first, first + _AT_ONCE)
        numbers = None if stored is None else stored[some]
        order[some], known[some] = _order_some(series[some], numbers)
    return order, known


def turn(values: Array) -> Array:
    """Return a matrix with rows for columns, in one piece.

    Parameters
    ----------
    values : ndarray, shape (n, m)

    Returns
    -------
    ndarray, shape (m, n)
    """
    turned = np.empty(values.shape[::-1], values.dtype)
    for first in range(0, len(turned), _AT_ONCE):
        some = slice(first, first + _AT_ONCE)
        # A copy that lies close together is turned several times as fast.
        turned[some] = values[:, some].copy().T
    return turned


def _order_some(series: Array, stored: Array | None) -> tuple[Array, Array]:
    missing = np.isnan(series)
    known = series.shape[1] - np.count_nonzero(missing, axis=1)
    keys = _whole_numbers(series, missing) if stored is None else _small(stored)
    if keys is None:
        return np.argsort(series, axis=1).astype(np.uint32), known
    # Numbers of 64 bits, the value before its place, are sorted several times as fast as places.
    pairs = keys.astype(np.int64)
    pairs[missing] = _ALL_BUT_SIGN
    pairs <<= 32
    pairs |= np.arange(series.shape[1])
    pairs.sort(axis=1)
    return (pairs & _LOW_HALF).astype(np.uint32), known


def _small(stored: Array) -> Array | None:
    """Return numbers of 16 bits at most; None if they are others."""
    return stored if stored.dtype.kind in "iu" and stored.dtype.itemsize <= 2 else None


def _whole_numbers(series: Array, missing: Array) -> Array | None:
    """Return whole numbers below the largest of 32 bits, in the order of values; None where there
    are none."""
    with np.errstate(over="ignore"):
        narrow = series.astype(np.float32, copy=False)
    # Most values were of single precision in their file.
    if narrow is not series and not ((narrow == series) | missing).all():
        return None
    # Bits of positive values are in order as they are; others once they are turned.
    bits = narrow.view(np.int32)
    return np.asarray(bits ^ ((bits >> 31) & _ALL_BUT_SIGN))
