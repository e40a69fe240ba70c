"""How trends are asked for: slopes, tests, serial correlation, and what fits together."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from rhodolite.errors import UsageError


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
