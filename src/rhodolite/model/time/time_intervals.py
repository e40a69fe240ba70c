"""Intervals that time is divided into: hours, days, pentads, months, seasons, years, decades."""

from __future__ import annotations

import datetime
import re
from dataclasses import dataclass
from typing import Any, Self

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.model.time.month_units import month_start
from rhodolite.model.time.period_text import FOUR_SEASONS, Season
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.typed_value import TypedValue

Integers = NDArray[np.int64]
_TEXT = re.compile(r"(\d*)\s*(hour|day|pentad|month|season|year|decade)s?")
_DAYS = {
    "hour": 1 / 24,
    "day": 1.0,
    "pentad": 5.0,
    "month": 28.0,
    "season": 28.0,
    "year": 360.0,
    "decade": 3600.0,
}
"""The minimum number of days that each has in any calendar; a season can be a single month."""
_YEAR_STARTS = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30])


@dataclass(frozen=True)
class Interval(TypedValue):
    """What time is divided into: `day`, `3hour`, `10 days`, `pentad`, `month`, `season`, `year`,
    `decade`.

    Several hours are counted from midnight and several months from January, so they have to divide
    a day or a year. Several days or years are counted from the first of the data. Pentads are the
    73 of a year, 29 February belonging to the twelfth. Decades are 1991 to 2000 and so on.
    """

    unit: str
    count: int = 1

    @classmethod
    def parse(cls, text: str) -> Self:
        match = _TEXT.fullmatch(text.strip().lower())
        if not match:
            raise ValueError(
                f"'{text}' is not an interval; write hour, 3hour, day, pentad, month, season, "
                "year, decade or 10days"
            )
        count, unit = int(match.group(1) or 1), match.group(2)
        whole = {"hour": 24, "month": 12}.get(unit)
        if count < 1 or (whole and whole % count):
            raise ValueError(
                f"'{text}': {count} {unit}s do not divide {'a day' if unit == 'hour' else 'a year'}"
            )
        if count > 1 and unit in ("pentad", "season", "decade"):
            raise ValueError(f"'{text}': write {unit} alone, or a number of days, months or years")
        return cls(unit, count)

    def __str__(self) -> str:
        return self.unit if self.count == 1 else f"{self.count}{self.unit}s"

    @property
    def adjective(self) -> str:
        """How values for each are called, such as monthly."""
        known = {
            "hour": "hourly",
            "day": "daily",
            "pentad": "five-day",
            "month": "monthly",
            "season": "seasonal",
            "year": "annual",
            "decade": "ten-year",
        }
        return known[self.unit] if self.count == 1 else f"{self.count}-{self.unit}"

    @property
    def days(self) -> float:
        """The minimum number of days that it has in any calendar."""
        return _DAYS[self.unit] * self.count


@dataclass(frozen=True, eq=False)
class Divided:
    """A time axis divided into periods, of which those are kept that hold a step.

    Attributes
    ----------
    groups : ndarray of int, shape (n,)
        The period of each step; -1 where it is in none.
    starts, stops : ndarray of float64, shape (periods,)
        Ends of the periods, in the units of the axis.
    days : ndarray of float64, shape (periods,)
        Lengths in days of the axis's calendar.
    """

    groups: Integers
    starts: Array
    stops: Array
    days: Array


def divide(
    axis: TimeAxis, interval: Interval, season: Season | None = None, year_start: int = 1
) -> Divided:
    """Divide a time axis into intervals.

    Parameters
    ----------
    axis : TimeAxis
    interval : Interval
    season : Season, optional
        The one season to keep; by default the four of three months.
    year_start : int
        The month in which years begin; a year is called after the one in which it ends.
    """
    keys = _keys(axis, interval, season, year_start)
    present, groups = np.unique(keys[keys >= 0], return_inverse=True)
    placed = np.full(len(axis), -1, dtype=np.int64)
    placed[keys >= 0] = groups
    # A step of each period, from which its ends follow.
    samples = np.flatnonzero(keys >= 0)[np.unique(groups, return_index=True)[1]]
    limits = [
        _limits(axis, int(at), int(key), interval, season, year_start)
        for at, key in zip(samples, present, strict=True)
    ]
    days = np.array([(stop - start).total_seconds() / 86400 for start, stop in limits])
    starts, stops = (np.array([axis.to_number(pair[end]) for pair in limits]) for end in (0, 1))
    return Divided(placed, starts, stops, days)


def day_of_common_year(axis: TimeAxis) -> Integers:
    """Return the day of each step in a year of 365 days (360 in that calendar), counted from 0.

    29 February counts with the 28th, so days have the same place in every year and calendar.

    Parameters
    ----------
    axis : TimeAxis
    """
    days = axis.days
    if axis.calendar == "360_day":
        return np.asarray((axis.months - 1) * 30 + days - 1)
    return np.asarray(
        _YEAR_STARTS[axis.months - 1] + np.where((axis.months == 2) & (days == 29), 28, days) - 1
    )


def date_in_common_year(day: int, year: int, calendar: str) -> tuple[Any, Any]:
    """Return when a day counted as in `day_of_common_year` begins and has ended, in some year.

    Parameters
    ----------
    day : int
        Number of the day, from 0.
    year : int
    calendar : str
        CF calendar.
    """
    if calendar == "360_day":
        start = cftime.datetime(year, day // 30 + 1, day % 30 + 1, calendar=calendar)
    else:
        month = int(np.searchsorted(_YEAR_STARTS, day, side="right"))
        start = cftime.datetime(
            year, month, day - int(_YEAR_STARTS[month - 1]) + 1, calendar=calendar
        )
    stop = start + datetime.timedelta(days=1)
    if (stop.month, stop.day) == (2, 29) and calendar != "360_day":
        stop += datetime.timedelta(days=1)
    return start, stop


def _keys(axis: TimeAxis, interval: Interval, season: Season | None, year_start: int) -> Integers:
    """Return a number for each step that is the same within a period, grows with time, and is -1
    outside any."""
    years, count = axis.years + 10_000, interval.count
    if interval.unit == "hour":
        return (_day_numbers(axis) * 24 + axis.hours) // count
    if interval.unit == "day":
        days = _day_numbers(axis)
        return (days - days.min()) // count if count > 1 else days
    if interval.unit == "pentad":
        return years * 100 + day_of_common_year(axis) // 5
    if interval.unit == "month":
        return (years * 12 + axis.months - 1) // count
    if interval.unit == "season":
        return _season_keys(axis, season)
    named = years + ((axis.months >= year_start) if year_start > 1 else 0)
    if interval.unit == "decade":
        return (named - 1) // 10
    return (named - named.min()) // count if count > 1 else np.asarray(named)


def _season_keys(axis: TimeAxis, season: Season | None) -> Integers:
    keys = np.full(len(axis), -1, dtype=np.int64)
    for number, one in enumerate(FOUR_SEASONS if season is None else (season,)):
        inside = np.isin(axis.months, one.months)
        keys[inside] = (axis.season_years(one.late_months)[inside] + 10_000) * 4 + number
    return keys


def _limits(
    axis: TimeAxis, at: int, key: int, interval: Interval, season: Season | None, year_start: int
) -> tuple[Any, Any]:
    """Return the dates at which the period that holds a step begins and has ended."""
    calendar, count = axis.calendar, interval.count
    date = axis.reference_dates[at]
    midnight = cftime.datetime(date.year, date.month, date.day, calendar=calendar)
    if interval.unit == "hour":
        start = midnight + datetime.timedelta(hours=date.hour // count * count)
        return start, start + datetime.timedelta(hours=count)
    if interval.unit == "day":
        days = _day_numbers(axis)
        start = midnight - datetime.timedelta(days=int((days[at] - days.min()) % count))
        return start, start + datetime.timedelta(days=count)
    if interval.unit == "pentad":
        first = key % 100 * 5
        return (
            date_in_common_year(first, date.year, calendar)[0],
            date_in_common_year(first + 4, date.year, calendar)[1],
        )
    if interval.unit == "month":
        first = (date.month - 1) // count * count + 1
        return month_start(date.year, first, calendar), month_start(
            date.year, first + count, calendar
        )
    if interval.unit == "season":
        one = FOUR_SEASONS[key % 4] if season is None else season
        year = key // 4 - 10_000 - (1 if one.late_months else 0)
        return month_start(year, one.first, calendar), month_start(
            year, one.first + one.length, calendar
        )
    span = 10 if interval.unit == "decade" else count
    named = axis.years + ((axis.months >= year_start) if year_start > 1 else 0)
    first = (
        key * 10 + 1 - 10_000
        if interval.unit == "decade"
        else (int(named.min()) + key * count if count > 1 else key - 10_000)
    )
    first -= 1 if year_start > 1 else 0
    return month_start(first, year_start, calendar), month_start(first + span, year_start, calendar)


def _day_numbers(axis: TimeAxis) -> Integers:
    """Return days since a day long ago, for each step."""
    numbers = cftime.date2num(axis.reference_dates, "days since 0001-01-01", axis.calendar)
    return np.floor(np.asarray(numbers, dtype=np.float64) + 1e-9).astype(np.int64) + 4_000_000
