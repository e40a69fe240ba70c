"""Dates as people write them into tables and names of files."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cftime
import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.decimal_years import count_twelfths
from rhodolite.formats.text.date_forms import DayOfYear, parse_fields, parse_ordinal
from rhodolite.formats.text.phases import Normal, normals_variables, parse_normal
from rhodolite.model.time.dates import first_moment, moment_after
from rhodolite.model.time.period_text import Instant, Period, Season
from rhodolite.model.time.time_units import month_start
from rhodolite.model.variable import Variable

_SPAN = re.compile(r"(\d{4})-(\d{4})")
_SEASON = re.compile(r"(\d{4}) ([JFMASOND]{2,11})")


@dataclass(frozen=True)
class SeasonOfYear:
    """A season, called after the year in which it ends, such as `2050 DJF`."""

    year: int
    season: Season

    def __str__(self) -> str:
        return f"{self.year:04d} {self.season}"

    def limits(self, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which it begins and has ended."""
        year = self.year - (1 if self.season.late_months else 0)
        ends = self.season.first, self.season.first + self.season.length
        return month_start(year, ends[0], calendar), month_start(
            year, ends[1], calendar
        )


@dataclass(frozen=True)
class SpanOfYears:
    """Several years, such as the ten of `2001-2010`."""

    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.first:04d}-{self.last:04d}"

    def limits(self, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which it begins and has ended."""
        return month_start(self.first, 1, calendar), month_start(
            self.last + 1, 1, calendar
        )


@dataclass(frozen=True)
class RangeOfDates:
    """From one date to the end of another, such as `2001-01-01..2001-01-10`."""

    first: Instant
    last: Instant

    def __str__(self) -> str:
        return f"{self.first}..{self.last}"

    def limits(self, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which it begins and has ended."""
        return first_moment(self.first, calendar), moment_after(self.last, calendar)


@dataclass(frozen=True)
class DecimalYear:
    """A moment as a year and the part of it that has passed, such as `2001.5`."""

    years: float

    def __str__(self) -> str:
        return f"{self.years:.10g}"

    def limits(self, calendar: str) -> tuple[Any, Any]:
        """Return the moment twice, since it covers nothing."""
        year = math.floor(self.years)
        start = month_start(year, 1, calendar)
        length = month_start(year + 1, 1, calendar) - start
        moment = start + (self.years - year) * length
        return moment, moment


_DAYS = 3
"""Fields of a date that is a day; with more it has a clock."""
_MOMENT = 6
_DAYS_OF_A_YEAR = 366
_DECIMAL_YEAR = re.compile(r"\d{4}(?:\.\d*)?")
Stretch = (
    Instant
    | DayOfYear
    | SeasonOfYear
    | SpanOfYears
    | RangeOfDates
    | DecimalYear
    | Normal
)


def parse_decimal_years(
    texts: Sequence[str], *, are_years: bool = False
) -> list[DecimalYear] | list[Instant] | None:
    """Return the moments, or the months, that years with decimals name; None where one is no such
    number, or all may be something else, as 2001.01 and 2001.12, or 2001.032, may.

    Parameters
    ----------
    texts : sequence of str
        Of all dates, since one alone does not tell.
    are_years : bool
        Whether they are known to be years, by the name of their column.

    Examples
    --------
    >>> [str(month) for month in parse_decimal_years(["2001.042", "2001.125", "2001.875"])]
    ['2001-01', '2001-02', '2001-11']
    >>> parse_decimal_years(["2001.5000", "2001.5027"])
    [DecimalYear(years=2001.5), DecimalYear(years=2001.5027)]
    >>> parse_decimal_years(["2001.11", "2001.12"]) is None
    True
    """
    given = [text.strip() for text in texts]
    if not all(_DECIMAL_YEAR.fullmatch(text) for text in given):
        return None
    if not are_years and all(_names_a_date(text) for text in given):
        return None
    years = np.array([float(text) for text in given])
    months = count_twelfths(years, 0)
    if months is not None:
        parts = np.stack(np.divmod(np.floor(months), 12), axis=-1).astype(int)
        return [Instant((year, month + 1)) for year, month in parts.tolist()]
    return [DecimalYear(float(text)) for text in given]


def parse_date(text: str, *, day_first: bool = True) -> Stretch | None:
    """Return the year, month, day, moment, season or normal that a text names; None for
    other texts.

    `day_first` says what 3/4/2001 is; with dots the day always comes first.

    Parameters
    ----------
    text : str
        As people type it.
    day_first : bool
        Whether 3/4 is 3 April.

    Examples
    --------
    >>> str(parse_date("1999-02")), str(parse_date("2012/01/31")), str(parse_date("14.2.1999"))
    ('1999-02', '2012-01-31', '1999-02-14')
    """
    given = text.strip()
    if match := _SEASON.fullmatch(given):
        try:
            return SeasonOfYear(int(match.group(1)), Season.parse(match.group(2)))
        except ValueError:
            return None
    if ".." in given:
        return _parse_range(given)
    if (match := _SPAN.fullmatch(given)) and match.group(1) < match.group(2):
        return SpanOfYears(*map(int, match.groups()))
    if (normal := parse_normal(given)) is not None:
        return normal
    fields = parse_fields(given, day_first=day_first)
    return Instant(fields) if fields is not None else parse_ordinal(given)


def _names_a_date(text: str) -> bool:
    date = parse_date(text)
    return date is not None and (
        not isinstance(date, DayOfYear) or 1 <= date.day <= _DAYS_OF_A_YEAR
    )


def _parse_range(text: str) -> RangeOfDates | None:
    try:
        period = Period.parse(text)
    except ValueError:
        return None
    return (
        RangeOfDates(period.first, period.last)
        if period.first and period.last
        else None
    )


def time_variables(
    stretches: Sequence[Stretch], calendar: str = "standard"
) -> list[Variable]:
    """Return the time coordinate for what dates name, with bounds where they are days, months,
    seasons or years.

    Raises
    ------
    DataError
        If the calendar has no such day, or the dates are of different kinds.
    """
    kind = _kind_of_all(stretches)
    normals = [stretch for stretch in stretches if isinstance(stretch, Normal)]
    if normals:
        return normals_variables(normals, calendar)
    dated = [stretch for stretch in stretches if not isinstance(stretch, Normal)]
    limits = [_limits(stretch, calendar) for stretch in dated]
    units = f"days since {min(start.year for start, _ in limits):04d}-01-01"
    starts = _numbers([start for start, _ in limits], units, calendar)
    about: dict[str, Any] = {
        "standard_name": "time",
        "long_name": "time",
        "units": units,
        "calendar": calendar,
        "axis": "T",
    }
    if kind > _DAYS:
        # A date with a clock is a moment, and covers nothing.
        return [Variable("time", ("time",), InMemory(starts), about)]
    about["bounds"] = "time_bnds"
    ends = _numbers([end for _, end in limits], units, calendar)
    bounds = np.stack([starts, ends], axis=-1)
    return [
        Variable("time", ("time",), InMemory(bounds.mean(axis=1)), about),
        Variable("time_bnds", ("time", "bnds"), InMemory(bounds)),
    ]


def _kind_of_all(stretches: Sequence[Stretch]) -> int:
    kinds = {_kind(stretch): stretch for stretch in reversed(stretches)}
    if len(kinds) > 1:
        named = " and ".join(str(kinds[kind]) for kind in sorted(kinds))
        raise DataError(f"the dates are of different kinds: {named}")
    return max(kinds)


def _limits(
    stretch: Instant
    | DayOfYear
    | SeasonOfYear
    | SpanOfYears
    | RangeOfDates
    | DecimalYear,
    calendar: str,
) -> tuple[Any, Any]:
    if isinstance(stretch, Instant):
        return first_moment(stretch, calendar), moment_after(stretch, calendar)
    return stretch.limits(calendar)


def in_order(stretch: Stretch) -> tuple[float, ...]:
    """Return what dates of one kind are sorted by."""
    if isinstance(stretch, DecimalYear):
        return (stretch.years,)
    if isinstance(stretch, SeasonOfYear):
        return (
            stretch.year,
            -1 if stretch.season.late_months else stretch.season.first,
        )
    if isinstance(stretch, DayOfYear):
        return (stretch.year, stretch.day)
    if isinstance(stretch, SpanOfYears):
        return (stretch.first, stretch.last)
    if isinstance(stretch, RangeOfDates):
        return (*stretch.first.fields, *(0,) * (6 - len(stretch.first.fields)))
    if isinstance(stretch, Normal):
        phase = stretch.phase
        return (*stretch.years, phase.first, phase.months, phase.day, phase.minute)
    return stretch.fields


def _kind(stretch: Stretch) -> int:
    """Return how many fields a date has; 0 and less for what covers something else."""
    kinds = {
        SeasonOfYear: 0,
        SpanOfYears: -1,
        Normal: -2,
        RangeOfDates: -3,
        DayOfYear: -4,
        DecimalYear: _MOMENT,
    }
    return len(stretch.fields) if isinstance(stretch, Instant) else kinds[type(stretch)]


def _numbers(dates: list[Any], units: str, calendar: str) -> Array:
    return np.asarray(cftime.date2num(dates, units, calendar), dtype=np.float64)
