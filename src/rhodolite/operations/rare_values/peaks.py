"""The generalised Pareto distribution of peaks over a threshold."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.kernels.extreme_likelihood import fit_pareto_likelihood
from rhodolite.kernels.extreme_values import l_moments, plot_correlation
from rhodolite.kernels.gaps import spread_over_gaps
from rhodolite.kernels.order_statistics import percentile
from rhodolite.kernels.peaks import find_peaks, fit_pareto, pareto_quantile
from rhodolite.operations.rare_values.base import LEVEL, LOWER, UPPER, RareValues


@dataclass
class OverThreshold(RareValues):
    """Peaks over a threshold, fitted by L-moments or by maximum likelihood.

    Attributes
    ----------
    order : ndarray of int
        The steps in the order of time.
    years : float
        That a step is long.
    share : float or None
        Of the values below the threshold; else `threshold` is.
    threshold : float
    apart : int
        Steps that part clusters.
    likelihood : bool
        Whether they are fitted by likelihood.
    dtype : {"f4", "f8"}
        Type in which values are compared with a threshold that is an amount.
    places : ndarray of int, optional
        Where the steps stand among all, where some are left out; see `find_places`.
    """

    order: NDArray[np.intp]
    years: float
    share: float | None
    threshold: float
    apart: int
    likelihood: bool
    dtype: str
    places: NDArray[np.int64] | None

    @property
    def parameters(self) -> tuple[str, ...]:
        return ("threshold", "scale", "shape", "rate", "fit")

    def fit(self, values: Array) -> tuple[dict[str, Array], Array]:
        values = spread_over_gaps(values[self.order], self.places)
        known = (~np.isnan(values)).sum(axis=0)
        limit = np.full(values.shape[1], self.threshold * (-1 if self.low else 1))
        dtype = self.dtype
        if self.share is not None:
            limit, dtype = percentile(values, self.share), "f8"
        excess = _packed(find_peaks(values, limit, self.apart, dtype) - limit)
        count = (~np.isnan(excess)).sum(axis=0)
        enough = count >= self.min_values
        scale, k = (np.where(enough, part, np.nan) for part in self._fit_excess(excess))
        with np.errstate(divide="ignore", invalid="ignore"):
            rate = np.where(enough, count / (known * self.years), np.nan)
            above = np.minimum(1 / (rate * self.periods[:, None]), 1.0)
        results = {
            LEVEL: limit + pareto_quantile(scale, k, above),
            "threshold": np.where(enough, limit, np.nan),
            "scale": scale,
            "shape": np.where(np.isnan(k), np.nan, -k + 0.0),
            "rate": rate,
            "fit": plot_correlation(
                excess, lambda below: pareto_quantile(scale, k, 1 - below)
            ),
        }
        if self.sampling.samples:
            ends = self._limits(scale, k, count, above)
            results[LOWER], results[UPPER] = (limit + end for end in ends)
        return results, count

    def _limits(
        self, scale: Array, k: Array, count: Array, above: Array
    ) -> tuple[Array, Array]:
        """Return limits of excesses by samples, each fitted again (parametric bootstrap)."""
        low = np.full(above.shape, np.nan)
        high = low.copy()
        for _, cells, drawn in self.by_count(count, np.isfinite(k)):
            # Samples stand side by side, as cells do.
            for cell in cells:
                excess = pareto_quantile(scale[cell], k[cell], drawn.T)
                again = self._fit_excess(excess)
                levels = pareto_quantile(*again, above[:, cell][:, None])
                ends = np.nanquantile(levels, self.sampling.ends, axis=1)
                low[:, cell], high[:, cell] = ends
        return low, high

    def _fit_excess(self, excess: Array) -> tuple[Array, Array]:
        """Return scale and shape k at each cell."""
        _, first, second, _ = l_moments(excess)
        scale, k = fit_pareto(first, second)
        if not self.likelihood:
            return scale, k
        scale, shape = fit_pareto_likelihood(excess, scale, -k)
        return scale, -shape


def _packed(peaks: Array) -> Array:
    """Return peaks in order without the times at which no cell has one."""
    ordered = np.sort(peaks, axis=0)
    most = int((~np.isnan(peaks)).sum(axis=0).max(initial=1))
    return ordered[: max(most, 1)]
