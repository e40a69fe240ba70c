"""Normals: a statistic of each phase of a cycle over a base period, and how complete it has to
be."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, LazyArray, Reduction, Selected
from rhodolite.errors import DataError
from rhodolite.kernels.grouped_statistics import Statistic
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import Period
from rhodolite.model.time.steps_of_periods import steps_within
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.groups import Groups
from rhodolite.operations.time_groups.pooled import PooledSeries
from rhodolite.operations.time_groups.reduction import grouped_reduction, kernel_of
from rhodolite.operations.time_groups.totals import mean_weights
from rhodolite.operations.variables.along_time import time_axis_of

NORMALS_SOURCE = (
    "Eaton et al. 2023, Climate and Forecast Metadata Conventions 1.11, section 7.4"
)
"""Of normals as they are written."""
BASE_COVERAGE = 0.8
"""Share of the base years that a normal needs (WMO-No. 1203, section 4.4)."""
FEWEST_YEARS = 3


@dataclass(frozen=True, eq=False)
class BasePeriod:
    """The steps of a time axis that define normal.

    Attributes
    ----------
    axis : TimeAxis
    cycle : Cycle
    steps : ndarray of int
        Indices of the steps within the base period.
    present : ndarray of int
        The phases that occur, in order.
    phases : ndarray of int, shape (n,)
        For each step of the whole axis, its place in `present`; -1 where the base has none.
    weights : ndarray of float64, shape (len(steps),), or None
        Lengths of the steps of the base, where they differ within a phase.
    full : ndarray of float
        For each phase in `present`, the weight of its steps if none were missing.
    coverage : float
        Share of that weight that a cell needs.
    first, last : int
        First and last year with data in the base.
    text : str
        The base period as people write it.
    pool : int
        How many neighbouring phases count for each, itself in their middle.
    """

    axis: TimeAxis
    cycle: Cycle
    steps: NDArray[np.intp]
    present: NDArray[np.int64]
    phases: NDArray[np.int64]
    weights: Array | None
    full: Array
    coverage: float
    first: int
    last: int
    text: str
    pool: int = 1

    @property
    def words(self) -> str:
        """The base period as it reads in a title."""
        first, _, last = self.text.partition("..")
        return (
            f"{first or self.first} to {last or self.last}"
            if ".." in self.text
            else self.text
        )

    @classmethod
    def of(
        cls,
        dataset: Dataset,
        cycle: Cycle,
        period: Period | None,
        coverage: float,
        fewest: int | None = None,
        pool: int = 1,
    ) -> BasePeriod:
        """Find the base in a dataset.

        Raises
        ------
        DataError
            If the data cover too little of the base period.
        """
        axis = dataset.need_years("and a base is of years")
        phases = cycle.phases(axis)
        steps = (
            np.arange(len(axis))
            if period is None
            else np.flatnonzero(steps_within(axis, period))
        )
        years, asked = _check_base(axis, steps, cycle, period, coverage, fewest)
        present, places_in_base = np.unique(phases[steps], return_inverse=True)
        places = np.full(cycle.size(axis.calendar), -1)
        places[present] = np.arange(present.size)
        weights = _unequal(axis, steps, cycle)
        present_weights = np.bincount(places_in_base, weights, minlength=present.size)
        first, last = int(years[0]), int(years[-1])
        text = str(first) if last == first else f"{first}..{last}"
        if period is not None:
            text = str(period)
        full = _pooled(present_weights * asked / years.size, present, pool, cycle, axis)
        return cls(
            axis,
            cycle,
            steps,
            present,
            places[phases],
            weights,
            full,
            coverage,
            first,
            last,
            text,
            pool,
        )

    def _weighing(self, variable: Variable) -> tuple[Array | None, Array]:
        """Return what each step of the base weighs in a mean, None where all weigh the same, and
        each whole phase."""
        if self.weights is None:
            return None, self.full
        phases, size = self.phases[self.steps], self.present.size
        weight_of_phase = np.bincount(phases, self.weights, minlength=size)
        weights = mean_weights(variable, self.axis)
        weights = None if weights is None else weights[self.steps]
        return weights, np.bincount(
            phases, weights, minlength=size
        ) * self.full / weight_of_phase

    @cached_property
    def members(self) -> tuple[NDArray[np.intp], NDArray[np.int64]]:
        """The steps that count, and the place of the phase that each counts for; pooled, a step
        counts for several."""
        places = self.phases[self.steps]
        if self.pool == 1:
            return self.steps, places
        size = self.cycle.size(self.axis.calendar)
        reach = np.arange(self.pool) - self.pool // 2
        near = (self.present[places][:, None] + reach) % size
        at = np.full(size, -1)
        at[self.present] = np.arange(self.present.size)
        return np.repeat(self.steps, self.pool), at[near].ravel()

    def need_all_phases(self) -> None:
        """Refuse a base that lacks a phase which the data have."""
        lacking = np.unique(self.cycle.phases(self.axis)[self.phases < 0])
        if lacking.size:
            titles = [
                self.cycle.title(int(phase), self.axis.calendar) for phase in lacking
            ]
            more = f" and {len(titles) - 12} more" if len(titles) > 12 else ""
            raise DataError(
                f"--base {self.text} holds no values for {', '.join(titles[:12])}{more}, which the "
                "data have; widen the base"
            )

    def in_base(self, dataset: Dataset, variable: Variable) -> LazyArray:
        """Return a variable's values within the base."""
        along = time_axis_of(dataset, variable)
        source: LazyArray = variable.floats()
        if np.array_equal(self.steps, np.arange(len(self.axis))):
            return source
        picks = [None] * source.ndim
        return Selected(source, [*picks[:along], self.steps, *picks[along + 1 :]])

    def reduction(
        self,
        dataset: Dataset,
        variable: Variable,
        measure: Measure | Statistic,
        *,
        read_once: bool = False,
    ) -> tuple[Reduction, str, tuple[int, ...]]:
        """Return the pass that makes a variable's normals, their name and their shape (phases,
        *cells); `read_once` says whether they are the result themselves."""
        along = time_axis_of(dataset, variable)
        weights, full = self._weighing(variable)
        groups = Groups(
            f"{variable.name}, {self.text}",
            "normals",
            self.members[1],
            self.present.size,
            weights,
            full,
            self.coverage,
        )
        shape = (
            self.present.size,
            *variable.shape[:along],
            *variable.shape[along + 1 :],
        )
        source = self.in_base(dataset, variable)
        if self.pool > 1:
            # Each value is read once, though it counts for several phases.
            rows = np.repeat(np.arange(self.steps.size), self.pool)
            kernel, name = kernel_of(measure)
            work = PooledSeries(groups, kernel, along, np.dtype("f8"), rows=rows)
            reduction = Reduction(source, series=work, read_once=read_once)
            return reduction, name, shape
        reduction, name = grouped_reduction(
            source, groups, measure, along, read_once=read_once
        )
        return reduction, name, shape


def _pooled(
    weights: Array,
    present: NDArray[np.int64],
    pool: int,
    cycle: Cycle,
    axis: TimeAxis,
) -> Array:
    """Return the weight of each phase that is there with its neighbours."""
    if pool == 1:
        return weights
    of_all = np.zeros(cycle.size(axis.calendar))
    of_all[present] = weights
    reach = range(-(pool // 2), pool // 2 + 1)
    return np.asarray(sum(np.roll(of_all, shift) for shift in reach))[present]


def _check_base(
    axis: TimeAxis,
    steps: NDArray[np.intp],
    cycle: Cycle,
    period: Period | None,
    coverage: float,
    fewest: int | None,
) -> tuple[NDArray[np.int64], int]:
    """Return the years of the base that hold data, and how many it names."""
    wanted = "the base" if period is None else f"--base {period}"
    if not steps.size:
        raise DataError(
            f"{wanted} lies outside the data, which run from {axis.span.first} to {axis.span.last}"
        )
    years = np.unique(axis.years[steps])
    if not cycle.yearly:
        return years, years.size
    needed = FEWEST_YEARS if fewest is None else fewest
    if years.size < needed:
        # Not every verb takes fewer.
        other = (
            ""
            if fewest is None
            else f", unless --min-years {years.size} says otherwise"
        )
        raise DataError(
            f"{wanted} has data in {_years(years.size)}; a normal needs at least {needed}{other}. "
            f"The data run from {axis.span.first} to {axis.span.last}."
        )
    asked = _years_asked(period, years)
    if years.size < coverage * asked:
        raise DataError(
            f"{wanted}: the data hold {years.size} of its {asked} years ({axis.span.first} to "
            f"{axis.span.last}), and {coverage:.0%} are needed. Choose a base within the data, or "
            f"add --min-coverage {np.floor(years.size / asked * 100) / 100:g}"
        )
    return years, asked


def _unequal(axis: TimeAxis, steps: NDArray[np.intp], cycle: Cycle) -> Array | None:
    """Return the lengths of the base's steps where steps of different length share a phase."""
    lengths = axis.lengths
    if lengths is None or cycle.longer_than <= lengths.max():
        return None
    lengths = lengths[steps]
    return None if np.ptp(lengths) < 1e-6 * lengths[0] else lengths


def _years_asked(period: Period | None, years: NDArray[np.int64]) -> int:
    first = (
        int(years[0])
        if period is None or period.first is None
        else period.first.fields[0]
    )
    last = (
        int(years[-1])
        if period is None or period.last is None
        else period.last.fields[0]
    )
    if period is not None and period.first and period.last:
        months = [
            instant.fields[1] if len(instant.fields) > 1 else default
            for instant, default in ((period.first, 1), (period.last, 12))
        ]
        return max(1, -(-((last - first) * 12 + months[1] - months[0] + 1) // 12))
    return last - first + 1


def _years(count: int) -> str:
    return "1 year" if count == 1 else f"{count} years"
