"""Days in a row that fulfil a condition: how many, since when and until when."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.sliding import fold_windows

Array = NDArray[Any]
Flags = NDArray[np.bool_]


def count_so_far(flags: Flags) -> Array:
    """Return how many days in a row have fulfilled a condition, each day with those before it.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)

    Returns
    -------
    ndarray of int32, shape (n, *cells)
        0 where the condition is not fulfilled.

    Examples
    --------
    >>> count_so_far(np.array([True, True, False, True])).tolist()
    [1, 2, 0, 1]
    """
    counts = flags.astype(np.int32)
    # Day by day, since those of some cells stay in the cache from one day to the next.
    for day in range(1, len(counts)):
        counts[day] *= counts[day - 1] + 1
    return counts


def lie_in_spells(flags: Flags, length: int) -> Flags:
    """Return which days belong to a spell of some length or a longer one.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)
    length : int
        Days in a row that make a spell.

    Examples
    --------
    >>> lie_in_spells(np.array([True, True, False, True]), 2).tolist()
    [True, True, False, False]
    """
    inside = np.zeros_like(flags)
    if len(flags) >= length:
        begin = fold_windows(flags, np.logical_and, length)
        for shift in range(length):
            inside[shift : shift + len(begin)] |= begin
    return inside


def lengths_at_ends(flags: Flags) -> Array:
    """Return the length of each spell at its last day, and 0 at all other days.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)
        A spell that lasts to the end of them ends there.

    Examples
    --------
    >>> lengths_at_ends(np.array([True, True, False, True])).tolist()
    [0, 2, 0, 1]
    """
    lengths = count_so_far(flags)
    goes_on = np.zeros_like(flags)
    goes_on[:-1] = flags[1:]
    lengths[goes_on] = 0
    return lengths


def first_day(flags: Flags) -> Array:
    """Return the first day that fulfils a condition, counted from 0; NaN where there is none.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)

    Examples
    --------
    >>> float(first_day(np.array([False, True, True])))
    1.0
    """
    if not len(flags):
        return np.full(flags.shape[1:], np.nan)
    return np.where(flags.any(axis=0), flags.argmax(axis=0), np.nan)


def last_day(flags: Flags) -> Array:
    """Return the last day that fulfils a condition, counted from 0; NaN where there is none.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)

    Examples
    --------
    >>> float(last_day(np.array([False, True, True, False])))
    2.0
    """
    return np.asarray(len(flags) - 1 - first_day(flags[::-1]))


def first_of_spell(flags: Flags, length: int) -> Array:
    """Return the day on which the first spell of some length begins; NaN where there is none.

    Parameters
    ----------
    flags : ndarray of bool, shape (n, *cells)
    length : int
        Days in a row that make a spell.

    Examples
    --------
    >>> float(first_of_spell(np.array([True, False, True, True]), 2))
    2.0
    """
    if len(flags) < length:
        return np.full(flags.shape[1:], np.nan)
    return first_day(fold_windows(flags, np.logical_and, length))
