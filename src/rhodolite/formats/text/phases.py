"""Phases of a cycle as tables name them, such as January of 1991-2020, read back as normals."""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cftime
import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.model.time.period_text import MONTH_TITLES, Season, month_number
from rhodolite.model.time.time_labels import NORMAL
from rhodolite.model.time.time_units import month_start
from rhodolite.model.variable import Variable

BASE_YEARS = "base_years"
CALENDAR = "calendar"
"""The column that names the calendar of the dates, where it is not today's."""
"""The column of the years that normals are of, such as 1991-2020."""
_PHASE = re.compile(
    r"(?:(?P<day>\d{1,2}) )?(?P<word>[A-Za-z]+)?(?:(?<=\w) )?(?:(?P<hour>\d{2}):(?P<minute>\d{2}))?"
)
_YEARS = re.compile(r"(\d{4})(?:-(\d{4}))?")


@dataclass(frozen=True, order=True)
class Phase:
    """A stretch of every year: some months or one day, at all hours or at one.

    Parameters
    ----------
    first : int
        Month in which it begins; 0 where the year before is the one it begins in.
    months : int
        How many there are; 12 for the whole year.
    day : int
        0 for all days of the months.
    minute : int
        Of the day; -1 for all.
    """

    first: int
    months: int
    day: int
    minute: int

    def __str__(self) -> str:
        clock = (
            "" if self.minute < 0 else f"{self.minute // 60:02d}:{self.minute % 60:02d}"
        )
        if self.months == 12:
            return clock or "year"
        name = str(Season((self.first - 1) % 12 + 1, self.months))
        if self.months == 1:
            name = f"{self.day or ''} {MONTH_TITLES[self.first - 1]}".strip()
        return f"{name} {clock}".strip()

    def occurrence(self, year: int, calendar: str) -> tuple[Any, Any]:
        """Return the beginning and the end of it in a year; a moment stands for an hour."""
        start = month_start(year, self.first, calendar)
        end = month_start(year, self.first + self.months, calendar)
        if self.day:
            start += datetime.timedelta(days=self.day - 1)
            end = start + datetime.timedelta(days=1)
        if self.minute >= 0:
            start += datetime.timedelta(minutes=self.minute)
            end += datetime.timedelta(minutes=self.minute + 60, days=-1)
        return start, end


@dataclass(frozen=True)
class Normal:
    """A phase of a cycle, over so many years.

    Parameters
    ----------
    phase : Phase
    years : tuple of int
        First and last.
    """

    phase: Phase
    years: tuple[int, int]

    def __str__(self) -> str:
        first, last = self.years
        return f"{self.phase} normal {first:04d}" + (
            f"-{last:04d}" if last > first else ""
        )


def parse_normal(text: str) -> Normal | None:
    """Return what a text such as `January normal 1991-2020` names; None where it names none."""
    phase, _, years = text.partition(NORMAL)
    match = _YEARS.fullmatch(years.strip())
    named = parse_phase(phase)
    if match is None or named is None:
        return None
    first = int(match.group(1))
    return Normal(named, (first, int(match.group(2) or first)))


_MINUTES_OF_DAY = 1440


def parse_phase(text: str) -> Phase | None:
    """Return the phase that a text names, such as `January`, `DJF`, `5 March`, `06:00`, `JJA 06:00`
    or `year`; None where it names none.
    """
    match = _PHASE.fullmatch(text.strip())
    if match is None or not text.strip():
        return None
    day, word, hour, minute = match.group("day", "word", "hour", "minute")
    clock = -1 if hour is None else int(hour) * 60 + int(minute)
    if clock >= _MINUTES_OF_DAY:
        return None
    if day is not None:
        return _phase_of_day(int(day), word, clock)
    if word is None or word == "year":
        return Phase(1, 12, 0, clock)
    try:
        return Phase(month_number(word), 1, 0, clock)
    except ValueError:
        return _phase_of_season(word, clock)


def _phase_of_day(day: int, month: str | None, clock: int) -> Phase | None:
    if month is None or not 1 <= day <= 31:
        return None
    try:
        return Phase(month_number(month), 1, day, clock)
    except ValueError:
        return None


def _phase_of_season(word: str, clock: int) -> Phase | None:
    if word != word.upper():
        return None
    try:
        season = Season.parse(word)
    except ValueError:
        return None
    # A season that crosses the end of the year belongs to the year in which it ends.
    return Phase(
        season.first - (12 if season.late_months else 0), season.length, 0, clock
    )


def normals_variables(normals: Sequence[Normal], calendar: str) -> list[Variable]:
    """Return the coordinate of climatological time, with its bounds (CF 7.4).

    Raises
    ------
    ValueError
        If the calendar lacks a day.
    """
    limits, middles = [], []
    for normal in normals:
        (start, end), (_, last) = (
            normal.phase.occurrence(year, calendar) for year in normal.years
        )
        limits.append((start, last))
        middles.append(start if normal.phase.minute >= 0 else start + (end - start) / 2)
    units = f"days since {min(normal.years[0] for normal in normals):04d}-01-01"
    about = {
        "standard_name": "time",
        "long_name": "time",
        "units": units,
        "calendar": calendar,
        "axis": "T",
        "climatology": "climatology_bounds",
    }
    values, bounds = (
        np.asarray(cftime.date2num(dates, units, calendar), np.float64)
        for dates in (middles, limits)
    )
    return [
        Variable("time", ("time",), InMemory(values), about),
        Variable("climatology_bounds", ("time", "bnds"), InMemory(bounds)),
    ]
