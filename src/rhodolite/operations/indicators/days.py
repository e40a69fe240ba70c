"""Series of whole days, their periods, and the calendar days of a base."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.base_days import BaseDays, choose_base_days
from rhodolite.kernels.grouped_statistics import Statistic
from rhodolite.kernels.thresholds import beyond
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.period_text import Period
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_intervals import Divided
from rhodolite.model.time.time_units import DAY_TICKS
from rhodolite.operations.baseline.base_period import BASE_COVERAGE, BasePeriod
from rhodolite.operations.parameters.cycle import Cycle

DAY = Cycle.parse("day")
_HALF_A_YEAR = 6
"""Months."""


@dataclass(frozen=True)
class Span:
    """A period as days of the series: from `first` to before `stop`, its second half from
    `middle`."""

    first: int
    middle: int
    stop: int

    @property
    def days(self) -> slice:
        return slice(self.first, self.stop)


@dataclass(frozen=True, eq=False)
class Calendar:
    """Every day from the beginning of the first period to the end of the last.

    Attributes
    ----------
    places : ndarray of int
        For each step of the data, its day, counted from the first.
    count : int
        Number of days.
    spans : tuple of Span
        The periods.
    dates : ndarray of float64, shape (count + 1,)
        The beginning of each day in the units of the time axis.
    phase, base_year : ndarray of int64, shape (count,)
        See `BaseDays`.
    phases : int
        Days of a year.
    """

    places: NDArray[np.int64]
    count: int
    spans: tuple[Span, ...]
    dates: Array
    phase: NDArray[np.int64]
    base_year: NDArray[np.int64]
    phases: int

    def base_days(self, window: int) -> BaseDays:
        """Return which days set the percentile of which calendar day."""
        return choose_base_days(self.phase, self.base_year, self.phases, window)

    def fill(self, block: Array) -> Array:
        """Return a value for every day, NaN where the data have none."""
        values = np.full((self.count, *block.shape[1:]), np.nan)
        values[self.places] = block
        return values


def need_days(dataset: Dataset, axis: TimeAxis) -> None:
    """Refuse data that are not one value a day.

    Raises
    ------
    DataError
    """
    dataset.need_years("and not the days of years")
    step = axis.resolution
    if (step.unit, step.count) != ("day", 1):
        first = "aggregate --to day first" if step.unit == "hour" else "give daily data"
        raise DataError(
            f"{dataset.label} has one value {step}, and indicators are of whole days; {first}"
        )
    if np.unique(axis.day_numbers).size < len(axis):
        raise DataError(
            f"{dataset.label} has two values of the same day; aggregate --to day first"
        )


def lay_out(
    dataset: Dataset, divided: Divided, base: BasePeriod | None, later: int = 0
) -> Calendar:
    """Return the days of a dataset, and its periods among them.

    Parameters
    ----------
    dataset : Dataset
        With one value a day.
    divided : Divided
        The periods.
    base : BasePeriod, optional
        Whose years set percentiles, where some are asked for.
    later : int
        By how many months the periods are later.
    """
    axis = dataset.need_time()
    ends = divided.limits // DAY_TICKS
    starts = _shift(ends[:, 0], later, axis.calendar)
    stops = _shift(ends[:, 1], later, axis.calendar)
    middles = _shift(starts, _HALF_A_YEAR, axis.calendar)
    first = min(int(starts.min()), int(axis.day_numbers.min()))
    count = max(int(stops.max()), int(axis.day_numbers.max()) + 1) - first
    spans = tuple(
        Span(int(start) - first, int(middle) - first, int(stop) - first)
        for start, middle, stop in zip(starts, middles, stops, strict=True)
    )
    places = axis.day_numbers - first
    phase, year = np.full((2, count), -1, dtype=np.int64)
    phase[places] = DAY.phases(axis)
    if base is not None:
        years = np.unique(axis.years[base.steps], return_inverse=True)[1]
        year[places[base.steps]] = years
    dates = axis.from_ticks((np.arange(count + 1) + first) * DAY_TICKS)
    return Calendar(places, count, spans, dates, phase, year, DAY.size(axis.calendar))


def base_of(dataset: Dataset, period: Period | None) -> BasePeriod:
    """Return the years that set percentiles of calendar days; all of them unless given.

    Raises
    ------
    DataError
        If the data cover too little of them.
    """
    return BasePeriod.of(dataset, DAY, period, BASE_COVERAGE)


def _shift(days: Array, months: int, calendar: str) -> Array:
    """Return the same day of the month some months later."""
    if not months:
        return days
    number, day = months_of_days(days, calendar)
    return np.asarray(first_days(number + months, calendar) + day - 1)


@dataclass(frozen=True, eq=False)
class Days:
    """The days of some cells, with the condition that an indicator asks of them.

    Attributes
    ----------
    values : ndarray of float64, shape (days, *cells)
    calendar : Calendar
    threshold : float
        In the units of the values.
    side : {"above", "below", "from"}
        Where from the threshold days fulfil the condition; `from` includes it.
    dtype : {"f4", "f8"}
        Precision in which they are compared.
    wet : float
        The amount that makes a day wet.
    """

    values: Array
    calendar: Calendar
    threshold: float = np.nan
    side: str = "above"
    dtype: str = "f8"
    wet: float = np.nan

    @property
    def flags(self) -> NDArray[np.bool_]:
        """The days that fulfil the condition; missing ones do not."""
        if self.side != "from":
            below = self.side == "below"
            return beyond(self.values, self.threshold, self.dtype, below=below)
        lower = beyond(self.values, self.threshold, self.dtype, below=True)
        return ~lower & ~np.isnan(self.values)

    def asking(self, threshold: float, side: str) -> Days:
        """Return the same days with another condition."""
        return replace(self, threshold=threshold, side=side)

    def each(self, of_period: Callable[[Array], Array], days: Array) -> Array:
        """Return what a function makes of the days of each period, shape (periods, *cells)."""
        return np.stack([of_period(days[span.days]) for span in self.calendar.spans])

    def statistic(self, kernel: Statistic, values: Array, name: str = "value") -> Array:
        """Return a statistic of the days of each period, shape (periods, *cells)."""
        spans = self.calendar.spans
        groups = np.full(len(values), -1, dtype=np.intp)
        for place, span in enumerate(spans):
            groups[span.days] = place
        return kernel.finish(kernel.gather(values, groups, len(spans), None))[name]
