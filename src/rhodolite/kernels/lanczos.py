"""Low-pass filters by Lanczos weights."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import first_values

Array = NDArray[Any]


def lanczos_weights(cutoff: float, half: int) -> Array:
    """Return the weights of a low-pass filter, whose sum is 1.

    Parameters
    ----------
    cutoff : float
        The period in steps above which variations are kept.
    half : int
        Steps on either side of the middle.

    Returns
    -------
    ndarray of float64, shape (2 * half + 1,)

    Notes
    -----
    Duchon 1979, Journal of Applied Meteorology 18, 1016-1022, equation 9: the weights of an ideal
    filter times the sigma factors of Lanczos.

    Examples
    --------
    >>> weights = lanczos_weights(4.0, 2)
    >>> weights.round(4).tolist(), float(weights.sum().round(12))
    ([0.0, 0.2238, 0.5523, 0.2238, 0.0], 1.0)
    """
    steps = np.arange(-half, half + 1)
    weights = np.sinc(2 * steps / cutoff) * np.sinc(steps / half)
    return np.asarray(weights / weights.sum())


def low_pass(values: Array, weights: Array, share: float) -> Array:
    """Return the weighted mean of each value and those around it.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        At even distances; NaN where missing.
    weights : ndarray of float64, shape (2 * half + 1,)
    share : float
        Of the sum of the weights' sizes that has to be there, from 0 to 1; those of missing values
        and beyond the ends are not.

    Returns
    -------
    ndarray of float64, shape (n, *cells)
        NaN where less is there.

    Examples
    --------
    >>> low_pass(np.array([1.0, 2.0, 3.0]), np.array([0.25, 0.5, 0.25]), 1.0).tolist()
    [nan, 2.0, nan]
    """
    present = ~np.isnan(values)
    first = first_values(values)
    # Departures from a value of the cell, so that equal values stay equal.
    departures = np.where(present, values - first, 0.0)
    columns = weights.reshape(-1, *(1,) * (values.ndim - 1))
    flags = present.astype(np.float64)
    total = _convolve(departures, columns)
    used = _convolve(flags, columns)
    sizes = np.abs(columns)
    there = _convolve(flags, sizes) / sizes.sum()
    enough = there >= share - 1e-9
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(enough & (used > 0), first + total / used, np.nan)


def _convolve(values: Array, weights: Array) -> Array:
    from scipy import signal

    return np.asarray(signal.oaconvolve(values, weights, mode="same", axes=0))
