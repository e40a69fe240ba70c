"""Intervals that time is divided into: hours, days, pentads, months, seasons, years, decades."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.period_text import FOUR_SEASONS, Season
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, HOUR_TICKS, dates_of_ticks
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
_PENTADS = 73
"""Of a year; one of 360 days has 72 of them."""
_NO_MONTH = np.int64(-(1 << 40))


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
            raise ValueError(
                f"'{text}': write {unit} alone, or a number of days, months or years"
            )
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
    limits : ndarray of int64, shape (periods, 2)
        Ends of the periods, in microseconds (see `time_units`).
    axis : TimeAxis
    """

    groups: Integers
    limits: Integers
    axis: TimeAxis

    @property
    def count(self) -> int:
        return len(self.limits)

    @property
    def bounds(self) -> Array:
        """Ends of the periods in the units of the axis, shape (periods, 2)."""
        return self.axis.from_ticks(self.limits)

    @property
    def middles(self) -> Array:
        """Middles of the periods in the units of the axis, shape (periods,)."""
        return self.axis.from_ticks(
            self.limits[:, 0] + np.diff(self.limits, axis=1)[:, 0] // 2
        )

    @property
    def days(self) -> Array:
        """Lengths of the periods in days, shape (periods,)."""
        return np.asarray(np.diff(self.limits, axis=1)[:, 0] / DAY_TICKS)


def divide(
    axis: TimeAxis,
    interval: Interval,
    season: Season | None = None,
    year_start: int = 1,
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
    unit, count = interval.unit, interval.count
    if unit == "hour":
        width = count * HOUR_TICKS
        keys = axis.middle_ticks // width
        return _divided(
            axis, keys, lambda key: np.stack([key, key + 1], axis=1) * width
        )
    if unit == "day":
        first = int(axis.day_numbers.min()) if count > 1 else 0
        return _divided(
            axis,
            (axis.day_numbers - first) // count,
            lambda key: (np.stack([key, key + 1], axis=1) * count + first) * DAY_TICKS,
        )
    if unit == "pentad":
        keys = axis.years * _PENTADS + day_of_common_year(axis) // 5
        return _divided(axis, keys, lambda key: _pentad_limits(key, axis.calendar))
    if unit == "season":
        return _divided_by_season(axis, season)
    months = {"month": 1, "year": 12, "decade": 120}[unit] * count
    origin = _first_month(axis, interval, year_start)
    return _divided(
        axis,
        (_counted_months(axis, unit) - origin) // months,
        lambda key: _month_limits(key * months + origin, months, axis.calendar),
    )


def _divided(
    axis: TimeAxis, keys: Integers, limits: Callable[[Integers], Integers]
) -> Divided:
    """Return the periods that some steps lie in, given a number for the period of each step."""
    present, groups = np.unique(keys, return_inverse=True)
    return Divided(groups.reshape(-1).astype(np.int64), limits(present), axis)


def _divided_by_season(axis: TimeAxis, season: Season | None) -> Divided:
    seasons = FOUR_SEASONS if season is None else (season,)
    starts = np.full(len(axis), _NO_MONTH)
    for part in seasons:
        inside = np.isin(axis.months, part.months)
        late = np.isin(axis.months, part.late_months)
        years = axis.years + late - bool(part.late_months)
        starts[inside] = (years * 12 + part.first - 1)[inside]
    inside = starts > _NO_MONTH
    present, groups = np.unique(starts[inside], return_inverse=True)
    placed = np.full(len(axis), -1, dtype=np.int64)
    placed[inside] = groups.reshape(-1)
    return Divided(
        placed, _month_limits(present, seasons[0].length, axis.calendar), axis
    )


def _counted_months(axis: TimeAxis, unit: str) -> Integers:
    """Return the month that decides which period each step is in: for years of steps of several
    months, which are called after the year in which they end, the last."""
    if unit == "month" or axis.resolution.months <= 1 or axis.cell_ticks is None:
        return axis.month_numbers
    return months_of_days((axis.cell_ticks[:, 1] - 1) // DAY_TICKS, axis.calendar)[0]


def _first_month(axis: TimeAxis, interval: Interval, year_start: int) -> int:
    """Return a month in which a period begins: for several years the first of the data, for decades
    one whose year ends in 1."""
    if interval.unit == "month":
        return 0
    begin = year_start
    if begin == 1 and axis.resolution.unit == "year" and axis.cell_ticks is not None:
        # Years that do not begin in January are put together as they are.
        begin = (
            int(
                months_of_days(axis.cell_ticks[:1, 0] // DAY_TICKS, axis.calendar)[0][0]
            )
            % 12
        )
        begin += 1
    shift = begin - 1 - (12 if begin > 1 else 0)
    if interval.unit == "decade":
        return 12 + shift
    if interval.count == 1:
        return shift
    return int((_counted_months(axis, interval.unit).min() - shift) // 12 * 12 + shift)


def _month_limits(first: Integers, months: int, calendar: str) -> Integers:
    return first_days(np.stack([first, first + months], axis=1), calendar) * DAY_TICKS


def _pentad_limits(keys: Integers, calendar: str) -> Integers:
    years, first = keys // _PENTADS, keys % _PENTADS * 5
    days = np.stack([first, first + 5], axis=1)
    return days_of_common_year(days, years[:, None], calendar) * DAY_TICKS


def day_of_common_year(axis: TimeAxis) -> Integers:
    """Return the day of each step in a year of 365 days (360 in that calendar), counted from 0.

    29 February counts with the 28th, so days have the same place in every year and calendar.
    """
    months, days = axis.months, axis.days
    if axis.calendar == "360_day":
        return np.asarray((months - 1) * 30 + days - 1)
    return np.asarray(
        _YEAR_STARTS[months - 1] + np.where((months == 2) & (days == 29), 28, days) - 1
    )


def days_of_common_year(days: Integers, years: Integers, calendar: str) -> Integers:
    """Return the numbers of the days on which days of common years begin; of the day after the last
    of a year the beginning of the next.

    Parameters
    ----------
    days : ndarray of int
        As of `day_of_common_year`.
    years : ndarray of int
    calendar : str
        CF calendar.
    """
    length = 360 if calendar == "360_day" else 365
    years, days = years + days // length, days % length
    if calendar == "360_day":
        return first_days(years * 12, calendar) + days
    month = np.searchsorted(_YEAR_STARTS, days, side="right") - 1
    return np.asarray(
        first_days(years * 12 + month, calendar) + days - _YEAR_STARTS[month]
    )


def date_in_common_year(day: int, year: int, calendar: str) -> tuple[Any, Any]:
    """Return when a day counted as in `day_of_common_year` begins and has ended, in some year; 29
    February ends with the 28th.

    Parameters
    ----------
    day : int
        Number of the day, from 0.
    year : int
    calendar : str
        CF calendar.
    """
    days = days_of_common_year(np.array([day, day + 1]), np.array(year), calendar)
    start, stop = dates_of_ticks(days * DAY_TICKS, calendar)
    return start, stop
