"""Quantiles of groups that share most of their values with the group before: windows, or the days
around each calendar day."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_CELLS_AT_ONCE = 64
"""Whose series, and their order, stay in the outer caches of a core."""
_LOW_HALF = (1 << 32) - 1
_ALL_BUT_SIGN = np.int32((1 << 31) - 1)


class Changes(NamedTuple):
    """Which rows come to each group and which go, in comparison with the group before.

    Attributes
    ----------
    comes, goes : (ndarray of int64, shape (groups + 1,), ndarray of int64)
        Where the rows of each group begin, and the rows.
    """

    comes: tuple[Array, Array]
    goes: tuple[Array, Array]

    @property
    def groups(self) -> int:
        return self.comes[0].size - 1


def changes_of_windows(begins: Array, ends: Array) -> Changes:
    """Return the changes from each window to the next.

    Parameters
    ----------
    begins, ends : ndarray of int, shape (windows,)
        Rows where each window begins, and where it has ended; neither ever goes back.

    Examples
    --------
    >>> changes = changes_of_windows(np.array([0, 1, 4]), np.array([3, 4, 5]))
    >>> changes.comes[1].tolist(), changes.goes[1].tolist()
    ([0, 1, 2, 3, 4], [0, 1, 2, 3])
    """
    last_begins, last_ends = np.roll(begins, 1), np.roll(ends, 1)
    last_begins[:1] = last_ends[:1] = 0
    return Changes(
        _pack_runs(np.maximum(last_ends, begins), ends),
        _pack_runs(last_begins, np.minimum(last_ends, begins)),
    )


def _pack_runs(begins: Array, ends: Array) -> tuple[Array, Array]:
    lengths = np.maximum(ends - begins, 0)
    starts = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    rows = np.arange(starts[-1]) + np.repeat(begins - starts[:-1], lengths)
    return starts, rows.astype(np.int64)


def changes_of_groups(members: list[Array]) -> Changes:
    """Return the changes from each group to the next.

    Parameters
    ----------
    members : list of ndarray of int
        The rows of each group, none of them twice.

    Examples
    --------
    >>> changes = changes_of_groups([np.array([0, 1]), np.array([1, 2])])
    >>> changes.comes[1].tolist(), changes.goes[1].tolist()
    ([0, 1, 2], [0])
    """
    before = [np.array([], np.int64), *members[:-1]]
    pairs = list(zip(before, members, strict=True))
    comes = [np.setdiff1d(new, old, assume_unique=True) for old, new in pairs]
    goes = [np.setdiff1d(old, new, assume_unique=True) for old, new in pairs]
    return Changes(_pack(comes), _pack(goes))


def _pack(lists: list[Array]) -> tuple[Array, Array]:
    starts = np.cumsum([0, *map(len, lists)], dtype=np.int64)
    return starts, np.concatenate(lists).astype(np.int64)


def find_moving_quantiles(
    values: Array, changes: Changes, share: float, numbers: Array | None = None
) -> tuple[Array, Array]:
    """Return a quantile of each group, and how many values it is of; compiled.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        NaN marks missing values.
    changes : Changes
    share : float
        From 0 to 1.
    numbers : ndarray, shape (n, cells), optional
        What is stored for the values, in the same order, where that is sorted faster.

    Returns
    -------
    tuple of ndarray of float64 and of int64, shape (groups, cells)
        Quantiles, NaN where no value is known; numbers of values.

    Notes
    -----
    Between values as in `order_statistics.percentile`, to the same bits.

    Examples
    --------
    >>> values, windows = np.array([[1.0], [2.0], [6.0]]), (np.array([0, 1]), np.array([2, 3]))
    >>> find_moving_quantiles(values, changes_of_windows(*windows), 0.5)[0].tolist()
    [[1.5], [4.0]]
    """
    from rhodolite.kernels.compiled_moving_quantiles import find_quantiles

    shape = (changes.groups, values.shape[1])
    out, sizes = np.empty(shape), np.empty(shape, np.int64)
    for first in range(0, values.shape[1], _CELLS_AT_ONCE):
        cells = slice(first, first + _CELLS_AT_ONCE)
        series = _turned(values[:, cells])
        missing = np.isnan(series)
        known = len(values) - np.count_nonzero(missing, axis=1)
        stored = series if numbers is None else _turned(numbers[:, cells])
        order = _order_of(series, stored, missing)
        places = out[:, cells], sizes[:, cells]
        find_quantiles(series, order, known, *changes, share, *places)
    return out, sizes


def _turned(values: Array) -> Array:
    # A copy that lies close together is turned several times as fast.
    return np.ascontiguousarray(values.copy().T)


def _order_of(series: Array, stored: Array, missing: Array) -> Array:
    """Return the places of values in ascending order along each row, missing ones last."""
    keys = _whole_numbers(stored)
    if keys is None:
        return np.argsort(series, axis=1).astype(np.uint32)
    # Numbers of 64 bits, the value before its place, are sorted several times as fast.
    pairs = keys.astype(np.int64)
    pairs[missing] = _ALL_BUT_SIGN
    pairs <<= 32
    pairs |= np.arange(series.shape[1])
    pairs.sort(axis=1)
    return (pairs & _LOW_HALF).astype(np.uint32)


def _whole_numbers(stored: Array) -> Array | None:
    """Return whole numbers of less than 32 bits, or of all but the largest, in the order of others;
    None where there are none."""
    if stored.dtype == np.float32:
        # Bits of positive values are in order as they are; others once they are turned.
        bits = stored.view(np.int32)
        return np.asarray(bits ^ ((bits >> 31) & _ALL_BUT_SIGN))
    small = stored.dtype.kind in "iu" and stored.dtype.itemsize <= 2
    return stored if small else None
