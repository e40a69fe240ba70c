"""Trends: how fast quantities change, and how sure that is."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar

import numpy as np

from rhodolite.arrays import Reduction
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.departures import holds_departures
from rhodolite.model.dataset import Dataset, Remark
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import of_differences
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.shares import check_share
from rhodolite.operations.trends.estimators import LineAccumulator, TrendWork
from rhodolite.operations.trends.false_discovery import FALSE_DISCOVERY_SOURCE
from rhodolite.operations.trends.result_variables import TrendResults
from rhodolite.operations.trends.sentence import TrendMapRemark, TrendSentence
from rhodolite.operations.trends.spec import (
    SerialCorrelation,
    Slope,
    Test,
    TrendSpec,
)
from rhodolite.operations.variables.along_time import (
    time_axis_of,
    variables_along_time,
    whole_period,
)

_FEWEST_STEPS = 3
_MOST_OF_A_YEAR = 0.9
_USUAL_CORRECTION = {
    Test.T: SerialCorrelation.AR1,
    Test.MANN_KENDALL: SerialCorrelation.PRE_WHITENING,
    Test.SEASONAL_MANN_KENDALL: SerialCorrelation.NONE,
}
"""Those with the fewest false findings in AR(1) noise, see docs/change.md; the seasonal test takes
account of it by itself."""


class Per(StrEnum):
    """The time that a slope is given for."""

    YEAR = "year"
    DECADE = "decade"
    CENTURY = "century"

    @property
    def years(self) -> int:
        return {Per.YEAR: 1, Per.DECADE: 10, Per.CENTURY: 100}[self]

    def units(self, of: str | None, power: int = 1) -> str | None:
        """Return the units of a slope of something with units, as UDUNITS reads them."""
        if of is None:
            return None
        time = f"year-{power}" if self is Per.YEAR else f"({self.years} year)-{power}"
        return time if of == "1" else f"{of} {time}"


@dataclass(frozen=True)
class Trend(Operation):
    """Slopes of change over time at each cell, with error, p-value and significance.

    The regressor is the decimal year in the calendar of the data, so that one calendar year is
    exactly 1. `least-squares` fits a line, or a parabola with `--order 2`, whose slope is given
    at the middle of the record, and uses a t test. `theil-sen` takes the median of the slopes
    between all pairs of values, with confidence limits after Sen, and uses the Mann-Kendall
    test. Serial correlation makes trends look more significant than they are, so it is taken
    into account by the correction that suits the test, unless `--serial-correlation none` is
    asked for: by the effective number of values (ar1) in the t test, by pre-whitening in the
    Mann-Kendall test. Grid cells need at least `--min-values`
    values. The annual cycle masks a trend, so remove it first with anomaly then trend, or use
    the seasonal test, which compares each month with the same month of other years.

    Examples
    --------
    >>> Trend(method="theil-sen", per="decade")  # doctest: +SKIP
    """

    method: Slope = parameter("slope estimator", default=Slope.LEAST_SQUARES)
    test: Test | None = parameter(
        "significance test (default: the one that suits the method)"
    )
    serial_correlation: SerialCorrelation | None = parameter(
        "how serial correlation is handled (default: the correction that suits the test)"
    )
    order: int = parameter("1 for a line, 2 for a parabola", default=1)
    per: Per = parameter("time unit of the slope", default=Per.DECADE)
    alpha: float = parameter("significance level (0 to 1)", default=0.05)
    false_discovery: bool = parameter(
        "control the false discovery rate (FDR) at alpha across the map", default=False
    )
    min_values: int = parameter(
        "minimum number of values per grid cell", default=_FEWEST_STEPS
    )

    prints_result: ClassVar[bool] = True
    """Whether the result of a single series is said in words."""

    def check(self) -> None:
        check_share("--alpha", self.alpha)
        if self.order not in (1, 2):
            raise UsageError(
                f"--order: '{self.order}' is not offered; write 1 for a line or 2 for a parabola"
            )
        if self.min_values < _FEWEST_STEPS:
            raise UsageError(
                f"--min-values: a trend needs at least {_FEWEST_STEPS} values"
            )
        self.spec.check()

    @property
    def spec(self) -> TrendSpec:
        """What is estimated at each cell."""
        usual = Test.T if self.method is Slope.LEAST_SQUARES else Test.MANN_KENDALL
        test = self.test or usual
        return TrendSpec(
            self.method,
            test,
            self.serial_correlation or _USUAL_CORRECTION[test],
            self.order,
            self.alpha,
            self.min_values,
        )

    @property
    def _corrected(self) -> bool:
        return self.serial_correlation is not SerialCorrelation.NONE

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        rate = (FALSE_DISCOVERY_SOURCE,) if self.false_discovery else ()
        return (*self.spec.sources, *rate)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of trends, without the time axis.

        Raises
        ------
        DataError
            If there is no time axis, or fewer than three steps.
        """
        axis = dataset.need_years()
        if len(axis) < self.min_values:
            raise DataError(
                f"{dataset.label}: a trend needs at least {self.min_values} times, and there are "
                f"{len(axis)}"
            )
        along_time, others = variables_along_time(dataset)
        if self.spec.test is not Test.SEASONAL_MANN_KENDALL:
            _warn_of_cycle(axis, along_time)
        coordinate = dataset.need(Role.TIME)
        time = whole_period(coordinate, axis)
        results: list[Variable] = []
        remarks: list[Remark] = []
        for variable in along_time:
            estimates = self.estimate(dataset, variable, axis, time[0].name)
            results += estimates
            if all(n == 1 for n in estimates[0].shape):
                remarks.append(self._sentence(dataset, variable, estimates))
            else:
                pvalue = next(v for v in estimates if v.name.endswith("_trend_pvalue"))
                remarks.append(TrendMapRemark(variable.name, self.alpha, pvalue))
        unlimited = dataset.unlimited - {str(coordinate.dimension)}
        return dataset.with_variables(
            [*others, *time, *results],
            unlimited=unlimited,
            remarks=(*dataset.remarks, *remarks),
        )

    def _sentence(
        self, dataset: Dataset, variable: Variable, estimates: list[Variable]
    ) -> TrendSentence:
        """Return what there is to say about a series, with the p-value of the other test."""
        spec = self.spec
        other = Trend(
            test=Test.MANN_KENDALL if spec.test is Test.T else Test.T,
            method=spec.other_method,
            alpha=self.alpha,
            serial_correlation=None if self._corrected else SerialCorrelation.NONE,
        )
        checked = other.estimate(dataset, variable, dataset.need_time(), "time")
        pvalue = next(test for test in checked if test.name.endswith("_trend_pvalue"))
        return TrendSentence(spec, str(self.per), variable, tuple(estimates), pvalue)

    def estimate(
        self, dataset: Dataset, variable: Variable, axis: TimeAxis, time: str
    ) -> list[Variable]:
        along = time_axis_of(dataset, variable)
        scale, units = of_differences(variable.units)
        factor = scale * self.per.years
        work = TrendWork.of(self.spec, axis, along, factor, self.per.years)
        merged, state = None, 0
        if self.spec.merges:
            merged = LineAccumulator(
                # From the middle of the series, so that parts of it merge without rounding.
                axis.decimal_years - np.median(axis.decimal_years),
                along,
                variable.shape,
                factor,
                self.min_values,
                self.alpha,
            )
            state = variable.data.size // max(len(axis), 1) * 8 * 12
        reduction = Reduction(variable.floats(), merged, work, state)
        years = float(np.ptp(axis.decimal_years))
        return TrendResults(
            variable=variable,
            along=along,
            time=time,
            reduction=reduction,
            spec=self.spec,
            units=units,
            rate=self.per.units(units),
            bend=self.per.units(units, 2),
            periods=years / self.per.years,
            years=years,
            alpha=self.alpha,
            false_discovery=self.false_discovery,
            order=self.order,
        ).variables()


def _warn_of_cycle(axis: TimeAxis, variables: list[Variable]) -> None:
    within_year = np.median(np.diff(np.sort(axis.decimal_years))) < _MOST_OF_A_YEAR
    if within_year and not all(map(holds_departures, variables)):
        warn(
            "the annual cycle is still in the data and masks trends; remove it first: "
            "anomaly then trend"
        )
