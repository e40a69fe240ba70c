"""The generalised extreme value distribution of the largest value of each year."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
from scipy.special import chdtrc

from rhodolite.arrays import Array
from rhodolite.kernels.extreme_likelihood import Likely, fit_likelihood
from rhodolite.kernels.extreme_values import (
    fit_extremes,
    l_moments,
    limits_of_levels,
    plot_correlation,
    quantile,
)
from rhodolite.operations.rare_values.base import LEVEL, LOWER, UPPER, RareValues

_DECADE = 10.0


@dataclass
class ByMoments(RareValues):
    """Fitted by L-moments."""

    @property
    def parameters(self) -> tuple[str, ...]:
        return ("location", "scale", "shape", "fit")

    def fit(self, values: Array) -> tuple[dict[str, Array], Array]:
        count, *moments = l_moments(values)
        enough = count >= self.min_values
        fitted = fit_extremes(*moments)
        location, scale, k = (np.where(enough, part, np.nan) for part in fitted)
        below = 1 - 1 / self.periods
        results = {
            LEVEL: quantile(location, scale, k, below[:, None]),
            "location": location,
            "scale": scale,
            "shape": np.where(np.isnan(k), np.nan, -k + 0.0),
            "fit": plot_correlation(values, partial(quantile, location, scale, k)),
        }
        if self.sampling.samples:
            ends = self._limits((location, scale, k), count, below)
            results[LOWER], results[UPPER] = ends
        return results, count

    def _limits(
        self, fitted: tuple[Array, ...], count: Array, below: Array
    ) -> tuple[Array, Array]:
        low = np.full((below.size, count.size), np.nan)
        high = low.copy()
        for size, cells, drawn in self.by_count(count, np.isfinite(fitted[2])):
            location, scale, k = (part[cells] for part in fitted)
            ordered = np.sort(drawn, axis=1)
            low[:, cells], high[:, cells] = limits_of_levels(
                (location, scale, k), size, below, ordered, self.sampling.confidence
            )
        return low, high


@dataclass
class ByLikelihood(RareValues):
    """Fitted by maximum likelihood, on request with a trend of the location.

    Attributes
    ----------
    years : ndarray of float64, optional
        Decimal years of the values, where there is a trend; levels are then those of the last.
    """

    years: Array | None = None

    @property
    def parameters(self) -> tuple[str, ...]:
        trend = () if self.years is None else ("location_trend", "trend_pvalue")
        return ("location", "scale", "shape", "fit", *trend)

    def fit(self, values: Array) -> tuple[dict[str, Array], Array]:
        count, *moments = l_moments(values)
        location, scale, k = fit_extremes(*moments)
        enough = count >= self.min_values
        scale = np.where(enough, scale, np.nan)
        covariate = self._covariate()
        likely = fit_likelihood(values, location, scale, -k, covariate)
        last = 0.0 if covariate is None else float(covariate[self._last])
        place = likely.location + likely.slope * last
        below = 1 - 1 / self.periods
        moved = (
            values if covariate is None else values - covariate[:, None] * likely.slope
        )
        still_place = partial(quantile, likely.location, likely.scale, -likely.shape)
        results = {
            LEVEL: quantile(place, likely.scale, -likely.shape, below[:, None]),
            "location": place,
            "scale": likely.scale,
            "shape": likely.shape,
            "fit": plot_correlation(moved, still_place),
        }
        if covariate is not None:
            still = fit_likelihood(values, location, scale, -k)
            ratio = 2 * np.maximum(still.loss - likely.loss, 0.0)
            results["location_trend"] = likely.slope / self._half_span * _DECADE
            # Twice the gain of the logarithm is chi-squared (Coles 2001, section 2.6.6).
            results["trend_pvalue"] = chdtrc(1, ratio)
        if self.sampling.samples:
            results[LOWER], results[UPPER] = self._limits(values, likely, count, last)
        return results, count

    @property
    def _half_span(self) -> float:
        assert self.years is not None
        return float(np.ptp(self.years) / 2)

    @property
    def _last(self) -> int:
        assert self.years is not None
        return int(self.years.argmax())

    def _covariate(self) -> Array | None:
        """Return the times from -1 to 1; None without a trend."""
        if self.years is None:
            return None
        middle = (self.years.max() + self.years.min()) / 2
        return np.asarray((self.years - middle) / self._half_span)

    def _limits(
        self, values: Array, likely: Likely, count: Array, last: float
    ) -> tuple[Array, Array]:
        """Return limits by samples of the fitted distribution, each fitted again (parametric
        bootstrap)."""
        below = 1 - 1 / self.periods
        low = np.full((below.size, count.size), np.nan)
        high = low.copy()
        covariate = self._covariate()
        for cell in np.flatnonzero(np.isfinite(likely.shape)):
            parts = [
                part[cell] for part in (likely.location, likely.scale, likely.shape)
            ]
            there = ~np.isnan(values[:, cell])
            random = np.random.default_rng([self.sampling.seed, int(count[cell])])
            drawn = random.random((int(count[cell]), self.sampling.samples))
            sample = quantile(parts[0], parts[1], -parts[2], drawn)
            along = None if covariate is None else covariate[there]
            if along is not None:
                sample = sample + along[:, None] * likely.slope[cell]
            location, scale, shape = (
                np.full(self.sampling.samples, part) for part in parts
            )
            again = fit_likelihood(
                sample, location, scale, shape, along, thorough=False
            )
            place = again.location + again.slope * last
            levels = quantile(place, again.scale, -again.shape, below[:, None])
            ends = np.nanquantile(levels, self.sampling.ends, axis=1)
            low[:, cell], high[:, cell] = ends
        return low, high
