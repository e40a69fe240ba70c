"""Models brought to observations: by mean, by mean and spread, and quantile by quantile.

All functions take values of a model, of the same model in the years of training, and of
observations in these years, each along the first axis; missing values are NaN.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import gamma_below, gamma_quantile
from rhodolite.kernels.drought_indices import fit_gamma
from rhodolite.kernels.empirical import Empirical
from rhodolite.kernels.grouped_statistics import Spread

Array = NDArray[Any]
_CERTAIN = 1e-9
"""Probabilities nearer to 1 have no finite quantile."""


class GammaWithZeros:
    """A gamma distribution fitted to the values above 0, with the share of zeros; NaN where there
    are too few.

    Parameters
    ----------
    sample : ndarray of float64, shape (n, *cells)
    """

    def __init__(self, sample: Array) -> None:
        self._shape, self._scale, self._zeros = fit_gamma(sample)

    def below(self, values: Array) -> Array:
        """Return the probability below values, of shape (n, *cells)."""
        lower, _ = gamma_below(self._shape, np.maximum(values, 0) / self._scale)
        return np.asarray(self._zeros + (1 - self._zeros) * lower)

    def quantile(self, share: Array) -> Array:
        """Return the value that has a probability below it, of shape (n, *cells)."""
        inner = (share - self._zeros) / np.maximum(1 - self._zeros, _CERTAIN)
        wet = self._scale * gamma_quantile(self._shape, np.clip(inner, 0, 1 - _CERTAIN))
        return np.where(share <= self._zeros, 0.0, wet)


def shift_mean(values: Array, trained: Array, observed: Array, *, ratio: bool) -> Array:
    """Return values by the difference, or the ratio, of the means.

    Parameters
    ----------
    values, trained, observed : ndarray of float64, shape (n, *cells), (m, *cells) and (k, *cells)
    ratio : bool

    Examples
    --------
    >>> shift_mean(np.array([5.0]), np.array([1.0, 3.0]), np.array([4.0]), ratio=True).tolist()
    [10.0]
    """
    if ratio:
        return np.asarray(values * _ratio(_mean(observed), _mean(trained)))
    return np.asarray(values + (_mean(observed) - _mean(trained)))


def shift_and_scale(
    values: Array, trained: Array, observed: Array, *, ratio: bool
) -> Array:
    """Return values by the difference of the means, departures by the ratio of the spreads.

    Of a ratio the factor makes up for the mean, and departures from the mean are scaled by the
    ratio of the coefficients of variation.

    Examples
    --------
    >>> trained, observed = np.array([0.0, 2.0]), np.array([10.0, 14.0])
    >>> shift_and_scale(np.array([2.0]), trained, observed, ratio=False).tolist()
    [14.0]
    """
    before, truth = _mean(trained), _mean(observed)
    spread = _ratio(_deviation(observed), _deviation(trained))
    if ratio:
        spread = spread * _ratio(before, truth)
        scaled = before + (values - before) * spread
        return np.maximum(shift_mean(scaled, trained, observed, ratio=True), 0.0)
    return np.asarray(truth + (values - before) * spread)


def map_quantiles(
    values: Array,
    trained: Array,
    observed: Array,
    *,
    ratio: bool,
    gamma: bool = False,
) -> Array:
    """Return the values that are as probable in the observations as values are in the model.

    Beyond the values of the training the change of the outermost one is kept.

    Notes
    -----
    Panofsky and Brier 1968, Some Applications of Statistics to Meteorology; Deque 2007, Global and
    Planetary Change 57, 16-26, for what lies beyond.

    Examples
    --------
    >>> trained, observed = np.array([1.0, 2.0, 3.0]), np.array([10.0, 20.0, 30.0])
    >>> map_quantiles(np.array([2.0, 4.0]), trained, observed, ratio=False).tolist()
    [20.0, 31.0]
    """
    if gamma:
        share = GammaWithZeros(trained).below(values)
        return GammaWithZeros(observed).quantile(share)
    model = Empirical(trained)
    mapped = Empirical(observed).quantile(model.below(values))
    inside = np.clip(values, *model.outermost())
    return _changed(mapped, values, inside, ratio=ratio)


def map_changes(
    values: Array,
    own: Array,
    trained: Array,
    observed: Array,
    *,
    ratio: bool,
) -> Array:
    """Return observed quantiles with the change that the model has at each quantile.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
    own : ndarray of float64, shape (l, *cells)
        All values of the model around these times, by which they have a probability.
    trained, observed : ndarray of float64

    Notes
    -----
    Quantile delta mapping (Cannon, Sobie and Murdock 2015, Journal of Climate 28, 6938-6959,
    equations 3 to 6).

    Examples
    --------
    >>> trained, observed = np.array([1.0, 2.0, 3.0]), np.array([10.0, 20.0, 30.0])
    >>> map_changes(trained + 5, trained + 5, trained, observed, ratio=False).tolist()
    [15.0, 25.0, 35.0]
    """
    share = Empirical(own).below(values)
    before = Empirical(trained).quantile(share)
    truth = Empirical(observed).quantile(share)
    return _changed(truth, values, before, ratio=ratio)


def map_without_change(
    values: Array,
    own: Array,
    trained: Array,
    observed: Array,
    *,
    ratio: bool,
) -> Array:
    """Return quantiles mapped without the change of the mean, which is put back.

    Notes
    -----
    Detrended quantile mapping (Bürger and others 2013, Journal of Climate 26; Cannon and others
    2015, equation 2).

    Examples
    --------
    >>> trained, observed = np.array([1.0, 2.0, 3.0]), np.array([10.0, 20.0, 30.0])
    >>> map_without_change(trained + 5, trained + 5, trained, observed, ratio=False).tolist()
    [15.0, 25.0, 35.0]
    """
    if ratio:
        change = _ratio(_mean(own), _mean(trained))
        inner = values / np.where(change > 0, change, 1.0)
        return np.asarray(change * map_quantiles(inner, trained, observed, ratio=True))
    shift = _mean(own) - _mean(trained)
    mapped = map_quantiles(values - shift, trained, observed, ratio=False)
    return np.asarray(shift + mapped)


def _changed(result: Array, values: Array, before: Array, *, ratio: bool) -> Array:
    """Return a result with the change from one value to another, which is a difference or a
    ratio."""
    return result * _ratio(values, before) if ratio else result + (values - before)


def _mean(values: Array) -> Array:
    """Return the mean of each cell; NaN where there is no value."""
    parts = Spread().gather(values, np.zeros(len(values), np.intp), 1, None)
    return np.where(parts.count[0] > 0, Spread().finish(parts)["mean"][0], np.nan)


def _deviation(values: Array) -> Array:
    parts = Spread().gather(values, np.zeros(len(values), np.intp), 1, None)
    return np.asarray(Spread().finish(parts)["deviation"][0])


def _ratio(top: Array, bottom: Array) -> Array:
    """Return a ratio; 1 where there is nothing to divide by."""
    result = np.where(
        np.isnan(bottom), np.nan, np.ones(np.broadcast(top, bottom).shape)
    )
    np.divide(top, bottom, out=result, where=bottom > 0)
    return result
