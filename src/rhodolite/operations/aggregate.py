"""Statistics over days, months, seasons, years and other periods."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, FirstAxisMoved, InMemory, LazyArray, Mapped, Selected
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.month_units import month_start
from rhodolite.model.time.period_text import MONTH_TITLES, MonthOfYear, Season
from rhodolite.model.time.step_bounds import Stamp, ends_at_stamps
from rhodolite.model.time.time_axis import TimeAxis, format_date
from rhodolite.model.time.time_intervals import Divided, Interval, divide
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.udunits import square_units
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.baseline.base_period import (
    check_coverage,
    put_in_place,
    time_axis_of,
    variables_along_time,
)
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.period_array import PeriodArray
from rhodolite.operations.time_groups.reduction import Groups, grouped_reduction
from rhodolite.operations.time_groups.totals import TotalRule, adding, is_amount
from rhodolite.operations.variables.cell_methods import aggregate_attributes

_USUAL_COVERAGE = 0.64
"""Share of a period of many steps that most statistics need: 20 of 31 days."""
_FEW_STEPS = 12
"""Of a period of so few steps, such as the months of a year, none may be missing."""
_LONGEST_MONTH = 31
"""Days."""
_HELD_AT_ONCE = 64 << 20
"""Bytes; the results of one statistic that can be gathered in memory."""


@dataclass(frozen=True)
class Aggregate(Operation):
    """Statistics over days, months, seasons, years and other periods.

    Steps of unequal length count by their length, so the mean of a year of months is one of days.
    The sum of a rate over time is an amount (mm day-1 give mm); amounts are added, and months of
    them count alike in a mean. A sum, and a number of values above or below a threshold, needs
    every value of its period, and so does any statistic of at most twelve values, such as the
    months of a year; others need 64 % of them (20 of 31 days), and what has less is missing. Where
    the data hold the same months of every year alone, years are of these. Steps begin and end at
    their bounds; without bounds they begin at their time, or end there with `--stamp end`. A season
    that crosses the end of the year belongs to the year in which it ends, and so does a year that
    begins in another month than January.

    Examples
    --------
    >>> Aggregate(to="year", statistic="count-above 10mm/day")  # doctest: +SKIP
    """

    to: Interval | None = parameter(
        "hour, 3hour, day, pentad, month, season, year, decade, or 10days", example="INTERVAL"
    )
    statistic: Measure = parameter(
        "mean, sum, min, max, range, std, variance, median, count, p90, or count-above, "
        "count-below, "
        "longest-run-above or longest-run-below and a threshold, such as 1mm/day",
        default=Measure("mean"),
        example="NAME",
    )
    season: Season | None = parameter("one season, in place of the four", example="jun..sep")
    year_start: MonthOfYear | None = parameter("month in which years begin", example="oct")
    stamp: Stamp | None = parameter("where in its step each time stands, for data without bounds")
    min_coverage: float | None = parameter(
        "share of each period that has to be there", example="0.9"
    )
    coverage: bool = parameter("write the share that is there as a variable too", default=False)

    def check(self) -> None:
        if self.to is None:
            raise UsageError(
                "aggregate: to what? Add --to month, or another of hour, 3hour, day, pentad, "
                "season, "
                "year, decade, 10days"
            )
        if self.season is not None and self.to.unit != "season":
            raise UsageError(f"--season goes with --to season, not with --to {self.to}")
        if self.year_start is not None and self.to.unit not in ("year", "decade"):
            raise UsageError(f"--year-start goes with --to year, not with --to {self.to}")
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
        assert self.to is not None
        axis = _with_ends(dataset, self.stamp)
        _need_finer(axis, self.to)
        order = np.argsort(axis.middles, kind="stable")
        divided = divide(
            axis, self.to, self.season, self.year_start.number if self.year_start else 1
        )
        steps = order[divided.groups[order] >= 0]
        if not steps.size:
            raise DataError(f"{dataset.label}: no step lies in the season {self.season}")
        periods = _Periods(axis, divided, steps, self.to)
        share = self._share(periods)
        _warn_of_ends(periods, share, self.to, counted=self.statistic.kind == "count")
        along_time, _ = variables_along_time(dataset)
        made = {v.name: self._aggregate(dataset, v, periods, share) for v in along_time}
        coordinate = dataset.need(Role.TIME)
        time, bounds = periods.variables(coordinate)
        made[coordinate.name] = [time]
        kept = [
            v
            for v in put_in_place(dataset, made)
            if v.name in made
            or coordinate.dimension not in v.dimensions
            or v.name.endswith("_coverage")
        ]
        return dataset.with_variables([*(v for v in kept if v.name != bounds.name), bounds])

    def _share(self, periods: _Periods) -> float:
        if self.min_coverage is not None:
            return self.min_coverage
        if self.statistic.kind == "count":
            return 0.0
        return 1.0 if self.statistic.adds or periods.most_steps <= _FEW_STEPS else _USUAL_COVERAGE

    def _aggregate(
        self, dataset: Dataset, variable: Variable, periods: _Periods, share: float
    ) -> list[Variable]:
        assert self.to is not None
        measure = self.statistic.within(variable)
        sums = adding(variable, periods.axis) if measure.kind == "sum" else None
        weights, full = periods.weighing(alike=sums is None and is_amount(variable, periods.axis))
        groups = Groups(
            variable.name,
            f"{self.to.adjective} values",
            periods.groups,
            periods.count,
            weights,
            full,
            share,
            periods.share < share - 1e-9,
        )
        along = time_axis_of(dataset, variable)
        picks: list[Array | None] = [None] * len(variable.shape)
        picks[along] = periods.steps
        source: LazyArray = variable.floats()
        if periods.steps.size != len(periods.axis) or (np.diff(periods.steps) != 1).any():
            source = Selected(source, picks)
        shape = tuple(periods.count if at == along else n for at, n in enumerate(variable.shape))
        data, covered = self._arrays(source, groups, measure, along, shape, sums)
        factor, units = _scale(variable, measure, sums, periods)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        dtype = variable.floats().dtype
        attributes = aggregate_attributes(
            variable,
            self.statistic,
            self.to.adjective,
            str(dataset.need(Role.TIME).name),
            periods.step_text,
        )
        attributes = {key: value for key, value in attributes.items() if key != "units"}
        if units is not None:
            attributes["units"] = units
        if sums is not None:
            attributes.pop("standard_name", None)
            attributes |= {"standard_name": sums.standard_name} if sums.standard_name else {}
        name = f"{variable.name}_coverage"
        if self.coverage:
            attributes["ancillary_variables"] = name
        storage = Storage(dtype=variable.storage.dtype)
        result = variable.replace(
            data=Mapped(data, np.asarray, dtype),
            attributes=attributes,
            storage=storage,
            missing=None,
        )
        if covered is None:
            return [result]
        about = {
            "long_name": f"share of each period with {variable.quantity}",
            "units": UNITS_OF_ONE,
        }
        kept = {
            key: value
            for key, value in attributes.items()
            if key in ("coordinates", "grid_mapping")
        }
        return [
            result,
            Variable(
                name, variable.dimensions, Mapped(covered, np.asarray, "f4"), {**about, **kept}
            ),
        ]

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
        weighted = sums is not None and sums.of_rates
        longest = int(np.bincount(groups.steps).max())
        if measure.merges:
            stream = math.prod(shape) * 12 > _HELD_AT_ONCE
        else:
            chunk = source.chunks or (1, *source.shape[1:])
            cells = math.prod(c for at, c in enumerate(chunk) if at != along)
            stream = cells * longest * 8 <= _HELD_AT_ONCE
        if stream:

            def made(coverage: bool) -> LazyArray:
                return PeriodArray(
                    source, groups, measure, along, weighted=weighted, coverage=coverage
                )

            return made(False), made(True) if self.coverage else None
        reduction, name = grouped_reduction(
            source, groups, measure, along, weighted=weighted, coverage=self.coverage
        )
        first = (shape[along], *shape[:along], *shape[along + 1 :])
        arrays = [
            reduction.output(name, first),
            *([reduction.output("coverage", first)] if self.coverage else []),
        ]
        moved: list[LazyArray] = [
            array if along == 0 else FirstAxisMoved(array, along) for array in arrays
        ]
        return moved[0], moved[1] if self.coverage else None


class _Periods:
    """The periods of a time axis, the steps in them, and how complete they can be.

    Attributes
    ----------
    axis : TimeAxis
    steps : ndarray of int
        Indices of the steps that lie in a period, in the order of time.
    groups : ndarray of int
        The period of each of these.
    weights : ndarray of float64 or None
        Days of each of these, where they differ.
    full : ndarray of float64
        For each period its days, or the number of steps that fit into it.
    share : ndarray of float64
        For each period the part of it that the steps cover.
    chosen : tuple of int
        The months that the data hold of every year, where others were left out of all; else empty.
    """

    def __init__(self, axis: TimeAxis, divided: Divided, steps: Array, interval: Interval) -> None:
        self.axis, self.divided, self.steps = axis, divided, steps
        self.groups = divided.groups[steps]
        self.count = divided.days.size
        lengths = None if axis.lengths is None else axis.lengths[steps]
        equal = lengths is None or np.ptp(lengths) < 1e-6 * lengths[0]
        self.days = None if lengths is None else float(lengths[0])
        self.weights = None if equal else lengths
        held = np.bincount(self.groups, self.weights, minlength=self.count)
        by_month = (
            interval.unit in ("year", "decade")
            and lengths is not None
            and lengths.max() <= _LONGEST_MONTH
        )
        self.chosen = _chosen_months(axis.months[steps], self.groups) if by_month else ()
        days = divided.days
        if self.chosen:
            days = np.array(
                [
                    _days_of_months(axis, *ends, self.chosen)
                    for ends in zip(divided.starts, divided.stops, strict=True)
                ]
            )
        self.full = days if not equal else held if self.days is None else days / self.days
        self.share = held / self.full

    @property
    def most_steps(self) -> float:
        """How many steps the period with the most of them would have if none were missing."""
        counts = np.bincount(self.groups, minlength=self.count)
        return float(np.max(np.rint(counts / np.minimum(self.share, 1.0))))

    def weighing(self, *, alike: bool) -> tuple[Array | None, Array]:
        """Return the weights of the steps and of whole periods; `alike` weighs all steps the same,
        as totals do."""
        if not alike or self.weights is None:
            return self.weights, self.full
        return None, np.bincount(self.groups, minlength=self.count) / self.share

    @property
    def step_text(self) -> str:
        """The distance between steps, as cell methods have it; empty where it varies."""
        step = self.axis.resolution
        return "" if step.unit in ("irregular", "single") else f"{step.count} {step.unit}"

    def variables(self, coordinate: Coordinate) -> tuple[Variable, Variable]:
        """Return the times, in the middle of the periods, and their bounds."""
        name = f"{coordinate.name}_bnds"
        if coordinate.bounds_variable is not None:
            name = coordinate.bounds_variable.name
        ends = coordinate.bounds_variable.dimensions[-1] if coordinate.bounds_variable else "bnds"
        bounds = np.stack([self.divided.starts, self.divided.stops], axis=1)
        time = coordinate.variable.edit(
            "climatology", "actual_range", "valid_range", "valid_min", "valid_max", bounds=name
        )
        time = time.replace(data=InMemory(bounds.mean(axis=1)), storage=Storage(), missing=None)
        return time, Variable(name, (*time.dimensions, ends), InMemory(bounds))


def _with_ends(dataset: Dataset, stamp: Stamp | None) -> TimeAxis:
    """Return the time axis, with the ends of its steps worked out anew where it is known how they
    are stamped."""
    axis = dataset.need_time()
    if stamp is not None:
        return axis.stamped(stamp)
    along = [v for v in dataset.data_variables if dataset.need(Role.TIME).dimension in v.dimensions]
    if ends_at_stamps(axis) and not all(
        "point" in str(v.attributes.get("cell_methods", "")) for v in along
    ):
        dates = [
            format_date(date)
            for date in (axis.dates[np.argmin(axis.numbers)], axis.dates[np.argmax(axis.numbers)])
        ]
        warn(
            f"{axis.name} has no bounds and runs from {dates[0]} to {dates[1]}, so each step is "
            "taken to end at its "
            "time; --stamp start if it begins there"
        )
        return axis.stamped(Stamp.END)
    return axis


def _need_finer(axis: TimeAxis, interval: Interval) -> None:
    """Refuse periods that are shorter than the steps."""
    lengths = axis.lengths
    if lengths is not None and interval.days < float(np.min(lengths)) * 0.9 and len(axis) > 1:
        raise DataError(
            f"the data have one value {axis.resolution}, so there is nothing to aggregate to "
            f"{interval}; "
            "choose a longer interval"
        )


def _chosen_months(months: Array, groups: Array) -> tuple[int, ...]:
    """Return the months that data of a part of each year hold; empty where they hold all, or of one
    year alone."""
    held = np.unique(months)
    if held.size == 12:
        return ()
    per_period = np.unique(np.stack([groups, months]), axis=1)[0]
    whole = np.bincount(per_period) == held.size
    return tuple(int(month) for month in held) if np.count_nonzero(whole) > 1 else ()


def _days_of_months(axis: TimeAxis, start: float, stop: float, months: tuple[int, ...]) -> float:
    """Return the days that some months of the year have between two times."""
    first, after = axis.to_dates(np.array([start, stop]))
    numbers = range(first.year * 12 + first.month - 1, after.year * 12 + after.month - 1)
    spans = [
        month_start(0, at + 2, axis.calendar) - month_start(0, at + 1, axis.calendar)
        for at in numbers
        if at % 12 + 1 in months
    ]
    return float(sum(span.total_seconds() for span in spans) / 86400)


def _warn_of_ends(periods: _Periods, share: float, interval: Interval, *, counted: bool) -> None:
    """Name the periods that cannot be complete, since the data do not cover them."""
    short = np.flatnonzero(periods.share < share - 1e-9)
    if short.size:
        warn(
            f"{short.size:,} of {periods.count:,} {interval.adjective} values are missing "
            "everywhere, since the data "
            f"hold too little of their periods: from {_name_periods(periods, short, interval)}; "
            "--min-coverage changes how "
            "much is needed"
        )
    if periods.chosen:
        names = ", ".join(MONTH_TITLES[month - 1] for month in periods.chosen)
        warn(f"the data hold {names} alone, so the {interval.adjective} values are of these months")
    kept = np.flatnonzero((periods.share >= share - 1e-9) & (periods.share < 1 - 1e-9))
    if kept.size and not counted:
        warn(
            f"{kept.size:,} of {periods.count:,} {interval.adjective} values are of periods that "
            "the data hold in "
            f"part: from {_name_periods(periods, kept, interval)}"
        )


def _name_periods(periods: _Periods, which: Array, interval: Interval) -> str:
    dates = periods.axis.to_dates(periods.divided.starts[which[:4]])
    named = ", ".join(
        f"{_name_date(date, interval)} ({part:.0%} there)"
        for date, part in zip(dates, periods.share[which[:4]], strict=True)
    )
    return named + (f" and {which.size - 4:,} more" if which.size > 4 else "")


def _name_date(date: Any, interval: Interval) -> str:
    if (date.day, date.hour) == (1, 0) and interval.unit in ("month", "season", "year", "decade"):
        return f"{date.year:04d}-{date.month:02d}"
    return format_date(date)


def _scale(
    variable: Variable, measure: Measure, sums: TotalRule | None, periods: _Periods
) -> tuple[float, str | None]:
    """Return what to multiply a statistic by, and the units that it then has."""
    if sums is not None:
        length = (
            1.0 if periods.weights is not None or not sums.of_rates else float(periods.days or 1.0)
        )
        return sums.factor * length, sums.units
    if measure.counts:
        return 1.0, UNITS_OF_ONE
    if measure.kind in ("std", "range", "variance"):
        factor, units = of_differences(variable.units)
        if measure.kind == "variance":
            return factor**2, None if units is None else square_units(units)
        return factor, units
    return 1.0, variable.units
