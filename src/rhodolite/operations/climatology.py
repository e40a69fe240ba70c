"""The mean cycle over a base period, or another statistic of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import InMemory, LazyArray, Mapped
from rhodolite.errors import DataError, UsageError
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import Period
from rhodolite.model.units.conversion import Rescaling
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.baseline.base_period import (
    BASE_COVERAGE,
    FEWEST_YEARS,
    NORMALS_SOURCE,
    BasePeriod,
)
from rhodolite.operations.baseline.smooth_normals import check_smoothing, smooth_cycle
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.shares import (
    check_coverage,
    check_pool,
    check_years,
)
from rhodolite.operations.parameters.smoothing import Smoothing
from rhodolite.operations.parameters.statistic import MEAN, Measure, Measures
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.time_groups.local_time import in_local_time
from rhodolite.operations.time_groups.several_statistics import each_statistic
from rhodolite.operations.time_groups.totals import is_amount
from rhodolite.operations.variables.along_time import time_axis_of, variables_along_time
from rhodolite.operations.variables.cell_methods import climatology_attributes

BOUNDS = "climatology_bounds"


@dataclass(frozen=True)
class Climatology(Operation):
    """The mean cycle over a base period, or another statistic of it.

    For each phase of the cycle the statistic of all its time steps within the base period is
    computed, leaving missing values out. Steps of unequal length that share a phase, such as
    the months of a season, are weighted by their length. Months are those of the calendar of
    the data; seasons are DJF, MAM, JJA and SON; days have the same place in every year and
    calendar, and 29 February counts with the 28th. The output has climatological time (CF 7.4).

    `--pool 5` takes for each day the values of the two days before and after it in all years, too,
    of which there are then five times as many: the definition of the percentiles behind heat
    waves and warm days (WMO expert team on climate change detection and indices). `--smooth` is
    another thing: it smooths the statistics of single days.

    Examples
    --------
    >>> Climatology(base="1991..2020", cycle="season")  # doctest: +SKIP
    """

    base: Period | None = parameter(
        "base period (default: the whole record)", example="1991..2020"
    )
    cycle: Cycle = parameter(
        "the cycle: hour, day, month, season, year, none, or month+hour",
        default=Cycle.MONTH,
        example="CYCLE",
    )
    statistic: Measures = parameter(
        "one or more of mean, std, variance, median, p90, min, max, range or count",
        default=MEAN,
        example="NAME,...",
    )
    pool: int = parameter(
        "phases whose values are pooled for each, itself in their middle, such as 5 days "
        "(an odd number)",
        default=1,
    )
    smooth: Smoothing | None = parameter(
        "smooth the cycle: width of a centred window, or '3 harmonics'", example="31"
    )
    min_coverage: float = parameter(
        "minimum fraction of valid values in the base period (0 to 1)",
        default=BASE_COVERAGE,
    )

    min_years: int = parameter(
        "minimum number of years in the base period", default=FEWEST_YEARS
    )
    utc_offset: UtcOffset | None = parameter(
        "by how much local time is ahead of UTC, for days of a place", example="+09:00"
    )

    @property
    def measure(self) -> Measure:
        """The statistic, of several the first."""
        return self.statistic.first

    def check(self) -> None:
        check_coverage(self.min_coverage)
        check_years(self.min_years)
        check_pool(self.pool)
        for measure in self.statistic.measures:
            if measure.adds:
                raise UsageError(
                    f"--statistic {measure}: a sum over years is not a normal; take it of each "
                    f"month or year first: aggregate --to month --statistic '{measure}' then "
                    "climatology"
                )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return (NORMALS_SOURCE, *super().sources())

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with one step for each phase of the cycle.

        Raises
        ------
        DataError
            If there is no time axis, the data are coarser than the cycle, or the base is not
            covered.
        """
        if len(self.statistic.measures) > 1:
            return each_statistic(self, dataset)
        dataset = in_local_time(dataset, self.utc_offset)
        coverage = 0.0 if self.measure.counts else self.min_coverage
        base = BasePeriod.of(
            dataset, self.cycle, self.base, coverage, self.min_years, self.pool
        )
        self._check_pool(base)
        if self.smooth is not None:
            check_smoothing(self.smooth, base)
        along_time, others = variables_along_time(dataset)
        coordinate = dataset.need(Role.TIME)
        results = {variable.name: variable for variable in others}
        time = _time_variables(coordinate, base)
        results.update({v.name: v for v in time})
        for variable in along_time:
            results[variable.name] = self._normal(dataset, variable, base)
        order = [
            *(name for name in dataset.variables if name in results),
            *(v.name for v in time),
        ]
        return dataset.with_variables(
            [results[name] for name in dict.fromkeys(order)],
            unlimited=dataset.unlimited - {str(coordinate.dimension)},
        )

    def _check_pool(self, base: BasePeriod) -> None:
        phases = base.cycle.size(base.axis.calendar)
        if self.pool > 1 and (len(base.cycle.parts) > 1 or self.pool > phases):
            raise UsageError(
                f"--pool {self.pool}: the {base.cycle.word} cycle has {phases} phases"
                + (" of two kinds" if len(base.cycle.parts) > 1 else "")
            )
        if base.pool > 1 and base.weights is not None:
            raise DataError(
                f"--pool {self.pool}: steps of a phase differ in length, and cannot be pooled with "
                "those of others"
            )

    def _normal(
        self, dataset: Dataset, variable: Variable, base: BasePeriod
    ) -> Variable:
        reduction, name, shape = base.reduction(
            dataset,
            variable,
            self.measure.within(variable),
            read_once=self.smooth is None,
        )
        dtype = variable.floats().dtype
        data: LazyArray = reduction.output(
            name, shape, np.float64 if self.smooth else dtype
        )
        factor, _ = self.measure.rescaled(variable)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), data.dtype)
        attributes = climatology_attributes(
            variable,
            base.cycle,
            base.words,
            self.measure,
            str(dataset.need(Role.TIME).dimension),
            _step_of_amounts(variable, base),
        )
        if self.pool > 1:
            step = base.cycle.parts[0]
            attributes["comment"] = (
                f"values of {self.pool} {step}s around each are pooled"
            )
        if self.smooth is not None:
            data = smooth_cycle(self.smooth, data)
            said = [attributes.get("comment", "") if self.pool > 1 else ""]
            said.append(f"cycle smoothed: {self.smooth.words}")
            attributes["comment"] = "; ".join(text for text in said if text)
        along = time_axis_of(dataset, variable)
        dimensions = (
            variable.dimensions[along],
            *variable.dimensions[:along],
            *variable.dimensions[along + 1 :],
        )
        return variable.derive(data, dimensions=dimensions, attributes=attributes)


def _step_of_amounts(variable: Variable, base: BasePeriod) -> str:
    """Return the step of amounts that are shorter than a phase of the cycle; empty for all else."""
    step, part = base.axis.resolution, base.cycle.parts[-1]
    longer = {"hour": 0, "day": 1, "month": 28, "season": 90, "year": 360, "none": 360}[
        part
    ]
    lengths = base.axis.lengths
    shorter = lengths is not None and float(lengths.max()) < 0.9 * longer
    return (
        step.unit
        if shorter and step.count == 1 and is_amount(variable, base.axis)
        else ""
    )


def _time_variables(
    coordinate: Coordinate, base: BasePeriod
) -> tuple[Variable, Variable]:
    """Return climatological time and its bounds (CF 7.4), or ordinary ones where nothing repeats.

    A phase is placed in the middle of its first occurrence; its bounds run from the beginning of
    that to the end of its last.
    """
    axis, cycle, variable = base.axis, base.cycle, coordinate.variable
    ends = (
        coordinate.bounds_variable.dimensions[-1]
        if coordinate.bounds_variable
        else "bounds"
    )
    bounds = np.empty((base.present.size, 2))
    middles = np.empty(base.present.size)
    for row, phase in enumerate(base.present):
        first, last = (
            cycle.limits(int(phase), base.first, axis.calendar),
            cycle.limits(int(phase), base.last, axis.calendar),
        )
        once = (
            first[0] + (first[1] - first[0]) / 2
            if cycle.parts[-1] != "hour"
            else first[0]
        )
        middles[row] = axis.to_number(once)
        bounds[row] = axis.to_number(first[0]), axis.to_number(last[1])
    name, key = (
        (f"{coordinate.name}_bnds", "bounds")
        if cycle == Cycle.NONE
        else (BOUNDS, "climatology")
    )
    if cycle == Cycle.NONE:
        middles = bounds.mean(axis=1)
    time = variable.edit("bounds", **{key: name}).replace(
        data=InMemory(middles), storage=Storage(), missing=None
    )
    return time, Variable(name, (*variable.dimensions, ends), InMemory(bounds))
