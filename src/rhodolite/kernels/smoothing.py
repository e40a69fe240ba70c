"""Smoothing of cycles, which have no ends, and of series, which have two."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def circular_mean(values: Array, width: int) -> Array:
    """Return the mean of a centred window that wraps around the ends.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        Missing values (NaN) are left out of each mean.
    width : int
        Odd number of values.
        Odd, and at most n.

    Returns
    -------
    ndarray of float64, shape (n, *cells)

    Examples
    --------
    >>> circular_mean(np.array([1.0, 2.0, 3.0, 6.0]), 3).round(3).tolist()
    [3.0, 2.0, 3.667, 3.333]
    """
    half = width // 2
    return running_mean(
        np.concatenate([values[len(values) - half :], values, values[:half]]), width
    )[half : half + len(values)]


def running_mean(values: Array, width: int) -> Array:
    """Return the mean of a centred window, which is cut off at the ends.

    Parameters and result are those of `circular_mean`. NaN where a window holds no value.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
    width : int
        Odd number of values.

    Examples
    --------
    >>> running_mean(np.array([1.0, 2.0, 3.0, 6.0]), 3).round(3).tolist()
    [1.5, 2.0, 3.667, 4.5]
    """
    half = width // 2
    present = ~np.isnan(values)
    total, count = (
        np.concatenate(
            [np.zeros((1, *part.shape[1:])), np.cumsum(part, axis=0, dtype=np.float64)]
        )
        for part in (np.where(present, values, 0.0), present)
    )
    steps = np.arange(len(values))
    low, high = np.maximum(steps - half, 0), np.minimum(steps + half + 1, len(values))
    sums, counts = total[high] - total[low], count[high] - count[low]
    return np.asarray(
        np.divide(sums, counts, out=np.full(sums.shape, np.nan), where=counts > 0)
    )


def first_harmonics(values: Array, count: int) -> Array:
    """Return the mean and the first harmonics of a cycle.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        Cells with a missing value (NaN) are missing throughout.
    count : int
        Number of harmonics, less than n / 2.

    Notes
    -----
    The least-squares fit of the mean and `count` sine waves, which is the Fourier series cut off
    (Wilks 2011, Statistical Methods in the Atmospheric Sciences, section 9.4.4).

    Examples
    --------
    >>> cycle = np.cos(np.radians([0.0, 90.0, 180.0, 270.0])) + 5
    >>> first_harmonics(cycle, 1).round(6).tolist()
    [6.0, 5.0, 4.0, 5.0]
    """
    waves = np.fft.rfft(values, axis=0)
    waves[count + 1 :] = 0
    return np.asarray(np.fft.irfft(waves, n=len(values), axis=0))
