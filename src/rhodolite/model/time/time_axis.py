"""Time axes in any CF calendar: dates, parts of dates, what each step covers, and periods along the
axis."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate
from rhodolite.model.cf.vocabulary import CALENDARS
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.calendar_names import plain_calendar
from rhodolite.model.time.counted_times import CountedTimes, Dates
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.period_text import Instant, Period
from rhodolite.model.time.sampling import (
    IRREGULAR,
    SamplingInterval,
    months_covered,
    of_months,
    of_ticks,
    sampling_of,
)
from rhodolite.model.time.step_bounds import (
    Stamp,
    Stamps,
    end_at_stamps,
    implied_cells,
    stamped_cells,
)
from rhodolite.model.time.time_units import (
    DAY_TICKS,
    HOUR_TICKS,
    Ticks,
    dates_of_ticks,
)

Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class TimeAxis(CountedTimes):
    """A time coordinate, decoded.

    Parameters
    ----------
    numbers : ndarray of float64, shape (n,)
    units : str
        Such as ``days since 1990-01-01``.
    calendar : str
        A CF calendar.
    bounds : ndarray of float64, shape (n, 2), optional
    climatological : bool
        Whether the bounds are those of climatological time (CF 7.4).
    name : str
        Name of the coordinate variable.
    stored : dtype
        Type that the numbers were kept in, which says how finely they tell times apart.
    instants : bool
        Whether all data along the axis are of the moments themselves, and not of steps.
    """

    numbers: Array
    units: str
    calendar: str = "standard"
    bounds: Array | None = None
    climatological: bool = False
    name: str = "time"
    stored: np.dtype[Any] = np.dtype("f8")
    instants: bool = False

    @classmethod
    def of(cls, coordinate: Coordinate, *, instants: bool = False) -> Self:
        """Decode a time coordinate.

        Raises
        ------
        DataError
            If its units or calendar cannot be read.
        """
        attributes = coordinate.variable.attributes
        calendar = plain_calendar(attributes.get("calendar", "standard"))
        units = coordinate.variable.units or ""
        axis = cls(
            coordinate.values,
            units,
            calendar,
            coordinate.bounds,
            "climatology" in attributes,
            coordinate.name,
            coordinate.variable.data.dtype,
            instants,
        )
        if calendar not in (*CALENDARS, "tai"):
            raise DataError(
                f"there is no calendar '{calendar}', which the times ({coordinate.name}) are in; "
                f"there are {', '.join(CALENDARS)}. Write the one that is meant: annotate --set "
                f"'{coordinate.name}:calendar=noleap'"
            )
        try:
            _ = axis.time_units
        except (ValueError, OverflowError) as error:
            raise DataError(
                f"time coordinate '{coordinate.name}' with units '{units}' and calendar "
                f"'{calendar}' cannot be read: {error}"
            ) from None
        if not np.all(np.isfinite(axis.numbers)):
            raise DataError(f"time coordinate '{coordinate.name}' has missing values")
        return axis

    def __len__(self) -> int:
        return int(self.numbers.size)

    @cached_property
    def ticks(self) -> Ticks:
        """The times as written, in microseconds, shape (n,)."""
        return self.to_ticks(self.numbers)

    @cached_property
    def dates(self) -> Dates:
        """The dates as written, shape (n,)."""
        return dates_of_ticks(self.ticks, self.calendar)

    @cached_property
    def step(self) -> SamplingInterval:
        """The sampling interval, found from the distances between steps; of months, whose middles
        may lie in the next one, between their beginnings."""
        of_middles = sampling_of(self._bounded_middles, self.calendar)
        if of_middles.months or self.bounds is None or self.climatological:
            return of_middles
        if not np.isfinite(self.bounds).all():
            return of_middles
        begins = self.to_ticks(self.bounds).min(axis=1)
        of_begins = sampling_of(begins, self.calendar)
        return of_begins if of_begins.months else of_middles

    @cached_property
    def cell_ticks(self) -> Ticks | None:
        """The ends of each step in microseconds, earlier first, shape (n, 2); None where neither
        bounds nor spacing tell.

        Bounds come first. Without them a step has the length of the spacing, and where in it the
        stamp stands follows from the stamps.
        """
        if (
            self.bounds is not None
            and not self.climatological
            and np.isfinite(self.bounds).all()
        ):
            ends = np.sort(self.to_ticks(self.bounds), axis=1)
            if (ends[:, 1] > ends[:, 0]).all():
                return ends
        stamps = self._stamps
        return (
            stamped_cells(stamps, Stamp.END)
            if self.ends_at_stamps
            else implied_cells(stamps)
        )

    @property
    def cells(self) -> Array | None:
        """The ends of each step in the axis's units, earlier first, shape (n, 2); None where they
        are not known."""
        return None if self.cell_ticks is None else self.from_ticks(self.cell_ticks)

    @property
    def ends(self) -> Array:
        """The beginning of the first step and the end of the last in the axis's units, shape (2,);
        the first and the last time where it is not known what steps cover."""
        edges = self.bounds if self.climatological else self.cells
        edges = self.numbers if edges is None else edges
        return np.array([edges.min(), edges.max()])

    @cached_property
    def ends_at_stamps(self) -> bool:
        """Whether steps without bounds are taken to end at their times, since hours from just after
        one midnight to another are of the days between."""
        return self.bounds is None and not self.instants and end_at_stamps(self._stamps)

    @property
    def _stamps(self) -> Stamps:
        return Stamps(self.ticks, self.calendar, self.step)

    @cached_property
    def _bounded_middles(self) -> Ticks:
        """The middles of the bounds where there are some, else the times."""
        if self.bounds is None or self.climatological:
            return self.ticks
        known = np.asarray(np.isfinite(self.bounds).all(axis=1))
        ends = self.to_ticks(np.where(known[:, None], self.bounds, 0.0))
        return np.where(known, ends[:, 0] + (ends[:, 1] - ends[:, 0]) // 2, self.ticks)

    @cached_property
    def middle_ticks(self) -> Ticks:
        """What says which period a step belongs to, in microseconds, shape (n,).

        The middle of the bounds where there are some: a monthly mean stamped with the end of its
        month still belongs to that month. Otherwise the coordinate itself, unless steps end there
        or may reach into another day or month, such as a week.
        """
        if self.ends_at_stamps or self._may_reach_over:
            return self.covered_middles
        return self._bounded_middles

    @property
    def _may_reach_over(self) -> bool:
        """Whether steps without bounds may cover parts of two days or months: all but those of a
        month, a day, or hours that divide it. Of two times alone the distance tells little."""
        if self.bounds is not None or self.instants or self.lengths is None:
            return False
        width = self.step.ticks
        divides_day = width is not None and DAY_TICKS % width == 0
        return self.step.months != 1 and not divides_day and len(self) > 2

    @property
    def middles(self) -> Array:
        """`middle_ticks` in the axis's units, shape (n,)."""
        same = self.middle_ticks is self.ticks
        return self.numbers if same else self.from_ticks(self.middle_ticks)

    @cached_property
    def order(self) -> NDArray[np.intp]:
        """The steps in the order of time."""
        return np.argsort(self.middle_ticks, kind="stable")

    @property
    def reference_dates(self) -> Dates:
        """The dates of `middles`, shape (n,)."""
        return dates_of_ticks(self.middle_ticks, self.calendar)

    @cached_property
    def _months_and_days(self) -> tuple[Integers, Integers]:
        return months_of_days(self.day_numbers, self.calendar)

    @property
    def day_numbers(self) -> Integers:
        """Days since the beginning of the year 1 that steps lie in, shape (n,)."""
        return self.middle_ticks // DAY_TICKS

    @property
    def month_numbers(self) -> Integers:
        """Months since the beginning of the year 0 that steps lie in, shape (n,)."""
        return self._months_and_days[0]

    @property
    def years(self) -> Integers:
        """The year that the middle of each step lies in."""
        return self.month_numbers // 12

    @property
    def months(self) -> Integers:
        return self.month_numbers % 12 + 1

    @property
    def days(self) -> Integers:
        return self._months_and_days[1]

    @property
    def hours(self) -> Integers:
        return self.middle_ticks % DAY_TICKS // HOUR_TICKS

    @cached_property
    def lengths(self) -> Array | None:
        """The days that each step stands for, shape (n,); None where neither bounds nor spacing
        tell."""
        if self.climatological or self.cell_ticks is None:
            return None
        return np.asarray(np.diff(self.cell_ticks, axis=1)[:, 0] / DAY_TICKS)

    @property
    def spacing(self) -> SamplingInterval:
        """How far the steps are apart where that is even, and else what each of them stands for: a
        year for Januaries alone."""
        is_even = self.step.unit not in ("irregular", "single")
        return self.step if is_even else self.resolution

    @cached_property
    def is_part_of_each_day(self) -> bool:
        """Whether there is one step a day, of half of it or more but not of all, such as the hours
        from 06 to 18 of which highest temperatures are told."""
        if self.lengths is None or self.step.ticks != DAY_TICKS:
            return False
        return bool(self.lengths.min() > 0.5 - 1e-6 and self.lengths.max() < 1 - 1e-6)

    @cached_property
    def resolution(self) -> SamplingInterval:
        """What each step stands for, as opposed to how far the steps are apart: a month for
        Januaries alone."""
        if self.lengths is None or self.cell_ticks is None or self.is_part_of_each_day:
            return self.step
        months = months_covered(self.cell_ticks, self.step, self.calendar)
        if months:
            return of_months(months)
        ticks = np.diff(self.cell_ticks, axis=1)[:, 0]
        return (
            IRREGULAR if np.ptp(ticks) > 1e-6 * ticks[0] else of_ticks(float(ticks[0]))
        )

    @cached_property
    def named_years(self) -> Integers:
        """The year after which each step is called: of steps of several months the one in which
        they end, shape (n,)."""
        if self.resolution.months <= 1 or self.cell_ticks is None:
            return self.years
        last = (self.cell_ticks[:, 1] - 1) // DAY_TICKS
        return months_of_days(last, self.calendar)[0] // 12

    def season_years(self, late_months: tuple[int, ...]) -> Integers:
        """Return the year that each step's season belongs to, given the months that count for the
        next year."""
        if self.resolution.months > 1:
            return self.named_years
        return self.years + np.isin(self.months, late_months)

    def stamped(self, stamp: Stamp) -> Self:
        """Return the axis with bounds that follow from where in its step each time stands.

        Raises
        ------
        DataError
            If the lengths of the steps are not known.
        """
        plain = replace(self, bounds=None, climatological=False)
        cells = stamped_cells(plain._stamps, stamp)
        if cells is None:
            raise DataError(
                f"the steps of {self.name} are irregular ({self.step}), so where they begin and "
                "end cannot be worked out; give the times bounds"
            )
        return replace(plain, bounds=self.from_ticks(cells))

    @property
    def span_as_written(self) -> tuple[str, str]:
        """The first and the last time as written, as text."""
        ends = np.array([self.ticks.min(), self.ticks.max()])
        first, last = dates_of_ticks(ends, self.calendar)
        return format_date(first), format_date(last)

    @property
    def span(self) -> Period:
        """From the first to the last day that the axis covers."""
        first = last = self.middle_ticks
        if self.cell_ticks is not None and not self.instants:
            first, last = self.cell_ticks.T - np.array([[0], [1]])
        ends = np.array([first.min(), last.max()])
        dates = dates_of_ticks(ends, self.calendar)
        return Period(*[Instant((d.year, d.month, d.day)) for d in dates])

    @property
    def covered_middles(self) -> Ticks:
        """The middles of what steps cover, in microseconds, wherever in it the times stand; the
        times where that is not known, or where values are of the moments."""
        if self.cell_ticks is None or self.instants or self.climatological:
            return self._bounded_middles
        return np.asarray(
            self.cell_ticks[:, 0] + np.diff(self.cell_ticks, axis=1)[:, 0] // 2
        )

    @cached_property
    def decimal_years(self) -> Array:
        """Decimal years in the axis's own calendar, shape (n,); one calendar year is exactly 1.

        Of the middle of what each step covers, wherever in it the time stands; of the times where
        that is not known.
        """
        ticks = self.covered_middles
        years = months_of_days(ticks // DAY_TICKS, self.calendar)[0] // 12
        starts, stops = (
            first_days((years + more) * 12, self.calendar) * DAY_TICKS
            for more in (0, 1)
        )
        return np.asarray(years + (ticks - starts) / (stops - starts))
