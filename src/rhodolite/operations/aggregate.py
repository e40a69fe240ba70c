"""Statistics over days, months, seasons, years and other periods."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import (
    Array,
    LazyArray,
    Mapped,
    ResultOnDemand,
    Selected,
)
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.grouped_statistics import Count
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import MonthOfYear, Season
from rhodolite.model.time.step_bounds import Stamp
from rhodolite.model.time.time_intervals import Interval, divide
from rhodolite.model.units.conversion import Rescaling
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.parameters.statistic import MEAN, OFFERED, Measure, Measures
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.time_groups.group_results import GroupResults
from rhodolite.operations.time_groups.groups import Groups
from rhodolite.operations.time_groups.local_time import in_local_time
from rhodolite.operations.time_groups.periods import (
    FEW_STEPS,
    Periods,
    need_finer,
    warn_of_ends,
    with_ends,
)
from rhodolite.operations.time_groups.reduction import grouped_reduction, kernel_of
from rhodolite.operations.time_groups.result_attributes import describe_statistic
from rhodolite.operations.time_groups.several_statistics import each_statistic
from rhodolite.operations.time_groups.totals import TotalRule, adding, mean_weights
from rhodolite.operations.variables.along_time import (
    put_in_place,
    put_time_back,
    time_axis_of,
    variables_along_time,
)

_USUAL_COVERAGE = 0.64
"""Share of a period of many steps that most statistics need: 20 of 31 days."""
_HELD_AT_ONCE = 64 << 20
"""Bytes; the results of one statistic that can be gathered in memory."""


@dataclass(frozen=True)
class Aggregate(Operation):
    """Statistics over days, months, seasons, years and other periods.

    Time steps are weighted by their length, so the mean of a year of months equals the mean of
    its days. The sum of a rate over time is an amount (mm day-1 give mm); amounts are added,
    and monthly amounts have equal weight in a mean. Sums, and numbers of values above or below
    a threshold, require complete periods, and so does any statistic of at most twelve values,
    such as the months of a year; other statistics require 64 % of the values (20 of 31 days).
    Incomplete periods become missing.

    If the data hold the same months of every year only, a year consists of these months. Steps
    begin and end at their bounds; without bounds they begin at their time stamp, or end there
    with `--stamp end`. Days are those of UTC, or with `--utc-offset` of a place. A season that
    crosses the end of the year belongs to the year in which it ends, and so does a year that
    begins in a month other than January.

    Examples
    --------
    >>> Aggregate(to="year", statistic="count-above 10mm/day")  # doctest: +SKIP
    """

    to: Interval | None = parameter(
        "hour, 3hour, day, pentad, month, season, year, decade, or 10days",
        example="INTERVAL",
    )
    statistic: Measures = parameter(
        OFFERED,
        default=MEAN,
        example="NAME,...",
    )
    season: Season | None = parameter(
        "one season, in place of the four", example="jun..sep"
    )
    year_start: MonthOfYear | None = parameter(
        "month in which years begin", example="oct"
    )
    utc_offset: UtcOffset | None = parameter(
        "by how much local time is ahead of UTC, for days of a place", example="+09:00"
    )
    stamp: Stamp | None = parameter(
        "where each time lies within its step, for data without bounds"
    )
    min_coverage: float | None = parameter(
        "minimum fraction of each period that must be present (0 to 1)", example="0.9"
    )
    coverage: bool = parameter(
        "also write the fraction that is present, as a variable", default=False
    )

    @property
    def measure(self) -> Measure:
        """The statistic, of several the first."""
        return self.statistic.first

    def check(self) -> None:
        if self.to is None:
            raise UsageError(
                "aggregate: to what? Add --to month, or another of hour, 3hour, day, pentad, "
                "season, year, decade, 10days"
            )
        if self.season is not None and self.to.unit != "season":
            raise UsageError(f"--season goes with --to season, not with --to {self.to}")
        if self.year_start is not None and self.to.unit not in ("year", "decade"):
            raise UsageError(
                f"--year-start goes with --to year, not with --to {self.to}"
            )
        if self.min_coverage is not None:
            check_coverage(self.min_coverage)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with one step for each period that holds data.

        Raises
        ------
        DataError
            If there is no time axis, the data are coarser than the periods, or units do not go
            together.
        """
        if len(self.statistic.measures) > 1:
            return each_statistic(self, dataset)
        assert self.to is not None
        dataset = in_local_time(dataset, self.utc_offset)
        axis = with_ends(dataset, self.stamp)
        need_finer(axis, self.to)
        order = axis.order
        divided = divide(
            axis, self.to, self.season, self.year_start.number if self.year_start else 1
        )
        steps = order[divided.groups[order] >= 0]
        if not steps.size:
            raise DataError(
                f"{dataset.label}: no step lies in the season {self.season}"
            )
        added_up = self.measure.kind == "sum"
        periods = Periods(axis, divided, steps, self.to, added_up=added_up)
        share = self._required_coverage(periods)
        warn_of_ends(periods, share, self.to, counted=self.measure.kind == "count")
        along_time, _ = variables_along_time(dataset)
        results = {
            v.name: self._aggregate(dataset, v, periods, share) for v in along_time
        }
        coordinate = dataset.need(Role.TIME)
        time, bounds = periods.variables(coordinate)
        results[coordinate.name] = [time]
        others = [
            v
            for v in put_in_place(dataset, results)
            if v.name in results
            or coordinate.dimension not in v.dimensions
            or v.name.endswith("_coverage")
        ]
        return dataset.with_variables(
            [*(v for v in others if v.name != bounds.name), bounds]
        )

    def _required_coverage(self, periods: Periods) -> float:
        if self.min_coverage is not None:
            return self.min_coverage
        if self.measure.kind == "count":
            return 0.0
        return (
            1.0
            if self.measure.adds or periods.most_steps <= FEW_STEPS
            else _USUAL_COVERAGE
        )

    def _aggregate(
        self, dataset: Dataset, variable: Variable, periods: Periods, share: float
    ) -> list[Variable]:
        assert self.to is not None
        measure = self.measure.within(variable)
        along = time_axis_of(dataset, variable)
        sums = adding(variable, periods.axis, along) if measure.kind == "sum" else None
        weights, full = self._weights(variable, periods, sums)
        groups = Groups(
            variable.name,
            f"{self.to.adjective} values",
            periods.groups,
            periods.count,
            weights,
            full,
            share,
            periods.share < share - 1e-9,
            periods.breaks if measure.is_run else None,
        )
        picks: list[Array | None] = [None] * len(variable.shape)
        picks[along] = periods.steps
        source: LazyArray = variable.floats()
        if (
            periods.steps.size != len(periods.axis)
            or (np.diff(periods.steps) != 1).any()
        ):
            source = Selected(source, picks)
        shape = tuple(
            periods.count if at == along else n for at, n in enumerate(variable.shape)
        )
        data, covered = self._arrays(source, groups, measure, along, shape, sums)
        factor, units = _scale(variable, measure, sums, periods)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        attributes = describe_statistic(
            variable,
            self.measure,
            self.to.adjective,
            str(dataset.need(Role.TIME).name),
            periods.step_text,
            units,
            sums,
        )
        if self.coverage:
            attributes["ancillary_variables"] = f"{variable.name}_coverage"
        result = variable.derive(data, attributes=attributes)
        return [result, *_coverage_of(result, variable, covered)]

    def _weights(
        self, variable: Variable, periods: Periods, sums: TotalRule | None
    ) -> tuple[Array | None, Array]:
        """Return what each step and each whole period weighs."""
        if sums is None:
            return periods.weighing(mean_weights(variable, periods.axis))
        # How complete a sum of amounts is, is judged by the days that are there.
        return periods.weighing(
            periods.axis.lengths if sums.weights is None else sums.weights
        )

    def _arrays(
        self,
        source: LazyArray,
        groups: Groups,
        measure: Measure,
        along: int,
        shape: tuple[int, ...],
        sums: TotalRule | None,
    ) -> tuple[LazyArray, LazyArray | None]:
        """Return the statistic and, where it is asked for, the coverage: gathered at once, or
        period by period."""
        weighted = sums is not None and sums.weights is not None
        longest = int(np.bincount(groups.steps).max())
        if measure.merges:
            stream = math.prod(shape) * 12 > _HELD_AT_ONCE
        else:
            chunk = source.chunks or (1, *source.shape[1:])
            cells = math.prod(c for at, c in enumerate(chunk) if at != along)
            stream = cells * longest * 8 <= _HELD_AT_ONCE
        if stream:
            data, covered = _period_by_period(
                source, groups, measure, along, weighted=weighted
            )
            return data, covered if self.coverage else None
        reduction, name = grouped_reduction(
            source, groups, measure, along, weighted=weighted, coverage=self.coverage
        )
        first = (shape[along], *shape[:along], *shape[along + 1 :])
        data = put_time_back(reduction.output(name, first), along)
        return data, put_time_back(
            reduction.output("coverage", first), along
        ) if self.coverage else None


def _period_by_period(
    source: LazyArray, groups: Groups, measure: Measure, along: int, *, weighted: bool
) -> tuple[LazyArray, LazyArray]:
    """Return a measure of each period, and the share of it that is there, computed when they are
    read."""
    kernel, name = kernel_of(measure, weighted=weighted)
    results = GroupResults(source, groups, kernel, along, coverage=False)
    shares = GroupResults(source, groups, Count(), along, coverage=True, reports=False)
    return (
        put_time_back(ResultOnDemand(results, name), along),
        put_time_back(ResultOnDemand(shares, "coverage"), along),
    )


def _equal_length(periods: Periods, weights: Array | None) -> float:
    """Return the weight that all steps have in common, which sums have still to be multiplied by;
    1 where they differ, and are weighted one by one."""
    if weights is None or periods.weighing(weights)[0] is not None:
        return 1.0
    return float(weights[periods.steps[0]])


def _coverage_of(
    result: Variable, variable: Variable, covered: LazyArray | None
) -> list[Variable]:
    """Return the share of each period that was there, as a variable, where it was asked for."""
    if covered is None:
        return []
    about = {
        "long_name": f"share of each period with {variable.quantity}",
        "units": UNITS_OF_ONE,
        **placing_of(result),
    }
    data = Mapped(covered, np.asarray, "f4")
    return [Variable(f"{variable.name}_coverage", variable.dimensions, data, about)]


def _scale(
    variable: Variable, measure: Measure, sums: TotalRule | None, periods: Periods
) -> tuple[float, str | None]:
    """Return what to multiply a statistic by, and the units that it then has."""
    if sums is not None:
        return sums.factor * _equal_length(periods, sums.weights), sums.units
    return measure.rescaled(variable)
