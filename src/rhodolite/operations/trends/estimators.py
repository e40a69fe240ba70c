"""What is asked of each cell about its trend, and the answer from sums or from its whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Accumulator, Array, Region, SeriesKernel, whole
from rhodolite.errors import UsageError, warn
from rhodolite.kernels.autocorrelation import autocorrelation, effective_size
from rhodolite.kernels.distributions import t_quantile
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
from rhodolite.model.time.time_axis import TimeAxis


class Slope(StrEnum):
    """How slopes are found."""

    LEAST_SQUARES = "least-squares"
    THEIL_SEN = "theil-sen"


class Test(StrEnum):
    """What decides whether there is a trend."""

    T = "t"
    MANN_KENDALL = "mann-kendall"
    SEASONAL_MANN_KENDALL = "seasonal-mann-kendall"

    __test__ = False  # it is not a test of the program


class SerialCorrelation(StrEnum):
    """How serial correlation is handled."""

    NONE = "none"
    AR1 = "ar1"
    HAMED_RAO = "hamed-rao"
    PRE_WHITENING = "pre-whitening"


LEAST_SQUARES_SOURCE = "Draper and Smith 1998, Applied Regression Analysis, chapter 1"
_SOURCES = {
    Slope.LEAST_SQUARES: LEAST_SQUARES_SOURCE,
    Slope.THEIL_SEN: "Sen 1968, Journal of the American Statistical Association 63, 1379-1389",
    Test.MANN_KENDALL: "Kendall 1975, Rank Correlation Methods, chapter 4",
    Test.SEASONAL_MANN_KENDALL: "Hirsch, Slack and Smith 1982, Water Resources Research 18, "
    "107-121",
    SerialCorrelation.AR1: "Santer and others 2000, Journal of Geophysical Research 105, 7337-7356",
    SerialCorrelation.HAMED_RAO: "Hamed and Rao 1998, Journal of Hydrology 204, 182-196",
    SerialCorrelation.PRE_WHITENING: "Wang and Swail 2001, Journal of Climate 14, 2204-2221",
}
"""Where the formulas of each come from; that of the t test is that of the slope."""


@dataclass(frozen=True)
class TrendSpec:
    """What is asked of each cell; see `Trend`."""

    method: Slope
    test: Test
    persistence: SerialCorrelation
    order: int
    alpha: float
    fewest: int

    def check(self) -> None:
        """Refuse choices that do not go together."""
        if self.order == 2 and (
            self.method is not Slope.LEAST_SQUARES or self.test is not Test.T
        ):
            raise UsageError(
                "--order 2 is a fit by least squares; it goes with --test t alone"
            )
        if self.method is Slope.THEIL_SEN and self.test is Test.T:
            raise UsageError(
                "--test t belongs to --method least-squares; for theil-sen write --test "
                "mann-kendall"
            )
        fitting = {
            SerialCorrelation.AR1: Test.T,
            SerialCorrelation.HAMED_RAO: Test.MANN_KENDALL,
            SerialCorrelation.PRE_WHITENING: Test.MANN_KENDALL,
        }.get(self.persistence, self.test)
        if fitting is not self.test:
            raise UsageError(
                f"--serial-correlation {self.persistence} goes with --test {fitting}, not with "
                f"{self.test}"
            )

    @property
    def sources(self) -> tuple[str, ...]:
        """Where the formulas come from."""
        choices = (self.method, self.test, self.persistence)
        return tuple(_SOURCES[choice] for choice in choices if choice in _SOURCES)

    @property
    def persistence_results(self) -> dict[str, str]:
        """Results that say how serial correlation was found to be, and what they are called."""
        words = {
            "autocorrelation": "detrended lag-1 autocorrelation",
            "effective_size": "effective sample size",
        }
        if self.persistence is SerialCorrelation.NONE:
            return {}
        if self.persistence is SerialCorrelation.PRE_WHITENING:
            del words["effective_size"]
        return words

    @property
    def merges(self) -> bool:
        """Whether sums over parts of the series are enough."""
        return (
            self.method is Slope.LEAST_SQUARES
            and self.test is Test.T
            and self.order == 1
            and self.persistence is SerialCorrelation.NONE
        )

    @property
    def other_method(self) -> Slope:
        """The method whose own test is not the one asked for."""
        return Slope.THEIL_SEN if self.test is Test.T else Slope.LEAST_SQUARES

    @property
    def bounds(self) -> dict[str, str]:
        """Results that say how well the slope is known, and what they are called."""
        share = f"{1 - self.alpha:.4g}".rstrip("0")
        limits = {
            "lower": f"lower limit (confidence {share})",
            "upper": f"upper limit (confidence {share})",
        }
        return (
            {"error": "standard error", **limits}
            if self.method is Slope.LEAST_SQUARES
            else limits
        )

    @property
    def slope_words(self) -> str:
        """How slopes are found, for the metadata."""
        if self.method is Slope.THEIL_SEN:
            pairs = (
                "pairs of the same season"
                if self.test is Test.SEASONAL_MANN_KENDALL
                else "all pairs"
            )
            return f"median of the slopes between {pairs} (Theil and Sen), limits after Sen 1968"
        return "least squares on decimal years" + (
            ", slope of a parabola at the middle" if self.order == 2 else ""
        )

    @property
    def test_words(self) -> str:
        """How significance is found, for the metadata."""
        after = {
            SerialCorrelation.NONE: "values taken as independent",
            SerialCorrelation.AR1: "effective sample size after Santer and others 2000",
            SerialCorrelation.HAMED_RAO: "variance corrected after Hamed and Rao 1998",
            SerialCorrelation.PRE_WHITENING: "pre-whitening free of the trend after Wang and Swail "
            "2001",
        }[self.persistence]
        if self.test is Test.SEASONAL_MANN_KENDALL:
            return (
                "seasonal Mann-Kendall test with covariance between seasons, "
                "Hirsch and Slack 1984"
            )
        name = (
            "two-sided t test"
            if self.test is Test.T
            else "Mann-Kendall test, corrected for ties and continuity"
        )
        return f"{name}, {after}"


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
    """

    question: TrendSpec
    axis: int
    order: NDArray[np.intp]
    years: Array
    seasons: NDArray[np.int64]
    whole_years: NDArray[np.int64]
    factor: float
    unit: float

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
            r = autocorrelation(fit.residuals)
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
        about = {"autocorrelation": autocorrelation(rest)} if names else {}
        if "effective_size" in names:
            growth = np.maximum(variance_growth(self.years, values, slope), 1e-3)
            about["effective_size"] = (~np.isnan(values)).sum(axis=0) / growth
        return about

    def _pvalue(self, values: Array, slope: Array) -> Array:
        """Return the p-value of the Mann-Kendall test that is asked for."""
        if self.question.test is Test.SEASONAL_MANN_KENDALL:
            return normal_pvalue(
                *seasonal_kendall(values, self.seasons, self.whole_years)
            )
        if self.question.persistence is SerialCorrelation.PRE_WHITENING:
            values = prewhiten(self.years, values, slope)
        variance = kendall_variance(values)
        if self.question.persistence is SerialCorrelation.HAMED_RAO:
            variance = variance * np.maximum(
                variance_growth(self.years, values, slope), 1e-3
            )
        return normal_pvalue(kendall_statistic(values), variance)


def _without_infinities(values: Array) -> tuple[Array, int]:
    """Return values without those of cells with infinite ones, and how many cells these are."""
    infinite = np.isinf(values).any(axis=0)
    count = int(np.count_nonzero(infinite))
    return (np.where(infinite, np.nan, values) if count else values), count
