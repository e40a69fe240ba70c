"""Quantiles of groups that share most of their values with the group before: windows, or the days
around each calendar day."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.series_order import order_series, turn

Array = NDArray[Any]
_CELLS_AT_ONCE = 64
"""Whose series, and their order, stay in the outer caches of a core."""


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
        """How many groups there are."""
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
    group = np.repeat(np.arange(len(members)), [len(rows) for rows in members])
    rows = np.concatenate(members).astype(np.int64)
    # A number for each row in each group, which is one more in the next group.
    entry = rows * len(members) + group
    comes = (group == 0) | ~np.isin(entry - 1, entry)
    goes = (group < len(members) - 1) & ~np.isin(entry + 1, entry)
    return Changes(
        _pack(rows[comes], group[comes], len(members)),
        _pack(rows[goes], group[goes] + 1, len(members)),
    )


def _pack(rows: Array, group: Array, groups: int) -> tuple[Array, Array]:
    """Return where the rows of each group begin, and the rows; they are in order of groups."""
    return np.searchsorted(group, np.arange(groups + 1)).astype(np.int64), rows


def find_moving_quantiles(
    values: Array,
    changes: Changes,
    share: float,
    numbers: Array | None = None,
    *,
    unbiased: bool = False,
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
    unbiased : bool
        Whether it is that of `daily_percentiles.median_unbiased`, and not that of
        `order_statistics.percentile`; to the same bits as by these.

    Returns
    -------
    tuple of ndarray of float64 and of int64, shape (groups, cells)
        Quantiles, NaN where no value is known; numbers of values.

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
        series = turn(values[:, cells])
        stored = None if numbers is None else turn(numbers[:, cells])
        order, known = order_series(series, stored)
        places = out[:, cells], sizes[:, cells]
        find_quantiles(series, order, known, *changes, share, unbiased, *places)
    return out, sizes
