"""Indices of how unusual values are: by the mean of the extremes, and by a fitted distribution."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import (
    gamma_below,
    log_gamma_slopes,
    normal_quantile,
)
from rhodolite.kernels.empirical import Empirical
from rhodolite.kernels.extreme_values import l_moments
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.kernels.moments import equal_values
from rhodolite.kernels.order_statistics import ascending, percentile

Array = NDArray[Any]
_FEWEST = 4
"""Fewest values that a distribution is fitted to."""
_NO_SKEWNESS = 1e-9
"""Below which a logistic distribution is symmetric."""
_STEPS = 12
"""Of Newton's method, which doubles the digits with each."""


def extreme_means(
    base: Array, count: int | None, share: float | None
) -> tuple[Array, Array, Array]:
    """Return the mean, the mean of the lowest and the mean of the highest values at each cell.

    Parameters
    ----------
    base : ndarray of float, shape (n, *cells)
        NaN marks missing values.
    count : int or None
        How many values are extreme at each end; has to be below half of those present.
    share : float or None
        Where `count` is None: values beyond this share at each end are extreme, those on the limit
        included.

    Returns
    -------
    tuple of ndarray of float64, shape (*cells)
        NaN where there are too few values.
    """
    present = ~np.isnan(base)
    valid = present.sum(axis=0)
    total = np.where(present, base, 0.0).sum(axis=0, dtype=np.float64)
    mean = np.divide(total, valid, out=np.full(valid.shape, np.nan), where=valid > 0)
    if count is None:
        assert share is not None
        low, high = (
            _mean_where(base, beyond)
            for beyond in (
                base <= percentile(base, share),
                base >= percentile(base, 1 - share),
            )
        )
        enough = valid >= _FEWEST
    else:
        ordered = np.nan_to_num(ascending(base).astype(np.float64))
        sums = np.concatenate(
            [np.zeros((*ordered.shape[:-1], 1)), np.cumsum(ordered, axis=-1)], axis=-1
        )
        enough = 2 * count < valid
        last = np.where(enough, valid, count)[..., None]
        upper = np.take_along_axis(sums, last, -1) - np.take_along_axis(
            sums, last - count, -1
        )
        low, high = sums[..., min(count, len(base))] / count, upper[..., 0] / count
    return tuple(np.where(enough, part, np.nan) for part in (mean, low, high))  # type: ignore[return-value]


def rainfall_anomaly(values: Array, mean: Array, low: Array, high: Array) -> Array:
    """Return the rainfall anomaly index; NaN where mean and extremes are the same.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    mean, low, high : ndarray of float64, shape (*cells)
        As `extreme_means` returns them.

    Notes
    -----
    +3 (x - mean) / (high - mean) above the mean and -3 (x - mean) / (low - mean) below it (van Rooy
    1965, Notos 14, 43-48).
    """
    departure = values - mean
    reach = np.where(departure >= 0, high - mean, mean - low)
    spread = ~equal_values(low, high) & (reach > 0)
    return np.asarray(
        np.divide(
            3 * departure, reach, out=np.full(departure.shape, np.nan), where=spread
        )
    )


def fit_gamma(base: Array) -> tuple[Array, Array, Array]:
    """Return shape and scale of a gamma distribution of the values above 0, and the share of zeros.

    Parameters
    ----------
    base : ndarray of float, shape (n, *cells)
        Not negative; NaN marks missing values.

    Returns
    -------
    tuple of ndarray of float64, shape (*cells)
        NaN where there are fewer than four values above 0, or all of these are equal.

    Notes
    -----
    Maximum likelihood: ln(shape) - psi(shape) = ln(mean) - mean(ln), by Newton's method from the
    approximation of Thom 1958, Monthly Weather Review 86, 117-122.
    """
    positive = base > 0
    count, valid = positive.sum(axis=0), (~np.isnan(base)).sum(axis=0)
    mean = _mean_where(base, positive)
    logs = _mean_where(np.log(np.where(positive, base, 1.0)), positive)
    gap = np.log(mean) - logs
    enough = (count >= _FEWEST) & (gap > 1e-12)
    gap = np.where(enough, gap, 1.0)
    shape = (1 + np.sqrt(1 + 4 * gap / 3)) / (4 * gap)
    for _ in range(_STEPS):
        # In the logarithm of the shape, in which no step leads below 0.
        first, second = log_gamma_slopes(shape)
        error = np.log(shape) - first - gap
        shape = shape * np.exp(-error / (1 - shape * second))
    zeros = np.divide(
        valid - count, valid, out=np.full(valid.shape, np.nan), where=valid > 0
    )
    shape = np.where(enough, shape, np.nan)
    return shape, mean / shape, zeros


def gamma_index(values: Array, shape: Array, scale: Array, zeros: Array) -> Array:
    """Return standard normal deviates of the same probability as the values.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    shape, scale, zeros : ndarray of float64, shape (*cells)
        As `fit_gamma` returns them.

    Notes
    -----
    The probability is q + (1 - q) G(x) with the share q of zeros (McKee, Doesken and Kleist 1993;
    WMO-No. 1090). Upper tails are turned round, so that they keep their digits.
    """
    place = np.maximum(values, 0) / scale
    lower, upper = gamma_below(shape, place)
    below, above = zeros + (1 - zeros) * lower, (1 - zeros) * upper
    return np.asarray(
        np.where(below < 0.5, normal_quantile(below), -normal_quantile(above))
    )


def bound_index(index: Array, size: Array) -> tuple[Array, Array]:
    """Return an index in which values beyond all that its base knows have a bound, and where they
    are.

    Of a probability of 0, such as that of no rain where it rained in all years of the base, the
    standard normal deviate is infinite. A base of n values tells probabilities down to 1 / (n + 1)
    (Weibull 1939; WMO-No. 168, 5.9.3), so this is the bound, or the most extreme finite value on
    that side where that lies further out, so that the order of the values is kept.

    Parameters
    ----------
    index : ndarray of float64, shape (n, *cells)
    size : ndarray of int, shape (*cells)
        How many values the base has.
    """
    beyond = np.isinf(index)
    if not beyond.any():
        return index, beyond
    finite = np.where(beyond, np.nan, index)
    known = -normal_quantile(1.0 / (size + 1.0))
    low = np.fmin(-known, np.fmin.reduce(finite, axis=0))
    high = np.fmax(known, np.fmax.reduce(finite, axis=0))
    return np.where(beyond, np.where(index < 0, low, high), index), beyond


def normal_index(values: Array, base: Array) -> Array:
    """Return values less the mean of a base, in its standard deviations; NaN where it has no
    spread.

    Parameters
    ----------
    values, base : ndarray of float, shape (n, *cells) and (m, *cells)
        The deviation has divisor m - 1, missing values (NaN) left out.

    Examples
    --------
    >>> normal_index(np.array([14.0]), np.array([8.0, 10.0, 12.0])).tolist()
    [2.0]
    """
    spread = Spread().finish(Spread().gather(base, np.zeros(len(base), int), 1))
    mean, deviation = spread["mean"][0], spread["deviation"][0]
    return np.asarray(
        np.divide(
            values - mean,
            deviation,
            out=np.full(values.shape, np.nan),
            where=deviation > 0,
        )
    )


def logistic_index(values: Array, base: Array) -> Array:
    """Return the standard normal deviates of equal probability, of a generalised logistic
    distribution fitted to a base; NaN where it has no spread.

    Parameters
    ----------
    values, base : ndarray of float, shape (n, *cells) and (m, *cells)
        NaN where missing.

    Notes
    -----
    The log-logistic distribution of three parameters of Vicente-Serrano and others 2010 (Journal of
    Climate 23), fitted by unbiased L-moments as Begueria and others 2014 (International Journal of
    Climatology 34) recommend; parameters by Hosking and Wallis 1997, appendix A.7. Values beyond
    an end of the distribution are infinite.

    Examples
    --------
    >>> index = logistic_index(np.array([4.0]), np.array([1.0, 3.0, 4.0, 5.0, 7.0]))
    >>> abs(round(float(index[0]), 9))
    0.0
    """
    _, first, second, skewness = l_moments(base)
    shape = np.where(np.abs(skewness) < _NO_SKEWNESS, 0.0, -skewness)
    safe = np.where(shape == 0, 1.0, shape)
    sine = np.where(shape == 0, 1.0, np.sin(np.pi * safe) / (np.pi * safe))
    scale = second * sine
    shift = np.where(shape == 0, 0.0, (1 - 1 / sine) / safe)
    with np.errstate(divide="ignore", invalid="ignore"):
        reduced = (values - (first - scale * shift)) / scale
        inside = 1 - safe * reduced
        # Beyond the end of the distribution the probability is 0 or 1.
        bent = -np.log(np.maximum(inside, 0.0)) / safe
        bent = np.where(shape == 0, reduced, bent)
        # Of the nearer tail, whose probability keeps its digits.
        tail = normal_quantile(1 / (1 + np.exp(np.abs(bent))))
    deviate = np.where(bent < 0, tail, -tail)
    return np.where((second > 0) & ~np.isnan(values), deviate, np.nan)


def share_below(values: Array, base: Array) -> Array:
    """Return the percentage of a base that lies below values; what is equal counts half.

    Parameters
    ----------
    values, base : ndarray of float, shape (n, *cells) and (m, *cells)
        NaN where missing.

    Notes
    -----
    For values of the base the plotting position of Hazen 1914: (place - 0.5) / number.

    Examples
    --------
    >>> share_below(np.array([3.0, 9.0]), np.array([1.0, 3.0, 5.0, 7.0])).tolist()
    [37.5, 100.0]
    """
    count = (~np.isnan(base)).sum(axis=0)
    below, up_to = Empirical(base).count_below(values)
    with np.errstate(divide="ignore", invalid="ignore"):
        share = 100 * ((below + up_to) / 2) / count
    return np.where(np.isnan(values) | (count == 0), np.nan, share)


def rank_among(values: Array, base: Array) -> Array:
    """Return the place of values among a base from the highest, which is 1; equal values share the
    better place.

    Parameters
    ----------
    values, base : ndarray of float, shape (n, *cells) and (m, *cells)
        NaN where missing.

    Examples
    --------
    >>> rank_among(np.array([3.0, 9.0]), np.array([1.0, 3.0, 5.0, 7.0])).tolist()
    [3.0, 1.0]
    """
    count = (~np.isnan(base)).sum(axis=0)
    _, up_to = Empirical(base).count_below(values)
    return np.where(np.isnan(values), np.nan, count - up_to + 1.0)


def running_sum(values: Array, count: int) -> Array:
    """Return the sum of each value and the `count` - 1 before it; NaN where one of them is missing.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)

    Returns
    -------
    ndarray of float64, shape (n, *cells)

    Examples
    --------
    >>> running_sum(np.array([1.0, 2.0, 4.0]), 2).tolist()
    [nan, 3.0, 6.0]
    """
    out = np.full(values.shape, np.nan)
    total = np.zeros((max(len(values) - count + 1, 0), *values.shape[1:]))
    for step in range(count):
        total += values[step : step + len(total)]
    out[count - 1 :] = total
    return out


def _mean_where(values: Array, chosen: Array) -> Array:
    count = chosen.sum(axis=0)
    total = np.where(chosen, values, 0.0).sum(axis=0, dtype=np.float64)
    return np.asarray(
        np.divide(total, count, out=np.full(count.shape, np.nan), where=count > 0)
    )
