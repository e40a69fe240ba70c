"""Statistics that need all values of a group at once: percentiles and the length of runs."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.sorting_networks import sort_cells
from rhodolite.kernels.thresholds import beyond
from rhodolite.kernels.unpacking import Unpacking

Array = NDArray[Any]
_FEW = 80
"""Bytes of a cell's values up to which rows of cells are sorted faster than cell by cell."""


def percentile(
    values: Array, share: float, unpack: Unpacking | None = None, *, whole: bool = False
) -> Array:
    """Return the value below which a share of the values lies, missing ones left out.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
        NaN marks missing values.
    share : float
        From 0 to 1; 0.5 is the median.
    unpack : Unpacking, optional
        What makes values of stored numbers that are in their order. The two numbers wanted are
        found first, which gives the same bits.
    whole : bool
        Whether it is known that none is missing.

    Returns
    -------
    ndarray of float64, shape (*cells)
        NaN where all values are missing.

    Notes
    -----
    Linear between the values at positions (n - 1) share, definition 7 of Hyndman and Fan 1996, The
    American Statistician 50, 361-365.

    Examples
    --------
    >>> float(percentile(np.array([4.0, 1.0, np.nan, 3.0, 2.0]), 0.5))
    2.5
    """
    missing = None if whole else find_missing(values, unpack)
    if missing is None:
        below, above, part = find_places(len(values), share)
        low, high = _at_places(values, (int(below), int(above)))
        return interpolate(low, high, float(part), unpack)
    count = len(values) - missing.sum(axis=0)
    below, above, part = find_places(count, share)
    ordered = _in_order(np.where(missing, bounds_of(values.dtype)[1], values))
    low, high = (
        np.take_along_axis(ordered, at[None], axis=0)[0] for at in (below, above)
    )
    return np.where(count > 0, interpolate(low, high, part, unpack), np.nan)


def find_missing(values: Array, unpack: Unpacking | None) -> Array | None:
    """Return which of some values, or of the numbers that stand for them, are missing; None where
    none is.

    Parameters
    ----------
    values : ndarray
    unpack : Unpacking, optional
        What makes values of them, if they are stored numbers.
    """
    if unpack is not None:
        return unpack.find_missing(values)
    missing = np.isnan(values)
    return missing if missing.any() else None


def find_places(count: Array | int, share: float) -> tuple[Array, Array, Array]:
    """Return the places, among so many values in ascending order, below and above the one that a
    percentile is at, and how far it is from the first to the second.

    Parameters
    ----------
    count : int or ndarray of int
    share : float
        From 0 to 1.
    """
    last = np.maximum(np.asarray(count) - 1, 0)
    place = last * share
    below = np.floor(place).astype(np.intp)
    return below, np.minimum(below + 1, last), place - below


def interpolate(
    low: Array, high: Array, part: Array | float, unpack: Unpacking | None
) -> Array:
    """Return what lies between two values in float64, `part` of the way from the first.

    Parameters
    ----------
    low, high : ndarray
    part : float or ndarray
    unpack : Unpacking, optional
        What makes values of them.
    """
    if unpack is not None:
        low, high = unpack(low), unpack(high)
    start = low.astype(np.float64, copy=False)
    at_start = np.equal(part, 0)
    if at_start.all():
        return np.asarray(start)
    with np.errstate(invalid="ignore"):  # of two infinite ones
        between = np.asarray(high.astype(np.float64, copy=False) - start)
        between *= part
        between += start
    return np.where(at_start, start, between) if at_start.any() else between


def bounds_of(dtype: np.dtype[Any]) -> tuple[float, float]:
    """Return what is not above, and not below, any number of a type."""
    if dtype.kind == "f":
        return -np.inf, np.inf
    limits = np.iinfo(dtype)
    return limits.min, limits.max


def _at_places(values: Array, places: tuple[int, int]) -> list[Array]:
    """Return the values at two places in ascending order along the first axis, none of them NaN."""
    if _are_few(values):
        sorted_cells = sort_cells(values.reshape(len(values), -1), places)
        return [row.reshape(values.shape[1:]) for row in sorted_cells]
    ordered = ascending(values)
    return [ordered[..., place].astype(values.dtype, copy=False) for place in places]


def _in_order(values: Array) -> Array:
    """Return values, none of them NaN, in ascending order along the first axis."""
    if _are_few(values):
        return np.stack(sort_cells(values.reshape(len(values), -1))).reshape(
            values.shape
        )
    return np.moveaxis(ascending(values), -1, 0)


def _are_few(values: Array) -> bool:
    return len(values) * values.dtype.itemsize <= _FEW


def ascending(values: Array) -> Array:
    """Return values of shape (n, *cells) as (*cells, n), ascending at each cell and NaN last.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)

    Examples
    --------
    >>> ascending(np.array([3.0, np.nan, 1.0])).tolist()
    [1.0, 3.0, nan]
    """
    # Integers of 32 bits are sorted several at a time by more processors than those of 16.
    small = values.dtype.kind in "iu" and values.dtype.itemsize < 4
    dtype = np.dtype(np.int32) if small else values.dtype
    ordered = np.array(np.moveaxis(values, 0, -1), dtype, order="C", copy=True)
    ordered.sort(axis=-1)
    return ordered


def longest_run(
    values: Array, threshold: float, below: bool, dtype: str = "f8"
) -> Array:
    """Return the maximum number of values in a row that lie above, or below, a threshold.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        A missing value (NaN) ends a run.
    threshold : float
    below : bool
    dtype : {"f4", "f8"}
        Type in which values and threshold are compared.

    Returns
    -------
    ndarray of float64, shape (*cells)

    Examples
    --------
    >>> float(longest_run(np.array([1.0, 5.0, 6.0, 0.0, 7.0]), 4.0, below=False))
    2.0
    """
    current = np.zeros(values.shape[1:], np.int32)
    longest = np.zeros_like(current)
    for step in values:
        current += 1
        current *= beyond(step, threshold, dtype, below=below)
        np.maximum(longest, current, out=longest)
    return longest.astype(np.float64)
