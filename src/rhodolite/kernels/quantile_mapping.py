"""Models brought to observations: by mean, by mean and spread, and quantile by quantile.

All functions take one cell: values of a model, of the same model in the years of training, and of
observations in these years.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import gamma_below, gamma_quantile
from rhodolite.kernels.drought_indices import fit_gamma

Array = NDArray[Any]
_CERTAIN = 1e-9
"""Probabilities nearer to 0 or 1 have no finite quantile."""


class Distribution(NamedTuple):
    """A distribution: the probability below values, and the value of probabilities."""

    below: Callable[[Array], Array]
    quantile: Callable[[Array], Array]


def empirical(sample: Array) -> Distribution:
    """Return the distribution of a sample, linear between its values in order.

    Parameters
    ----------
    sample : ndarray of float64, shape (n,)
        None of them missing, one at least.

    Notes
    -----
    Probabilities (place - 0.5) / n (Hazen 1914); of equal values that in their middle. Beyond the
    outermost values it stays at theirs.

    Examples
    --------
    >>> known = empirical(np.array([1.0, 3.0]))
    >>> known.below(np.array([1.0, 2.0, 9.0])).tolist(), float(known.quantile(np.array(0.5)))
    ([0.25, 0.5, 0.75], 2.0)
    """
    ordered = np.sort(sample)
    places = (np.arange(ordered.size) + 0.5) / ordered.size
    values, first, counts = np.unique(ordered, return_index=True, return_counts=True)
    middles = (first + counts / 2) / ordered.size

    def below(numbers: Array) -> Array:
        return np.asarray(np.interp(numbers, values, middles))

    def quantile(share: Array) -> Array:
        return np.asarray(np.interp(share, places, ordered))

    return Distribution(below, quantile)


def gamma_with_zeros(sample: Array) -> Distribution | None:
    """Return a gamma distribution fitted to the values above 0, with the share of zeros; None where
    there are too few.

    Parameters
    ----------
    sample : ndarray of float64, shape (n,)
    """
    shape, scale, zeros = (float(part) for part in fit_gamma(sample))
    if np.isnan(shape):
        return None

    def below(numbers: Array) -> Array:
        return (
            zeros + (1 - zeros) * gamma_below(shape, np.maximum(numbers, 0) / scale)[0]
        )

    def quantile(share: Array) -> Array:
        inner = np.clip((share - zeros) / (1 - zeros), 0.0, 1 - _CERTAIN)
        return np.where(share <= zeros, 0.0, scale * gamma_quantile(shape, inner))

    return Distribution(below, quantile)


def shift_mean(values: Array, trained: Array, observed: Array, *, ratio: bool) -> Array:
    """Return values by the difference, or the ratio, of the means.

    Parameters
    ----------
    values, trained, observed : ndarray of float64, shape (n,), (m,) and (k,)
        The last two without missing values.
    ratio : bool

    Examples
    --------
    >>> shift_mean(np.array([5.0]), np.array([1.0, 3.0]), np.array([4.0]), ratio=True).tolist()
    [10.0]
    """
    if ratio:
        return np.asarray(values * _ratio(observed.mean(), trained.mean()))
    return np.asarray(values + (observed.mean() - trained.mean()))


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
    scaled = values
    spread = _ratio(observed.std(ddof=1), trained.std(ddof=1))
    if ratio:
        spread *= _ratio(trained.mean(), observed.mean())
        scaled = trained.mean() + (values - trained.mean()) * spread
        return np.maximum(shift_mean(scaled, trained, observed, ratio=True), 0.0)
    return np.asarray(observed.mean() + (values - trained.mean()) * spread)


def map_quantiles(
    values: Array,
    trained: Array,
    observed: Array,
    *,
    ratio: bool,
    fit: Callable[[Array], Distribution | None] = empirical,
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
    model, truth = fit(trained), fit(observed)
    if model is None or truth is None:
        return np.full(values.shape, np.nan)
    mapped = truth.quantile(model.below(values))
    low, high = trained.min(), trained.max()
    inside = np.clip(values, low, high)
    if fit is not empirical:
        return mapped
    if ratio:
        factor = np.divide(values, inside, out=np.ones_like(values), where=inside > 0)
        return np.asarray(mapped * factor)
    return np.asarray(mapped + (values - inside))


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
    values : ndarray of float64, shape (n,)
    own : ndarray of float64, shape (l,)
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
    share = empirical(own).below(values)
    before = empirical(trained).quantile(share)
    truth = empirical(observed).quantile(share)
    if ratio:
        factor = np.divide(values, before, out=np.ones_like(values), where=before > 0)
        return np.asarray(truth * factor)
    return np.asarray(truth + (values - before))


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
        change = _ratio(own.mean(), trained.mean())
        inner = values / change if change > 0 else values
        return np.asarray(change * map_quantiles(inner, trained, observed, ratio=True))
    shift = own.mean() - trained.mean()
    mapped = map_quantiles(values - shift, trained, observed, ratio=False)
    return np.asarray(shift + mapped)


def _ratio(top: float, bottom: float) -> float:
    return float(top / bottom) if bottom > 0 else 1.0
