"""Statistics that need all values of a group at once: percentiles and the length of runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.thresholds import beyond

Array = NDArray[Any]
_FEW = 6


def percentile(
    values: Array, share: float, unpack: Callable[[Array], Array] | None = None
) -> Array:
    """Return the value below which a share of the values lies, missing ones (NaN) left out.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    share : float
        From 0 to 1; 0.5 is the median.
    unpack : callable, optional
        What makes values of numbers that are in their order, none of them missing. The two numbers
        wanted are found first, which gives the same bits.

    Returns
    -------
    ndarray of float64, shape (*cells)
        NaN where all values are missing.

    Notes
    -----
    Linear between the values at positions (n - 1) share, definition 7 of Hyndman and Fan 1996, The
    American Statistician 50, 361-365.
    """
    picked, part = _pick(values, share, whole=unpack is not None or not np.isnan(values).any())
    if unpack is not None:
        picked = [unpack(at.astype(values.dtype, copy=False)) for at in picked]
    low, high = (at.astype(np.float64, copy=False) for at in picked)
    return np.asarray(low + (high - low) * part)


def _pick(values: Array, share: float, *, whole: bool) -> tuple[list[Array], float | Array]:
    """Return the values below and above the place wanted, and how far it is from the first to the
    second; `whole` says that none is missing."""
    if whole:
        place = (len(values) - 1) * share
        below = int(np.floor(place))
        few = 0 < len(values) <= _FEW
        ordered = _sort_few(values) if few else np.moveaxis(ascending(values), -1, 0)
        return [ordered[below], ordered[min(below + 1, len(ordered) - 1)]], place - below
    ordered = ascending(values)
    last = np.maximum((~np.isnan(ordered)).sum(axis=-1) - 1, 0)
    place = last * share
    below = np.floor(place).astype(np.intp)
    places = [below, np.minimum(below + 1, last)]
    found = [np.take_along_axis(ordered, at[..., None], axis=-1)[..., 0] for at in places]
    return found, place - below


def _sort_few(values: Array) -> list[Array]:
    """Return a few values at each cell in ascending order, none of them missing.

    Whole maps are compared with each other, which is faster than to sort each cell's few values.
    """
    ordered = list(values)
    for last in range(len(ordered) - 1, 0, -1):
        for at in range(last):
            low, high = ordered[at], ordered[at + 1]
            ordered[at], ordered[at + 1] = np.minimum(low, high), np.maximum(low, high)
    return ordered


def ascending(values: Array) -> Array:
    """Return values of shape (n, *cells) as (*cells, n), ascending at each cell and NaN last.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
    """
    # Integers of 32 bits are sorted several at a time by more processors than those of 16.
    small = values.dtype.kind in "iu" and values.dtype.itemsize < 4
    dtype = np.dtype(np.int32) if small else values.dtype
    ordered = np.array(np.moveaxis(values, 0, -1), dtype, order="C", copy=True)
    ordered.sort(axis=-1)
    return ordered


def longest_run(values: Array, threshold: float, below: bool, dtype: str = "f8") -> Array:
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
    """
    current = np.zeros(values.shape[1:], np.int32)
    longest = np.zeros_like(current)
    for step in values:
        current += 1
        current *= beyond(step, threshold, dtype, below=below)
        np.maximum(longest, current, out=longest)
    return longest.astype(np.float64)
