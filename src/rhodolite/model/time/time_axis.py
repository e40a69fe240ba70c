"""Time axes in any CF calendar: dates, parts of dates, sampling step, and periods along the
axis."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate
from rhodolite.model.cf.vocabulary import CALENDAR_ALIASES
from rhodolite.model.space.precision import slack
from rhodolite.model.time.dates import first_moment, moment_after
from rhodolite.model.time.month_units import (
    counts_months,
    date_to_months,
    months_to_dates,
)
from rhodolite.model.time.period_text import Instant, Period
from rhodolite.model.time.step_bounds import Stamp, implied_cells, stamped_cells
from rhodolite.model.time.time_units import DAY, seconds_per

Integers = NDArray[np.int64]
Dates = NDArray[Any]
_ALSO = {
    **CALENDAR_ALIASES,
    "": "standard",
    "none": "standard",
    "360": "360_day",
    "365": "noleap",
    "366": "all_leap",
    "no_leap": "noleap",
    "360day": "360_day",
}
"""What calendars are called besides the names that are used here."""
_SINCE = re.compile(r"\s+since\s+", re.IGNORECASE)
_MOST_SECONDS = 2.0**53
"""Whole numbers up to here are exact in float64."""


@dataclass(frozen=True)
class Step:
    """The sampling interval of a time axis.

    Attributes
    ----------
    unit : str
        ``second``, ``hour``, ``day``, ``month``, ``year``, or ``irregular``.
    count : int
        How many of the unit lie between two steps.
    missing : int
        How many steps are left out.
    """

    unit: str
    count: int = 1
    missing: int = 0

    def __str__(self) -> str:
        if self.unit in ("irregular", "single"):
            return {"irregular": "irregular steps", "single": "one time"}[self.unit]
        return f"every {self.unit}" if self.count == 1 else f"every {self.count} {self.unit}s"


@dataclass(frozen=True, eq=False)
class TimeAxis:
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
    """

    numbers: Array
    units: str
    calendar: str = "standard"
    bounds: Array | None = None
    climatological: bool = False
    name: str = "time"
    stored: np.dtype[Any] = np.dtype("f8")

    @classmethod
    def of(cls, coordinate: Coordinate) -> Self:
        """Decode a time coordinate.

        Raises
        ------
        DataError
            If its units or calendar cannot be read.
        """
        attributes = coordinate.variable.attributes
        calendar = str(attributes.get("calendar", "standard")).strip().lower()
        calendar = _ALSO.get(calendar, calendar)
        units = coordinate.variable.units or ""
        axis = cls(
            coordinate.values,
            units,
            calendar,
            coordinate.bounds,
            "climatology" in attributes,
            coordinate.name,
            coordinate.variable.data.dtype,
        )
        try:
            axis.to_dates(axis.numbers[:1])
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

    def to_dates(self, numbers: Array) -> Dates:
        """Return dates (cftime objects) for numbers in the axis's units."""
        if self.by_month:
            return months_to_dates(numbers, self.units, self.calendar)
        seconds = self._whole_seconds(np.asarray(numbers, dtype=np.float64))
        if np.all(seconds == np.rint(seconds)) and np.all(np.abs(seconds) < _MOST_SECONDS):
            seconds = seconds.astype(np.int64)
        _, *reference = re.split(_SINCE, self.units, maxsplit=1)
        if not reference:
            raise ValueError("the units do not say since when")
        units = f"seconds since {reference[0]}"
        try:
            dates = cftime.num2date(seconds, units, self.calendar, only_use_cftime_datetimes=True)
        except (OverflowError, TypeError) as error:
            furthest = float(np.ravel(numbers)[np.argmax(np.abs(np.ravel(seconds)))])
            raise DataError(
                f"the times hold numbers that are not dates, such as {furthest:g} {self.units}: "
                f"{error}"
            ) from None
        return np.asarray(dates, dtype=object).reshape(np.shape(numbers))

    def _whole_seconds(self, numbers: Array) -> Array:
        """Return seconds since the reference, with what the numbers cannot resolve rounded away.

        A quarter of a day counted in days from the year 1 is a few microseconds off, and its hour
        must not come out one too low: a time that is as near to a whole hour, minute or second as
        the type can tell is on it.
        """
        per_unit = seconds_per(self.units)
        seconds = numbers * per_unit
        stored = self.stored if self.stored.kind == "f" else np.dtype("f8")
        with np.errstate(over="ignore", invalid="ignore"):
            resolved = np.spacing(np.abs(numbers).astype(stored)).astype(np.float64) * per_unit
            for whole in (1.0, 60.0, 3600.0):
                near = np.rint(seconds / whole) * whole
                seconds = np.where(np.abs(seconds - near) <= resolved, near, seconds)
        return seconds

    def to_number(self, date: Any) -> float:
        """Return the number, in the axis's units, of a date."""
        if self.by_month:
            return date_to_months(date, self.units, self.calendar)
        return float(cftime.date2num(date, self.units, self.calendar))

    def to_numbers(self, dates: Dates) -> Array:
        """Return the numbers, in the axis's units, of dates; of their shape, float64."""
        if self.by_month:
            return np.array([self.to_number(date) for date in dates.ravel()]).reshape(dates.shape)
        return np.asarray(cftime.date2num(dates, self.units, self.calendar), dtype=np.float64)

    def numbers_of(self, other: TimeAxis, numbers: Array) -> Array:
        """Return numbers in this axis's units for numbers in those of another axis of the same
        calendar."""
        if self.by_month or other.by_month:
            return self.to_numbers(other.to_dates(numbers))
        # Both count seconds, hours or days, so one is the other times a factor, from another
        # beginning.
        beginning = self.to_number(other.to_dates(np.zeros(1))[0])
        return np.asarray(numbers * seconds_per(other.units) / seconds_per(self.units) + beginning)

    @property
    def by_month(self) -> bool:
        return self.calendar != "360_day" and counts_months(self.units)

    @cached_property
    def dates(self) -> Dates:
        """The dates as written, shape (n,)."""
        return self.to_dates(self.numbers)

    @cached_property
    def middles(self) -> Array:
        """The numbers that say which period a step belongs to, shape (n,).

        The middle of the bounds where there are some: a monthly mean stamped with the end of its
        month still belongs to that month. Otherwise the coordinate itself.
        """
        if self.bounds is None or self.climatological:
            return self.numbers
        middle = self.bounds.mean(axis=1)
        return np.where(np.isfinite(middle), middle, self.numbers)

    @cached_property
    def reference_dates(self) -> Dates:
        """The dates of `middles`, shape (n,)."""
        return self.dates if self.middles is self.numbers else self.to_dates(self.middles)

    @cached_property
    def years(self) -> Integers:
        return np.array([date.year for date in self.reference_dates], dtype=np.int64)

    @cached_property
    def months(self) -> Integers:
        return np.array([date.month for date in self.reference_dates], dtype=np.int64)

    @cached_property
    def days(self) -> Integers:
        return np.array([date.day for date in self.reference_dates], dtype=np.int64)

    @cached_property
    def hours(self) -> Integers:
        return np.array([date.hour for date in self.reference_dates], dtype=np.int64)

    @cached_property
    def cells(self) -> Array | None:
        """The ends of each step, earlier first, shape (n, 2); None where neither bounds nor spacing
        tell.

        Bounds come first. Without them a step has the length of the spacing, and where in it the
        stamp stands follows from the stamps.
        """
        if self.bounds is not None and not self.climatological:
            ends = np.sort(self.bounds, axis=1)
            if np.isfinite(ends).all() and (ends[:, 1] > ends[:, 0]).all():
                return ends
        return implied_cells(self)

    @cached_property
    def lengths(self) -> Array | None:
        """The days that each step stands for, shape (n,); None where neither bounds nor spacing
        tell."""
        if self.climatological or self.cells is None:
            return None
        if self.by_month:
            spans = np.diff(self.to_dates(self.cells), axis=1)[:, 0]
            return np.array([span.total_seconds() / DAY for span in spans])
        days = np.diff(self.cells, axis=1)[:, 0] * seconds_per(self.units) / DAY
        # Whole days must not differ by the rounding of large numbers, or steps of one length would
        # weigh differently.
        return np.asarray(np.where(np.abs(days - np.rint(days)) < 1e-6, np.rint(days), days))

    @cached_property
    def resolution(self) -> Step:
        """What each step stands for, as opposed to how far the steps are apart: a month for
        Januaries alone."""
        lengths = self.lengths
        if lengths is None:
            return self.step
        months = int(np.rint(np.median(lengths) / 30.44))
        if months >= 1 and np.all((lengths >= 28 * months) & (lengths <= 31 * months)):
            return Step("year", months // 12) if months % 12 == 0 else Step("month", months)
        if np.ptp(lengths) > 1e-6 * lengths[0]:
            return Step("irregular")
        return _count_seconds(float(lengths[0]) * DAY) or Step("irregular")

    def stamped(self, stamp: Stamp) -> Self:
        """Return the axis with bounds that follow from where in its step each time stands.

        Raises
        ------
        DataError
            If the lengths of the steps are not known.
        """
        cells = stamped_cells(self, stamp)
        if cells is None:
            raise DataError(
                f"the steps of {self.name} are irregular ({self.step}), so where they begin and "
                "end cannot be worked out; give the times bounds"
            )
        return replace(self, bounds=cells, climatological=False)

    def season_years(self, late_months: tuple[int, ...]) -> Integers:
        """Return the year that each step's season belongs to, given the months that count for the
        next year."""
        return self.years + np.isin(self.months, late_months)

    def within(self, period: Period) -> NDArray[np.bool_]:
        """Return which steps lie in a period, all of its last part included; shape (n,)."""
        chosen = np.ones(len(self), dtype=bool)
        near = slack(self.numbers, self.stored)
        if period.first is not None:
            chosen &= (
                self.middles >= self.to_number(first_moment(period.first, self.calendar)) - near
            )
        if period.last is not None:
            chosen &= self.middles < self.to_number(moment_after(period.last, self.calendar)) - near
        return chosen

    @property
    def span(self) -> Period:
        """From the first to the last day that the axis covers."""
        order = np.argsort(self.middles)
        ends = [self.reference_dates[order[at]] for at in (0, -1)]
        return Period(*[Instant((d.year, d.month, d.day)) for d in ends])

    @cached_property
    def decimal_years(self) -> Array:
        """Decimal years in the axis's own calendar, shape (n,); one calendar year is exactly 1.

        Of the times as they are given where they lie within their steps, else of the middles of the
        steps, so that a choice of steps, which may come with bounds, moves none.
        """
        numbers, dates = self.middles, self.reference_dates
        if self.bounds is not None and not self.climatological:
            ends = np.sort(self.bounds, axis=1)
            if np.all((ends[:, 0] <= self.numbers) & (self.numbers < ends[:, 1])):
                numbers, dates = self.numbers, self.dates
        years = np.unique([date.year for date in dates])
        first = {
            int(y): self.to_number(cftime.datetime(int(y), 1, 1, calendar=self.calendar))
            for y in [*years, int(years[-1]) + 1, *(years + 1)]
        }
        starts = np.array([first[date.year] for date in dates])
        stops = np.array([first[date.year + 1] for date in dates])
        whole = np.array([date.year for date in dates])
        return np.asarray(whole + (numbers - starts) / (stops - starts))

    @cached_property
    def step(self) -> Step:
        """The sampling interval, found from the distances between steps."""
        if len(self) < 2:
            return Step("single")
        seconds = np.diff(np.sort(self.middles)) * seconds_per(self.units)
        typical = float(np.median(seconds))
        if typical <= 0:
            return Step("irregular")
        order = np.argsort(self.middles)
        month_steps = np.diff((self.years * 12 + self.months)[order])
        if typical >= 27.5 * DAY:
            unit = int(np.median(month_steps))
            if unit >= 1 and np.all(month_steps % unit == 0) and np.all(month_steps > 0):
                missing = int((month_steps // unit - 1).sum())
                return (
                    Step("year", unit // 12, missing)
                    if unit % 12 == 0
                    else Step("month", unit, missing)
                )
        ratio = seconds / typical
        # Times kept as fractions of a day in single precision are a few seconds off.
        if np.any(np.abs(ratio - np.round(ratio)) > 0.02) or np.any(np.round(ratio) < 1):
            return Step("irregular")
        missing = int(np.round(ratio - 1).sum())
        counted = _count_seconds(typical)
        return Step("irregular") if counted is None else replace(counted, missing=missing)


def _count_seconds(seconds: float) -> Step | None:
    """Return a length of time as a whole number of days, hours, minutes or seconds; None where it
    is none."""
    for unit, length in (("day", DAY), ("hour", 3600.0), ("minute", 60.0), ("second", 1.0)):
        count = seconds / length
        if round(count) >= 1 and abs(count - round(count)) < 1e-3:
            return Step(unit, round(count))
    return None
