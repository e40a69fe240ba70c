"""Correlation and regression of two series at each cell."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.autocorrelation import effective_size
from rhodolite.kernels.distributions import t_below
from rhodolite.kernels.empirical import Empirical
from rhodolite.kernels.moments import first_values, vanishes

Array = NDArray[Any]
_FEWEST = 3


def correlate(first: Array, second: Array) -> tuple[Array, Array, Array]:
    """Return Pearson's correlation, its p-value, and the slope of the first on the second.

    Parameters
    ----------
    first, second : ndarray of float, shape (n, *cells)
        NaN marks missing values; pairs with one are left out.

    Returns
    -------
    tuple of ndarray of float64, shape (*cells)
        NaN where there are fewer than three pairs, or all values of a series are equal.

    Notes
    -----
    The t test has the degrees of freedom of the effective sample size of Bretherton and others
    1999, Journal of Climate 12, 1990-2009, equation 31, less 2.

    Examples
    --------
    >>> first = np.array([1.0, 2.0, 3.0, 4.0])
    >>> r, pvalue, slope = correlate(first, np.array([2.0, 1.0, 4.0, 3.0]))
    >>> float(r.round(3)), float(pvalue.round(3)), float(slope.round(3))
    (0.6, 0.4, 0.6)
    """
    present = ~(np.isnan(first) | np.isnan(second))
    count = present.sum(axis=0)
    pairs = np.maximum((present[1:] & present[:-1]).sum(axis=0), 1)
    x, y = (_centre(values, present, count) for values in (second, first))
    xx, yy, xy = (_product(a, b) for a, b in ((x, x), (y, y), (x, y)))
    known = (count >= _FEWEST) & (xx > 0) & (yy > 0)
    r = np.divide(xy, np.sqrt(xx * yy), out=np.full(xx.shape, np.nan), where=known)
    slope = np.divide(xy, xx, out=np.full(xx.shape, np.nan), where=known)
    # The lag-1 autocorrelations, of pairs of neighbours that are both present, multiplied.
    scale = (count / pairs) ** 2
    together = np.divide(
        scale * _product(x[1:], x[:-1]) * _product(y[1:], y[:-1]),
        xx * yy,
        out=np.zeros(xx.shape),
        where=known,
    )
    freedom = effective_size(count, together) - 2
    divisor = np.where(freedom > 0, freedom, 1.0)
    t = np.abs(r) * np.sqrt(divisor / np.maximum(1 - r * r, 1e-300))
    return r, np.where(freedom > 0, 2 * t_below(divisor, -t), np.nan), slope


def rank_pairs(first: Array, second: Array) -> tuple[Array, Array]:
    """Return the ranks of two series among the pairs that are both present; ties share their mean
    rank.

    Parameters
    ----------
    first : ndarray
        First values, shape (n, *cells).
    second : ndarray
        Second values, shape (n, *cells).

    Examples
    --------
    >>> ranks, _ = rank_pairs(np.array([3.0, 1.0, 3.0]), np.array([1.0, 2.0, 3.0]))
    >>> ranks.tolist()
    [2.5, 1.0, 2.5]
    """
    present = ~(np.isnan(first) | np.isnan(second))
    return _rank(first, present), _rank(second, present)


def _rank(values: Array, present: Array) -> Array:
    known = np.where(present, values, np.nan)
    below, up_to = Empirical(known).count_below(known)
    return np.where(present, (below + up_to + 1) / 2, np.nan)


def _product(a: Array, b: Array) -> Array:
    return np.asarray(np.einsum("t...,t...->...", a, b))


def _centre(values: Array, present: Array, count: Array) -> Array:
    origin = first_values(np.where(present, values, np.nan))
    centred = np.where(present, values - origin, 0.0).astype(np.float64)
    shift = centred.sum(axis=0) / np.maximum(count, 1)
    centred -= shift
    centred *= present
    centred *= ~vanishes(_product(centred, centred), count, origin + shift)
    return centred
