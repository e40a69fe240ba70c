"""Statistics that need all values of a group at once: percentiles and the length of runs."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.thresholds import beyond

Array = NDArray[Any]
_FEW = 6


def percentile(values: Array, share: float) -> Array:
    """Return the value below which a share of the values lies, missing ones (NaN) left out.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    share : float
        From 0 to 1; 0.5 is the median.

    Returns
    -------
    ndarray of float64, shape (*cells)
        NaN where all values are missing.

    Notes
    -----
    Linear between the values at positions (n - 1) share, definition 7 of Hyndman and Fan 1996, The
    American Statistician 50, 361-365.
    """
    if 0 < len(values) <= _FEW and not np.isnan(values).any():
        return _percentile_of_few(values, share)
    ordered = ascending(values)
    count = (~np.isnan(ordered)).sum(axis=-1)
    place = np.maximum(count - 1, 0) * share
    below = np.floor(place).astype(np.intp)
    above = np.minimum(below + 1, np.maximum(count - 1, 0))
    low, high = (
        np.take_along_axis(ordered, at[..., None], axis=-1)[..., 0].astype(np.float64)
        for at in (below, above)
    )
    return np.asarray(low + (high - low) * (place - below))


def _percentile_of_few(values: Array, share: float) -> Array:
    """Return the same from a few values at each cell, none of them missing.

    Whole maps are compared with each other, which is faster than to sort each cell's few values.
    """
    ordered = list(values)
    for last in range(len(ordered) - 1, 0, -1):
        for at in range(last):
            low, high = ordered[at], ordered[at + 1]
            ordered[at], ordered[at + 1] = np.minimum(low, high), np.maximum(low, high)
    place = (len(ordered) - 1) * share
    below = int(np.floor(place))
    low = ordered[below].astype(np.float64)
    high = ordered[min(below + 1, len(ordered) - 1)].astype(np.float64)
    return np.asarray(low + (high - low) * (place - below))


def ascending(values: Array) -> Array:
    """Return values of shape (n, *cells) as (*cells, n), ascending at each cell and NaN last.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
    """
    ordered = np.array(np.moveaxis(values, 0, -1), order="C", copy=True)
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
