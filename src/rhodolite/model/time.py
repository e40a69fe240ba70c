"""Time axes in any CF calendar: dates, parts of dates, sampling step, and periods along the axis."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, Self

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate
from rhodolite.model.months import counts_months, date_to_months, month_start, months_to_dates
from rhodolite.model.periods import Instant, Period
from rhodolite.model.units import convert

Integers = NDArray[np.int64]
Dates = NDArray[Any]
_DAY = 86400.0


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
    """

    numbers: Array
    units: str
    calendar: str = "standard"
    bounds: Array | None = None
    climatological: bool = False
    name: str = "time"

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
        calendar = {"gregorian": "standard", "365_day": "noleap", "366_day": "all_leap"}.get(calendar, calendar)
        units = coordinate.variable.units or ""
        axis = cls(
            coordinate.values,
            units,
            calendar,
            coordinate.bounds,
            "climatology" in attributes,
            coordinate.name,
        )
        try:
            axis.to_dates(axis.numbers[:1])
        except (ValueError, OverflowError) as error:
            raise DataError(f"time coordinate '{coordinate.name}' with units '{units}' and calendar '{calendar}' "
                            f"cannot be read: {error}") from None  # fmt: skip
        if not np.all(np.isfinite(axis.numbers)):
            raise DataError(f"time coordinate '{coordinate.name}' has missing values")
        return axis

    def __len__(self) -> int:
        return int(self.numbers.size)

    def to_dates(self, numbers: Array) -> Dates:
        """Return dates (cftime objects) for numbers in the axis's units."""
        if self._by_month:
            return months_to_dates(numbers, self.units, self.calendar)
        return np.asarray(
            cftime.num2date(numbers, self.units, self.calendar, only_use_cftime_datetimes=True), dtype=object
        ).reshape(np.shape(numbers))

    def to_number(self, date: Any) -> float:
        """Return the number, in the axis's units, of a date."""
        if self._by_month:
            return date_to_months(date, self.units, self.calendar)
        return float(cftime.date2num(date, self.units, self.calendar))

    def to_numbers(self, dates: Dates) -> Array:
        """Return the numbers, in the axis's units, of dates; of their shape, float64."""
        if self._by_month:
            return np.array([self.to_number(date) for date in dates.ravel()]).reshape(dates.shape)
        return np.asarray(cftime.date2num(dates, self.units, self.calendar), dtype=np.float64)

    def numbers_of(self, other: TimeAxis, numbers: Array) -> Array:
        """Return numbers in this axis's units for numbers in those of another axis of the same calendar."""
        if self._by_month or other._by_month:
            return self.to_numbers(other.to_dates(numbers))
        # Both count seconds, hours or days, so one is the other times a factor, from another beginning.
        beginning = self.to_number(other.to_dates(np.zeros(1))[0])
        return np.asarray(numbers * _seconds_per(other.units) / _seconds_per(self.units) + beginning)

    @property
    def _by_month(self) -> bool:
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
    def lengths(self) -> Array | None:
        """The days that each step stands for, shape (n,); None where neither bounds nor steps tell."""
        if self.step.unit in ("month", "year"):
            months = self.step.count * (12 if self.step.unit == "year" else 1)
            first = np.where(self.step.unit == "year", 1, self.months)
            pairs = [(month_start(int(y), int(m), self.calendar), month_start(int(y), int(m) + months, self.calendar))
                     for y, m in zip(self.years, first, strict=True)]  # fmt: skip
            return np.array([(stop - start).total_seconds() / _DAY for start, stop in pairs])
        if self.bounds is not None and not self.climatological and not self._by_month:
            spans = np.abs(np.diff(self.bounds, axis=1)[:, 0]) * _seconds_per(self.units) / _DAY
            if np.isfinite(spans).all() and (spans > 0).all():
                return np.asarray(spans)
        seconds = {"day": _DAY, "hour": 3600.0, "minute": 60.0, "second": 1.0}.get(self.step.unit)
        return None if seconds is None else np.full(len(self), self.step.count * seconds / _DAY)

    def season_years(self, late_months: tuple[int, ...]) -> Integers:
        """Return the year that each step's season belongs to, given the months that count for the next year."""
        return self.years + np.isin(self.months, late_months)

    def within(self, period: Period) -> NDArray[np.bool_]:
        """Return which steps lie in a period, all of its last part included; shape (n,)."""
        chosen = np.ones(len(self), dtype=bool)
        if period.first is not None:
            chosen &= self.middles >= self.to_number(first_moment(period.first, self.calendar))
        if period.last is not None:
            chosen &= self.middles < self.to_number(moment_after(period.last, self.calendar))
        return chosen

    @property
    def span(self) -> Period:
        """From the first to the last day that the axis covers."""
        order = np.argsort(self.middles)
        ends = [self.reference_dates[order[at]] for at in (0, -1)]
        return Period(*[Instant((d.year, d.month, d.day)) for d in ends])

    @cached_property
    def decimal_years(self) -> Array:
        """Decimal years in the axis's own calendar, shape (n,); one calendar year is exactly 1."""
        dates = self.reference_dates
        years = np.unique(self.years)
        first = {int(y): self.to_number(cftime.datetime(int(y), 1, 1, calendar=self.calendar))
                 for y in [*years, int(years[-1]) + 1, *(years + 1)]}  # fmt: skip
        starts = np.array([first[date.year] for date in dates])
        stops = np.array([first[date.year + 1] for date in dates])
        return np.asarray(self.years + (self.middles - starts) / (stops - starts))

    @cached_property
    def step(self) -> Step:
        """The sampling interval, found from the distances between steps."""
        if len(self) < 2:
            return Step("single")
        seconds = np.diff(np.sort(self.middles)) * _seconds_per(self.units)
        typical = float(np.median(seconds))
        if typical <= 0:
            return Step("irregular")
        order = np.argsort(self.middles)
        month_steps = np.diff((self.years * 12 + self.months)[order])
        if typical >= 27.5 * _DAY:
            unit = int(np.median(month_steps))
            if unit >= 1 and np.all(month_steps % unit == 0) and np.all(month_steps > 0):
                missing = int((month_steps // unit - 1).sum())
                return Step("year", unit // 12, missing) if unit % 12 == 0 else Step("month", unit, missing)
        ratio = seconds / typical
        # Times kept as fractions of a day in single precision are a few seconds off.
        if np.any(np.abs(ratio - np.round(ratio)) > 0.02) or np.any(np.round(ratio) < 1):
            return Step("irregular")
        missing = int(np.round(ratio - 1).sum())
        for unit_name, length in (("day", _DAY), ("hour", 3600.0), ("minute", 60.0), ("second", 1.0)):
            count = typical / length
            if round(count) >= 1 and abs(count - round(count)) < 1e-3:
                return Step(unit_name, round(count), missing)
        return Step("irregular")


def first_moment(instant: Instant, calendar: str) -> Any:
    """Return the date at which what an instant names begins.

    Raises
    ------
    DataError
        If the calendar has no such day.
    """
    year, month, day, hour, minute, second = (*instant.fields, *(0, 1, 1, 0, 0, 0)[len(instant.fields) :])
    try:
        return cftime.datetime(year, month, day, hour, minute, second, calendar=calendar)
    except ValueError:
        raise DataError(f"{instant} is not a day of the data's calendar ({calendar})") from None


def moment_after(instant: Instant, calendar: str) -> Any:
    """Return the date at which what an instant names has just ended."""
    import datetime

    start = first_moment(instant, calendar)
    depth = len(instant.fields)
    if depth == 1:
        return cftime.datetime(start.year + 1, 1, 1, calendar=calendar)
    if depth == 2:
        return month_start(start.year, start.month + 1, calendar)
    unit = ("days", "hours", "minutes", "seconds")[depth - 3]
    return start + datetime.timedelta(**{unit: 1})


def format_date(date: Any, *, seconds: bool = False) -> str:
    """Write a date for people: the day alone at midnight, otherwise with the hour and minute."""
    if (date.hour, date.minute, date.second) == (0, 0, 0):
        return f"{date.year:04d}-{date.month:02d}-{date.day:02d}"
    clock = f"{date.hour:02d}:{date.minute:02d}" + (f":{date.second:02d}" if seconds else "")
    return f"{date.year:04d}-{date.month:02d}-{date.day:02d} {clock}"


def _seconds_per(units: str) -> float:
    """Return how many seconds units of time count; of months and years the usual length."""
    word = units.split()[0].lower()
    usual = {"month": 30 * _DAY, "year": 365 * _DAY}.get(word.rstrip("s"))
    if usual is not None:
        return usual
    word = {"hr": "hour", "hrs": "hour", "mins": "minute", "secs": "second", "msec": "ms", "msecs": "ms",
            "millisec": "ms", "millisecs": "ms", "microsec": "us", "microsecs": "us"}.get(word, word)  # fmt: skip
    return float(convert(1.0, word, "s"))
