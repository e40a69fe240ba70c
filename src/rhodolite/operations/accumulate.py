"""Running totals since the start of each year, season or month."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, FirstAxisMoved, Reduction, SeriesKernel
from rhodolite.errors import UsageError, warn
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import MONTH_TITLES, MonthOfYear
from rhodolite.model.time.step_bounds import Stamp
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_intervals import Interval, divide
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.selection.indices import take_steps
from rhodolite.operations.time_groups.periods import with_ends
from rhodolite.operations.time_groups.totals import adding
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)


class Reset(StrEnum):
    """When a running total starts again."""

    YEAR = "year"
    SEASON = "season"
    MONTH = "month"
    NEVER = "never"


class Gaps(StrEnum):
    """What a missing value does to a running total."""

    STOP = "stop"
    SKIP = "skip"


class LeapDay(StrEnum):
    """What becomes of 29 February."""

    KEEP = "keep"
    DROP = "drop"


@dataclass(frozen=True)
class Accumulate(Operation):
    """Running totals since the start of each year, season or month.

    Rates become amounts by the length of their time steps; amounts are added. After a gap, or
    where the data begin within a year, the total is unknown and therefore missing until the
    next start; `--gaps skip` treats missing values as zero. Without 29 February all years have
    the same days, so that they can be drawn over each other; what fell on that day is included
    in the total of 1 March.

    Examples
    --------
    >>> Accumulate(reset="year", start="oct")  # doctest: +SKIP
    """

    reset: Reset = parameter("when the total restarts from zero", default=Reset.YEAR)
    start: MonthOfYear | None = parameter("month in which years start", example="oct")
    gaps: Gaps = parameter(
        "treatment of missing values: the total stops, or skips them", default=Gaps.STOP
    )
    leap_day: LeapDay = parameter(
        "whether 29 February is kept as a time step", default=LeapDay.KEEP
    )

    stamp: Stamp | None = parameter(
        "where each time lies within its step, for data without bounds"
    )

    def check(self) -> None:
        if self.start is not None and self.reset is not Reset.YEAR:
            raise UsageError(
                f"--start goes with --reset year, not with --reset {self.reset}"
            )

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of running totals, on the grid and times of the input.

        Raises
        ------
        DataError
            If there is no time axis, or rates have steps of unknown length.
        """
        axis = with_ends(dataset, self.stamp)
        along_time, _ = variables_along_time(dataset)
        results = {
            variable.name: [self._total(dataset, variable, axis)]
            for variable in along_time
        }
        result = dataset.with_variables(put_in_place(dataset, results))
        if self.leap_day is LeapDay.DROP and axis.calendar != "360_day":
            common_days = np.flatnonzero((axis.months != 2) | (axis.days != 29))
            result = take_steps(result, common_days)
        return result

    def _total(self, dataset: Dataset, variable: Variable, axis: TimeAxis) -> Variable:
        along = time_axis_of(dataset, variable)
        sums = adding(variable, axis, along)
        groups, broken = self._groups(axis)
        factors = (
            np.ones(len(axis)) if sums.weights is None else sums.weights * sums.factor
        )
        order = axis.order
        parts = [
            order[groups[order] == group] for group in range(int(groups.max()) + 1)
        ]
        work = _RunningTotal(
            variable.name, along, parts, broken, factors, self.gaps is Gaps.SKIP
        )
        first = (len(axis), *variable.shape[:along], *variable.shape[along + 1 :])
        total = FirstAxisMoved(
            Reduction(variable.floats(), series=work).output("value", first), along
        )
        since = {
            Reset.YEAR: "since the start of "
            f"{MONTH_TITLES[(self.start.number if self.start else 1) - 1]}",
            Reset.SEASON: "since the start of the season",
            Reset.MONTH: "since the start of the month",
            Reset.NEVER: "since the start of the data",
        }[self.reset]
        changed = variable.derive(total).edit(
            "standard_name",
            "cell_methods",
            "units",
            "units_metadata",
            long_name=f"total {variable.quantity} {since}",
            comment="running total",
        )
        if sums.units:
            changed = changed.edit(units=sums.units)
        return changed

    def _groups(self, axis: TimeAxis) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """Return the stretch that each step adds to, and before which steps others are left out."""
        order = axis.order
        groups, begun = np.zeros(len(axis), np.int64), axis.middle_ticks[order[:1]]
        if self.reset is not Reset.NEVER:
            divided = divide(
                axis,
                Interval(self.reset.value),
                None,
                self.start.number if self.start else 1,
            )
            groups, begun = divided.groups, divided.limits[:, 0]
        broken = np.zeros(len(axis), bool)
        first = np.concatenate([[True], np.diff(groups[order]) != 0])
        if axis.cell_ticks is None:  # nothing says where irregular steps begin
            return groups, broken
        starts, stops = axis.cell_ticks[order].T
        before = np.where(
            first, begun[groups[order]], np.concatenate([begun[:1], stops[:-1]])
        )
        broken[order] = starts - before > 0.01 * (stops - starts)
        if self.reset is Reset.NEVER:
            broken[order[0]] = False
        return groups, broken


@dataclass
class _RunningTotal(SeriesKernel):
    label: str
    axis: int
    parts: list[NDArray[np.intp]]
    broken: NDArray[np.bool_]
    factors: Array
    skip: bool

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((len(self.broken),), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = block * self.factors.reshape(-1, *(1,) * (block.ndim - 1))
        missing = np.isnan(values)
        if self.skip:
            values[missing] = 0.0
        for members in self.parts:
            part = np.cumsum(values[members], axis=0)
            if not self.skip:
                part[np.maximum.accumulate(self.broken[members])] = np.nan
            values[members] = part
        lost = np.isnan(values) & ~missing
        return {"value": values}, Counter(
            skipped=int(missing.sum()) * self.skip, lost=int(lost.sum()), of=lost.size
        )

    def report(self, counts: Counter[str]) -> None:
        if counts["skipped"]:
            warn(
                f"{self.label}: {counts['skipped']:,} of {counts['of']:,} values are missing and "
                "add nothing"
            )
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} totals are missing, since "
                "values before them are; --gaps skip treats missing values as zero"
            )
