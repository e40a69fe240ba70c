"""What is asked of each cell about its trend, and the answer from sums or from its whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Accumulator, Array, Region, SeriesKernel, whole
from rhodolite.errors import UsageError, warn
from rhodolite.kernels.autocorrelation import (
    autocorrelation,
    effective_size,
)
from rhodolite.kernels.distributions import t_quantile
from rhodolite.kernels.gaps import spread_over_gaps
from rhodolite.kernels.line_fit import (
    LineSums,
    fit_line,
    line_sums,
    merge_line_sums,
    pvalue_of_slope,
)
from rhodolite.kernels.moments import equal_values
from rhodolite.kernels.polynomial_fit import fit_polynomial
from rhodolite.kernels.rank_trends import (
    kendall_statistic,
    kendall_variance,
    normal_pvalue,
    pairwise_trend,
    prewhiten,
    seasonal_kendall,
    variance_growth,
)
from rhodolite.model.time.period_numbers import find_places
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.operations.trends.spec import SerialCorrelation, Slope, Test, TrendSpec


@dataclass
class LineAccumulator(Accumulator):
    """Lines through the values of each cell, from sums.

    Parameters
    ----------
    years : ndarray of float64
        Decimal year of each step.
    axis : int
        Where time lies in the source.
    shape : tuple of int
        Of the source.
    factor : float
        What slopes and errors are multiplied by.
    fewest : int
        Values that a cell needs.
    alpha : float
        The limits hold 1 - alpha.
    """

    years: Array
    axis: int
    shape: tuple[int, ...]
    factor: float
    fewest: int = 3
    alpha: float = 0.05
    _sums: LineSums | None = None
    _cells: Region = ()

    def start(self) -> Self:
        return replace(self, _sums=None, _cells=())

    def add(self, block: Array, region: Region) -> None:
        self._sums = line_sums(
            self.years[region[self.axis]], np.moveaxis(block, self.axis, 0)
        )
        self._cells = region[: self.axis] + region[self.axis + 1 :]

    def merge(self, other: Self) -> None:
        if self._sums is None:
            cells = self.shape[: self.axis] + self.shape[self.axis + 1 :]
            self._sums, self._cells = LineSums.empty(cells), whole(cells)
        assert other._sums is not None
        merge_line_sums(self._sums, other._sums, other._cells)

    def finish(self) -> dict[str, Array]:
        sums = self._sums or LineSums.empty(
            self.shape[: self.axis] + self.shape[self.axis + 1 :]
        )
        line = fit_line(sums)
        reach = -t_quantile(np.maximum(sums.count - 2, 1), self.alpha / 2) * line.error
        values_of_line = {
            "slope": line.slope,
            "error": line.error,
            "lower": line.slope - reach,
            "upper": line.slope + reach,
        }
        scaled = {
            name: values * self.factor for name, values in values_of_line.items()
        } | {"pvalue": line.pvalue}
        return {
            name: np.where(sums.count < self.fewest, np.nan, values)
            for name, values in scaled.items()
        }


@dataclass
class TrendWork(SeriesKernel):
    """The answer to a question from whole series.

    Parameters
    ----------
    question : TrendSpec
    axis : int
        Where time lies in the source.
    order : ndarray of int
        Steps in the order of time.
    years : ndarray of float64
        Their decimal years.
    seasons, whole_years : ndarray of int
        Their place within the year, and the year.
    factor : float
        What slopes and errors are multiplied by.
    unit : float
        Years that a slope is given for.
    places : ndarray of int, optional
        Where they stand among all steps, where some are left out; see `find_places`.
    """

    question: TrendSpec
    axis: int
    order: NDArray[np.intp]
    years: Array
    seasons: NDArray[np.int64]
    whole_years: NDArray[np.int64]
    factor: float
    unit: float
    places: NDArray[np.int64] | None

    @classmethod
    def of(
        cls, question: TrendSpec, axis: TimeAxis, along: int, factor: float, unit: float
    ) -> Self:
        """Return the work for a time axis.

        Raises
        ------
        UsageError
            If seasons are asked for of data that have less than one value a month, or more.
        """
        order = axis.order
        seasons, years = axis.months[order], axis.years[order]
        phases = set(zip(seasons.tolist(), years.tolist(), strict=True))
        seasonal = question.test is Test.SEASONAL_MANN_KENDALL
        if seasonal and np.unique(years).size < 2:
            raise UsageError(
                f"--test {question.test} holds each month or season against those of other years, "
                "and the data are of one year; use --test mann-kendall"
            )
        if seasonal and (len(phases) < len(axis) or np.unique(seasons).size < 2):
            raise UsageError(
                f"--test {question.test} needs one value for each month or season of a year, and "
                f"the data have {axis.step}; aggregate --to month first, or use --test mann-kendall"
            )
        return cls(
            question,
            along,
            order,
            axis.decimal_years[order],
            seasons,
            years,
            factor,
            unit,
            find_places(axis),
        )

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        names = [
            "slope",
            *self.question.bounds,
            "pvalue",
            *self.question.persistence_results,
        ]
        names += (
            ["acceleration", "acceleration_error"] if self.question.order == 2 else []
        )
        return {name: ((), np.dtype("f8")) for name in names}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values, infinite = _without_infinities(block[self.order])
        least_squares = self.question.method is Slope.LEAST_SQUARES
        estimates = (
            self._least_squares(values) if least_squares else self._ranks(values)
        )
        if least_squares and self.question.test is not Test.T:
            estimates["pvalue"] = self._pvalue(values, estimates["slope"])
        if self.question.test is Test.MANN_KENDALL:
            estimates |= self._persistence(values, estimates["slope"])
        count = (~np.isnan(values)).sum(axis=0)
        low, high = (
            part(np.where(count, values, 0), axis=0) for part in (np.nanmin, np.nanmax)
        )
        flat = equal_values(low, high) & (count > 0)
        for name in estimates:
            if name == "pvalue":
                estimates[name] = np.where(flat, 1.0, estimates[name])
            elif name not in self.question.persistence_results:
                estimates[name] = np.where(
                    flat & np.isfinite(estimates[name]),
                    0.0,
                    estimates[name] * self.factor,
                )
            estimates[name] = np.where(
                count < self.question.fewest, np.nan, estimates[name]
            )
        return estimates, Counter(infinite=infinite, of=count.size)

    def report(self, counts: Counter[str]) -> None:
        if counts["infinite"]:
            warn(
                f"{counts['infinite']:,} of {counts['of']:,} cells have infinite values, and no "
                "trend; where these stand for missing ones: --missing-value inf"
            )

    def _least_squares(self, values: Array) -> dict[str, Array]:
        fit = fit_polynomial(self.years, values, self.question.order)
        freedom, persistence = fit.freedom.astype(np.float64), {}
        if self.question.persistence is SerialCorrelation.AR1:
            r = autocorrelation(spread_over_gaps(fit.residuals, self.places))
            persistence = {
                "autocorrelation": r,
                "effective_size": effective_size(fit.count, r),
            }
            freedom = persistence["effective_size"] - self.question.order - 1
        known = freedom > 0
        divisor = np.where(known, freedom, 1.0)
        variance = np.where(known, fit.squares / divisor, np.nan)
        slope, leverage = fit.slope()
        error = np.sqrt(variance * leverage)
        reach = -t_quantile(divisor, self.question.alpha / 2) * error
        squares = {
            "slope": slope,
            "error": error,
            "lower": slope - reach,
            "upper": slope + reach,
            "pvalue": pvalue_of_slope(slope, error, divisor),
            **persistence,
        }
        if self.question.order == 2:
            bend, leverage = fit.acceleration()
            # One more power of time, so one more factor.
            squares["acceleration"] = bend * self.unit
            squares["acceleration_error"] = np.sqrt(variance * leverage) * self.unit
        return squares

    def _ranks(self, values: Array) -> dict[str, Array]:
        seasonal = self.question.test is Test.SEASONAL_MANN_KENDALL
        seasons = self.seasons if seasonal else None
        variance = kendall_variance(values)
        if seasonal:
            variance = seasonal_kendall(values, self.seasons, self.whole_years)[1]
        score, slope, low, high = pairwise_trend(
            self.years, values, seasons, variance, self.question.alpha
        )
        if not seasonal and self.question.persistence is not SerialCorrelation.NONE:
            pvalue = self._pvalue(values, slope)
        else:
            pvalue = normal_pvalue(score, variance)
        return {"slope": slope, "lower": low, "upper": high, "pvalue": pvalue}

    def _persistence(self, values: Array, slope: Array) -> dict[str, Array]:
        """Return what is found of serial correlation where ranks are tested."""
        names = self.question.persistence_results
        rest = values - slope * self.years.reshape(-1, *(1,) * (values.ndim - 1))
        about = (
            {"autocorrelation": autocorrelation(spread_over_gaps(rest, self.places))}
            if names
            else {}
        )
        if "effective_size" in names:
            growth = self._variance_growth(values, slope)
            about["effective_size"] = (~np.isnan(values)).sum(axis=0) / growth
        return about

    def _pvalue(self, values: Array, slope: Array) -> Array:
        """Return the p-value of the Mann-Kendall test that is asked for."""
        if self.question.test is Test.SEASONAL_MANN_KENDALL:
            return normal_pvalue(
                *seasonal_kendall(values, self.seasons, self.whole_years)
            )
        if self.question.persistence is SerialCorrelation.PRE_WHITENING:
            years, values = (
                spread_over_gaps(a, self.places) for a in (self.years, values)
            )
            values = prewhiten(years, values, slope)
        variance = kendall_variance(values)
        if self.question.persistence is SerialCorrelation.HAMED_RAO:
            variance = variance * self._variance_growth(values, slope)
        return normal_pvalue(kendall_statistic(values), variance)

    def _variance_growth(self, values: Array, slope: Array) -> Array:
        years, values = (spread_over_gaps(a, self.places) for a in (self.years, values))
        return np.maximum(variance_growth(years, values, slope), 1e-3)


def _without_infinities(values: Array) -> tuple[Array, int]:
    """Return values without those of cells with infinite ones, and how many cells these are."""
    infinite = np.isinf(values).any(axis=0)
    count = int(np.count_nonzero(infinite))
    return (np.where(infinite, np.nan, values) if count else values), count
