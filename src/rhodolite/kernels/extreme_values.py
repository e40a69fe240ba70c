"""The generalised extreme value distribution: its parameters by L-moments, and its quantiles.

Its shape is told by k, as in the source: the upper tail is bounded where k is positive, and heavy
where it is negative.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import gamma

from rhodolite.kernels.moments import sum_rows

Array = NDArray[Any]
_LN2, _LN3 = np.log(2.0), np.log(3.0)
_EULER = 0.5772156649015329
_BEND = _EULER**2 / 2 + np.pi**2 / 12
"""Of the gamma function at 1: half its second derivative."""
_SMALL = 1e-5
"""Shapes below which series are used, where differences would lose digits."""
_STEPS = 6
_LEAST_SHAPE, _MOST_SHAPE = -0.999, 20.0
_PLOTTING = 0.35


def l_moments(values: Array) -> tuple[Array, Array, Array, Array]:
    """Return the number of values, the first two L-moments and the L-skewness.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
        NaN where missing.

    Returns
    -------
    tuple of ndarray, shape (*cells)
        The moments are NaN of fewer than three values, and the skewness where all are equal.

    Notes
    -----
    Unbiased, by probability-weighted moments (Hosking 1990, Journal of the Royal Statistical
    Society B 52, equations 3.1 and 3.2).

    Examples
    --------
    >>> count, first, second, skewness = l_moments(np.array([1.0, 2.0, 3.0, 6.0]))
    >>> float(first), round(float(second), 6), round(float(skewness), 6)
    (3.0, 1.333333, 0.375)
    """
    ordered = np.sort(values, axis=0)
    count = (~np.isnan(ordered)).sum(axis=0)
    place = np.arange(len(ordered)).reshape(-1, *(1,) * (ordered.ndim - 1))
    present = np.where(place < count, ordered, 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        once = place / (count - 1)
        twice = once * (place - 1) / (count - 2)
        b0 = sum_rows(present) / count
        b1 = sum_rows(once * present) / count
        b2 = sum_rows(twice * present) / count
    return (count, *_moments_of(b0, b1, b2, count >= 3))


def _moments_of(
    b0: Array, b1: Array, b2: Array, enough: Array | bool
) -> tuple[Array, Array, Array]:
    """Return L-moments, given probability-weighted moments."""
    first, second = np.where(enough, b0, np.nan), np.where(enough, 2 * b1 - b0, np.nan)
    third = 6 * b2 - 6 * b1 + b0
    # Of equal values nothing is left but rounding.
    spread = second > 1e-13 * np.abs(first)
    skewness = np.full(np.shape(second), np.nan)
    np.divide(third, second, out=skewness, where=spread)
    return first, second, skewness


def fit_extremes(
    first: Array, second: Array, skewness: Array
) -> tuple[Array, Array, Array]:
    """Return location, scale and shape k of the distribution that has some L-moments.

    Parameters
    ----------
    first, second, skewness : ndarray, shape (*cells)
        As `l_moments` gives them.

    Returns
    -------
    tuple of ndarray, shape (*cells)
        NaN where the moments are.

    Notes
    -----
    The shape solves t3 = 2 (1 - 3^-k) / (1 - 2^-k) - 3 by Newton's method, from the approximation
    of Hosking, Wallis and Wood 1985 (Technometrics 27); location and scale follow (Hosking and
    Wallis 1997, Regional Frequency Analysis, appendix A.7).

    Examples
    --------
    >>> parts = fit_extremes(np.array(10.0), np.array(2.0), np.array(0.1699))
    >>> [round(float(part), 2) for part in parts]
    [8.33, 2.89, 0.0]
    """
    start = 2 / (3 + skewness) - _LN2 / _LN3
    k = 7.8590 * start + 2.9554 * start**2
    for _ in range(_STEPS):
        ratio, slope = _skewness_of(np.clip(k, _LEAST_SHAPE, _MOST_SHAPE))
        k = np.clip(k - (ratio - skewness) / slope, _LEAST_SHAPE, _MOST_SHAPE)
    near = np.abs(k) < _SMALL
    safe = np.where(near, 1.0, k)
    # Gamma(1 + k) and 2^-k to the second order about 0.
    full = np.where(near, 1 - _EULER * k, gamma(1 + safe))
    share = np.where(near, _LN2 * (1 - k * _LN2 / 2), -np.expm1(-safe * _LN2) / safe)
    scale = second / (full * share)
    shift = np.where(near, -_EULER + _BEND * k, (full - 1) / safe)
    return first + scale * shift, scale, k


def _skewness_of(k: Array) -> tuple[Array, Array]:
    """Return the L-skewness of shapes, and how it changes with them."""
    near = np.abs(k) < _SMALL
    safe = np.where(near, 1.0, k)
    top, bottom = -np.expm1(-safe * _LN3), -np.expm1(-safe * _LN2)
    slope_top, slope_bottom = _LN3 * (1 - top), _LN2 * (1 - bottom)
    ratio = 2 * top / bottom - 3
    slope = 2 * (slope_top * bottom - top * slope_bottom) / bottom**2
    # Where both vanish, their ratio is that of the logarithms, less a slope of half the difference.
    limit = 2 * _LN3 / _LN2
    slope_there = -_LN3 / _LN2 * (_LN3 - _LN2)
    return (
        np.where(near, limit - 3 + slope_there * k, ratio),
        np.where(near, slope_there, slope),
    )


def quantile(location: Array, scale: Array, k: Array, below: Array | float) -> Array:
    """Return the value that the distribution stays below with some probability.

    Parameters
    ----------
    location, scale, k : ndarray, shape (*cells)
    below : ndarray or float
        Probabilities between 0 and 1, which broadcast against the cells.

    Examples
    --------
    >>> round(float(quantile(np.array(10.0), np.array(2.0), np.array(0.0), 0.99)), 4)
    19.2003
    """
    reduced = np.log(-np.log(below))
    safe = np.where(k == 0, 1.0, k)
    bent = -np.expm1(safe * reduced) / safe
    return np.asarray(location + scale * np.where(k == 0, -reduced, bent))


def plot_correlation(values: Array, quantiles: Callable[[Array], Array]) -> Array:
    """Return the correlation of values in order with the quantiles at their plotting positions.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)
    quantiles : callable
        Gives what the distribution of each cell stays below with probabilities of shape (n,
        *cells).

    Notes
    -----
    The probability plot correlation coefficient (Filliben 1975, Technometrics 17) with positions
    (j - 0.35) / n (Hosking and Wallis 1997, section 2.8).

    Examples
    --------
    >>> values = quantile(0.0, 1.0, np.array(0.1), (np.arange(1, 31) - 0.35) / 30)
    >>> fitted = lambda below: quantile(0.0, 1.0, np.array(0.1), below)
    >>> round(float(plot_correlation(values, fitted)), 9)
    1.0
    """
    ordered = np.sort(values, axis=0)
    count = (~np.isnan(ordered)).sum(axis=0)
    place = np.arange(1, len(ordered) + 1).reshape(-1, *(1,) * (ordered.ndim - 1))
    with np.errstate(divide="ignore", invalid="ignore"):
        positions = np.where(place <= count, (place - _PLOTTING) / count, 0.5)
        expected = quantiles(positions)
    gone = np.isnan(ordered)
    pairs = [np.where(gone, 0.0, part) for part in (ordered, expected)]
    means = [sum_rows(part) / np.maximum(count, 1) for part in pairs]
    x, y = (
        np.where(gone, 0.0, part - mean)
        for part, mean in zip(pairs, means, strict=True)
    )
    product = np.sqrt(sum_rows(x * x) * sum_rows(y * y))
    result = np.full(np.shape(product), np.nan)
    np.divide(sum_rows(x * y), product, out=result, where=product > 0)
    return result


def limits_of_levels(
    parameters: tuple[Array, Array, Array],
    count: int,
    below: Array,
    samples: Array,
    share: float,
) -> tuple[Array, Array]:
    """Return the limits between which a share of the levels of samples of the distribution lies.

    Parameters
    ----------
    parameters : tuple of ndarray, shape (cells,)
        Location, scale and shape k.
    count : int
        Of the values of a sample.
    below : ndarray, shape (levels,)
        Probabilities of the levels.
    samples : ndarray, shape (samples, count)
        Uniform random numbers, in order in each sample; all cells share them.
    share : float
        Such as 0.95.

    Returns
    -------
    tuple of ndarray, shape (levels, cells)

    Notes
    -----
    Parametric bootstrap (Efron and Tibshirani 1993, An Introduction to the Bootstrap, section 6.5),
    percentile limits. Quantiles rise with the random numbers, so that no sample is sorted.
    """
    location, scale, k = parameters
    once = np.arange(count) / (count - 1)
    twice = once * (np.arange(count) - 1) / (count - 2)
    levels = np.empty((below.size, location.size, len(samples)))
    for at, sample in enumerate(samples):
        drawn = quantile(location, scale, k, sample[:, None])
        b0 = sum_rows(drawn) / count
        b1 = sum_rows(once[:, None] * drawn) / count
        b2 = sum_rows(twice[:, None] * drawn) / count
        fitted = fit_extremes(*_moments_of(b0, b1, b2, True))
        for level, probability in enumerate(below):
            levels[level, :, at] = quantile(*fitted, probability)
    ends = (0.5 - share / 2, 0.5 + share / 2)
    low, high = np.nanquantile(levels, ends, axis=2)
    return low, high
