"""How much the values of a series are correlated with the one before, and how many independent ones
they are
worth."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def autocorrelation(values: Array, lag: int = 1) -> Array:
    """Return the autocorrelation at a lag, of pairs that are both present.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        NaN marks missing values.

    Returns
    -------
    ndarray of float64, shape (*cells)
        0 where there are no pairs or all values are equal.

    Examples
    --------
    >>> autocorrelation(np.array([1.0, -1.0, 1.0, -1.0, 1.0, -1.0])).round(3).tolist()
    -1.0
    """
    present = ~np.isnan(values)
    count = np.maximum(present.sum(axis=0), 1)
    deviation = np.where(present, values - np.nansum(values, axis=0) / count, 0.0)
    variance = (deviation**2).sum(axis=0) / count
    pairs = (present[lag:] & present[:-lag]).sum(axis=0)
    product = (deviation[lag:] * deviation[:-lag]).sum(axis=0) / np.maximum(pairs, 1)
    return np.asarray(
        np.divide(
            product,
            variance,
            out=np.zeros(variance.shape),
            where=(variance > 0) & (pairs > 0),
        )
    )


def effective_size(count: Array, r: Array) -> Array:
    """Return how many independent values a series with lag-1 autocorrelation is worth; never more
    than it has.

    Parameters
    ----------
    count : ndarray
        Number of pairs, shape (*cells).
    r : ndarray
        Lag-1 autocorrelation, shape (*cells).

    Notes
    -----
    n (1 - r) / (1 + r), Santer and others 2000, Journal of Geophysical Research 105, 7337-7356,
    equation 6. For the correlation of two series r is the product of theirs (Bretherton and
    others 1999, Journal of Climate 12, 1990-2009, equation 31).

    Examples
    --------
    >>> effective_size(np.array(100), np.array(0.5)).round(1).tolist()
    33.3
    """
    bounded = np.clip(r, 0.0, 1.0 - 1e-9)
    return np.asarray(count * (1 - bounded) / (1 + bounded))
