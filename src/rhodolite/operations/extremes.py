"""Levels that are exceeded once in many years, from the largest value of each year."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import Engine, InMemory, LazyArray, Mapped, Reduction
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import first_days
from rhodolite.model.time.period_numbers import (
    chosen_months,
    find_places,
    number_periods,
)
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units, is_difference
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.peak_threshold import PeakThreshold
from rhodolite.operations.parameters.return_periods import ReturnPeriods
from rhodolite.operations.parameters.shares import check_share
from rhodolite.operations.rare_values.base import RareValues, Sampling
from rhodolite.operations.rare_values.block_maxima import ByLikelihood, ByMoments
from rhodolite.operations.rare_values.peaks import OverThreshold
from rhodolite.operations.variables.along_time import (
    time_axis_of,
    variables_along_time,
    whole_period,
)
from rhodolite.plain_text import write_rounded

PERIOD = "return_period"
_COLES = "Coles 2001, An Introduction to Statistical Modeling of Extreme Values"
_FEWEST = 10
_SHORTEST_YEAR = 0.98
"""Of a year, that steps are apart at least."""
_LONGEST_STEP = 1.5 / 12
_COMMON_YEAR = 2001 * 12 + np.arange(13)
_FARTHEST = 4
"""How many times the record a return period may be before it is said that it is far."""


class FitMethod(StrEnum):
    """How a distribution is fitted."""

    MOMENTS = "l-moments"
    LIKELIHOOD = "likelihood"


class Tail(StrEnum):
    """Which end of the values is rare."""

    HIGH = "high"
    LOW = "low"


@dataclass(frozen=True)
class Extremes(Operation):
    """Levels that are exceeded once in so many years, from the largest value of each year.

    The input has one value a year, such as the largest: aggregate --to year --statistic max then
    extremes. To these a generalised extreme value distribution is fitted at each cell by L-moments,
    or with `--method likelihood` by maximum likelihood; the level of a return period of T years is
    exceeded in a year with the probability 1/T. With `--above 98%`, or an amount, the input has all
    days, and a generalised Pareto distribution is fitted to the peaks over that threshold, which
    lie at least `--apart` steps from each other. Limits are those of samples drawn from the fitted
    distribution, by random numbers that are the same in every run and at every cell; `--seed` takes
    others. With `--tail low` smallest values are expected, and levels are fallen below. Where the
    climate changes during the record, levels are those of its middle at best; `--trend` fits a
    trend of the location too, tests it, and gives the levels of the last year.

    Examples
    --------
    >>> Extremes(periods="10,50,100")  # doctest: +SKIP
    """

    periods: ReturnPeriods = parameter(
        "return periods in years",
        default=ReturnPeriods((10.0, 50.0, 100.0)),
        example="10,50,100",
    )
    tail: Tail = parameter("which end of the values is rare", default=Tail.HIGH)
    method: FitMethod = parameter(
        "how the distribution of largest values is fitted", default=FitMethod.MOMENTS
    )
    trend: bool = parameter(
        "with a trend of the location, by likelihood", default=False
    )
    above: PeakThreshold | None = parameter(
        "peaks over a threshold instead: a share of the values, or an amount",
        example="98%|20mm/day",
    )
    apart: int = parameter("steps between two peaks, with --above", default=3)
    confidence: float = parameter(
        "share of the samples between the limits of a level (0 to 1)", default=0.95
    )
    samples: int = parameter(
        "number of samples for the limits; 0 for none", default=500
    )
    seed: int = parameter("start of the random numbers", default=0)
    min_values: int = parameter("minimum number of years per grid cell", default=20)

    prints_result: ClassVar[bool] = True
    """Whether the result of a single series is said in words."""

    def check(self) -> None:
        check_share("--confidence", self.confidence)
        if self.samples < 0 or 0 < self.samples < 100:
            raise UsageError(
                f"--samples {self.samples}: limits need at least 100 samples; 0 leaves them out"
            )
        if self.trend and self.method is not FitMethod.LIKELIHOOD:
            raise UsageError("--trend is fitted by likelihood; add --method likelihood")
        if self.above is not None and self.trend:
            raise UsageError(
                "--above: a trend is one of largest values; leave one of both out"
            )
        if self.apart < 1:
            raise UsageError(
                f"--apart {self.apart}: write a number of steps, 1 or more"
            )
        if self.min_values < _FEWEST:
            raise UsageError(
                f"--min-values {self.min_values}: a distribution of three parameters needs at "
                f"least {_FEWEST} values"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        if self.method is FitMethod.LIKELIHOOD:
            return (_COLES,)
        if self.above is not None:
            return ("Hosking and Wallis 1987, Technometrics 29, 339-349", _COLES)
        return ("Hosking and Wallis 1997, Regional Frequency Analysis",)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of levels and parameters, without the time axis.

        Raises
        ------
        DataError
            If there is no time axis, there are several values a year, or too few of them.
        """
        axis = dataset.need_years()
        self._check_times(dataset, axis)
        along_time, others = variables_along_time(dataset)
        coordinate = dataset.need(Role.TIME)
        results: list[Variable] = []
        remarks = list(dataset.remarks)
        for variable in along_time:
            levels = self._of(dataset, variable, axis)
            results += levels
            if variable.data.ndim == 1 or variable.data.size == len(axis):
                remarks.append(_Sentence(self, variable, tuple(levels[:3])))
        time = whole_period(coordinate, axis)
        described = [self._period_axis()] if len(self.periods.years) > 1 else []
        return dataset.with_variables(
            [*others, *time, *described, *results],
            unlimited=dataset.unlimited - {str(coordinate.dimension)},
            remarks=tuple(remarks),
        )

    def _check_times(self, dataset: Dataset, axis: TimeAxis) -> None:
        apart = np.diff(np.sort(axis.decimal_years))
        word = "max" if self.tail is Tail.HIGH else "min"
        longest = max(self.periods.years)
        span = _years_of_step(axis) * len(axis)
        if longest > _FARTHEST * span:
            warn(
                f"a return period of {longest:g} years is more than {_FARTHEST} times the "
                f"{span:.0f} years of the data, and its level is a guess"
            )
        if self.above is not None:
            return
        if apart.size and apart.min() < _SHORTEST_YEAR:
            raise DataError(
                f"{dataset.label} has several values a year; take one of each first: aggregate "
                f"--to year --statistic {word} then extremes; or take peaks with --above 98%"
            )
        if len(axis) < self.min_values:
            raise DataError(
                f"{dataset.label} has {len(axis)} values, one a year, and {self.min_values} are "
                f"needed; --min-values {max(len(axis), _FEWEST)} asks for fewer"
            )

    def _of(
        self, dataset: Dataset, variable: Variable, axis: TimeAxis
    ) -> list[Variable]:
        """Return levels, their limits, and the parameters of the distribution."""
        along = time_axis_of(dataset, variable)
        work = self._work(variable, axis, along)
        reduction = Reduction(variable.floats(), series=work)
        cells = tuple(n for at, n in enumerate(variable.shape) if at != along)
        dims = tuple(d for at, d in enumerate(variable.dimensions) if at != along)
        results = []
        for ending, (before, _) in work.outputs().items():
            dimensions = (PERIOD, *dims) if before else dims
            data: LazyArray = reduction.output(ending, (*before, *cells))
            kind, words = _RESULTS[ending]
            factor = of_differences(variable.units)[0]
            if kind in ("difference", "trend") and factor != 1.0:
                data = Mapped(data, Rescaling(factor, 0.0), "f8")
            title = words.format(what=variable.quantity, level=self._level(variable))
            about = {"long_name": title, **self._attributes(variable, kind, axis)}
            name, storage = f"{variable.name}_{ending}", self._storage(variable)
            results.append(Variable(name, dimensions, data, about, storage))
        return results

    def _storage(self, variable: Variable) -> Storage:
        return Storage(dtype=np.dtype(variable.precision).name)

    def _work(self, variable: Variable, axis: TimeAxis, along: int) -> RareValues:
        """Return how levels are found."""
        sampling = Sampling(self.samples, self.confidence, self.seed)
        periods, low = np.array(self.periods.years), self.tail is Tail.LOW
        shared = (along, periods, low, self.min_values, sampling)
        if self.above is None:
            if self.method is FitMethod.MOMENTS:
                return ByMoments(*shared)
            return ByLikelihood(*shared, axis.decimal_years if self.trend else None)
        years = _years_of_step(axis)
        share, amount = self.above.share, np.nan
        if share is None:
            amount = self.above.within(variable)
        likelihood = self.method is FitMethod.LIKELIHOOD
        return OverThreshold(
            *shared,
            axis.order,
            years,
            share,
            amount,
            self.apart,
            likelihood,
            variable.precision,
            find_places(axis),
        )

    def _level(self, variable: Variable) -> str:
        """Return what a level is, in words."""
        word = "exceeded" if self.tail is Tail.HIGH else "fallen below"
        each = "each return period"
        if len(self.periods.years) == 1:
            each = f"{self.periods} years"
        share = f"{100 * self.confidence:.3g} %"
        return f"level ({share} limits) of {variable.quantity} that is {word} once in {each}"

    def _attributes(
        self, variable: Variable, kind: str, axis: TimeAxis
    ) -> dict[str, Any]:
        about = placing_of(variable)
        about["comment"] = self._comment(axis)
        plain = {"number": UNITS_OF_ONE, "rate": "year-1"}
        if kind in plain:
            return {**about, "units": plain[kind]}
        units, difference = variable.units, is_difference(variable)
        if kind in ("difference", "trend"):
            units, difference = of_differences(units)[1], True
        about |= describe_units(units, difference=difference)
        if units and kind == "trend":
            about["units"] = f"{units} (10 year)-1"
        return about

    def _comment(self, axis: TimeAxis) -> str:
        how = "by L-moments, Hosking and Wallis 1987 and 1997"
        if self.method is FitMethod.LIKELIHOOD:
            how = "by maximum likelihood, Coles 2001"
        if self.above is not None:
            return (
                f"generalised Pareto distribution of peaks above {self.above}, at least "
                f"{self.apart} steps from each other, {how}; limits by parametric bootstrap; the "
                "tail is heavy where the shape is above 0"
            )
        if self.trend:
            how += f", with a trend of the location; levels are those of {axis.years.max()}"
        return (
            f"generalised extreme value distribution {how}; limits by parametric bootstrap; the "
            "tail is heavy where the shape is above 0 and bounded where it is below"
        )

    def _period_axis(self) -> Variable:
        about = {"long_name": "return period", "units": "year"}
        return Variable(
            PERIOD, (PERIOD,), InMemory(np.array(self.periods.years)), about
        )


def _years_of_step(axis: TimeAxis) -> float:
    """Return which part of a year each step is on average: of the days of summers alone, one of the
    days that summers have; steps that are left out in between are none."""
    years, spacing = np.ptp(axis.decimal_years), axis.spacing
    count = len(axis)
    if spacing.unit not in ("irregular", "single"):
        numbers = number_periods(axis, spacing.unit, spacing.count)
        count = int(np.ptp(numbers)) + 1
    step = float(years) / max(count - 1, 1)
    months = chosen_months(axis.months, axis.years)
    if step > _LONGEST_STEP or not months:
        return step
    days = np.diff(first_days(_COMMON_YEAR, axis.calendar))
    return step / float(days[np.array(months) - 1].sum() / days.sum())


_RESULTS = {
    "return_level": ("value", "{level}"),
    "return_level_lower": ("value", "lower limit of the {level}"),
    "return_level_upper": ("value", "upper limit of the {level}"),
    "location": ("value", "location of the extreme values of {what}"),
    "threshold": ("value", "threshold of the peaks of {what}"),
    "scale": ("difference", "scale of the extreme values of {what}"),
    "shape": ("number", "shape of the extreme values of {what}"),
    "rate": ("rate", "peaks of {what} in a year"),
    "fit": ("number", "correlation of {what} with the fitted quantiles"),
    "location_trend": ("trend", "trend of the location of {what}"),
    "trend_pvalue": ("number", "p-value of the trend of the location of {what}"),
}
"""For each result of which units it is, and its words."""


@dataclass(frozen=True)
class _Sentence:
    """What there is to say about the levels of a single series."""

    step: Extremes
    variable: Variable
    levels: tuple[Variable, ...]

    def text(self, engine: Engine) -> str:
        """Return a line for each return period."""
        numbers = [v.values(engine).reshape(-1) for v in self.levels]
        units = pretty(self.variable.units)
        lines = []
        for at, years in enumerate(self.step.periods.years):
            level = write_rounded(numbers[0][at], 4)
            line = f"{self.variable.name}: once in {years:g} years {level}"
            if self.step.samples:
                share = f"{100 * self.step.confidence:.3g} %"
                low, high = (write_rounded(ends[at], 4) for ends in numbers[1:3])
                line += f" ({share}: {low} to {high})"
            lines.append(f"{line} {units}".strip())
        return "\n".join(lines)
