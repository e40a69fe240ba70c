"""Units of time: from stored numbers to microseconds of a calendar, as whole numbers, and back.

Microseconds ("ticks") are counted from the beginning of the year 1 of the calendar, so that hours
and days are compared and divided without rounding.

UDUNITS takes a month for a twelfth of a year of 365.2425 days. Files with units `months since` are
made by people who count calendar months, so that is how they are read here; a fraction is a share
of the month's own length.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.units.udunits import convert, convertible

Ticks = NDArray[np.int64]
DAY = 86400.0
"""Seconds of a day."""
SECOND_TICKS = 1_000_000
HOUR_TICKS = 3600 * SECOND_TICKS
DAY_TICKS = 24 * HOUR_TICKS
_MONTHS = re.compile(r"\s*(month|year)s?\s+since\s+(.+)", re.IGNORECASE)
_SINCE = re.compile(r"\s+since\s+", re.IGNORECASE)
_FROM_A_DATE = re.compile(
    r"\s*([a-z]+)(?:\s+(?:since|after|from|ref)\s+|\s*@\s*)([-+]?\d+-\d.*|\d{8}(?:[ T].*)?)",
    re.IGNORECASE,
)
"""Units of time as UDUNITS takes them, in which other words may stand for `since`."""
_PACKED_DATE = re.compile(r"(\d{4})(\d{2})(\d{2})(?=$|[ T])")
_PACKED_CLOCK = re.compile(r"(?<=[ T])(\d{2})(\d{2})(\d{2})?$")
_HOUR_ALONE = re.compile(r"([-+]?\d+-\d+-\d+[ T]\d{1,2})")
_MOST_SECONDS = 9.0e12
"""Longer times do not fit into whole numbers of microseconds; 285,000 years."""
_AT_ONCE = 1 << 20
_DOUBLE = np.dtype("f8")
_IN_EVERY_MONTH = 28
"""Days."""
_ALSO = {
    "hr": "hour",
    "hrs": "hour",
    "mins": "minute",
    "secs": "second",
    "msec": "ms",
    "msecs": "ms",
    "millisec": "ms",
    "millisecs": "ms",
    "microsec": "us",
    "microsecs": "us",
}


def seconds_per(units: str) -> float:
    """Return how many seconds units of time count; of months and years the usual length.

    Parameters
    ----------
    units : str
        Such as ``hours since 1990-01-01``.
    """
    if not units.strip():
        raise ValueError("the units of time are empty")
    word = units.split()[0].lower()
    usual = {"month": 30 * DAY, "year": 365 * DAY}.get(word.rstrip("s"))
    if usual is not None:
        return usual
    return float(convert(1.0, _ALSO.get(word, word), "s"))


@dataclass(frozen=True)
class TimeUnits:
    """Units of time in a calendar.

    Attributes
    ----------
    calendar : str
    ticks : float
        Microseconds of one unit; of calendar months and years not used.
    reference : int
        Ticks of the date that is counted from.
    months : int
        Calendar months of one unit, or 0 where units are of one length.
    """

    calendar: str
    ticks: float
    reference: int
    months: int = 0

    def to_ticks(self, numbers: Array, stored: np.dtype[Any] = _DOUBLE) -> Ticks:
        """Return ticks, int64, for numbers in these units, which are finite.

        What the numbers cannot resolve is rounded away: a quarter of a day counted in days from the
        year 1 is a few microseconds off, and its hour must not come out one too low. A time that is
        as near to a whole hour, minute or second as the type can tell is on it.

        Parameters
        ----------
        numbers : ndarray of float64, any shape
        stored : dtype
            Type that the numbers were kept in.

        Raises
        ------
        DataError
            If a number is so large that it is no date.
        """
        flat = np.asarray(numbers, dtype=np.float64).reshape(-1)
        work = self._by_months if self.months else self._by_length
        ticks = np.empty(flat.size, dtype=np.int64)
        for first in range(0, flat.size, _AT_ONCE):  # what is between stays small
            part = slice(first, first + _AT_ONCE)
            ticks[part] = work(flat[part], stored)
        return ticks.reshape(np.shape(numbers))

    def from_ticks(self, ticks: Ticks) -> Array:
        """Return numbers in these units, float64, for ticks; the reverse of `to_ticks`."""
        ticks = np.asarray(ticks, dtype=np.int64)
        if self.months:
            days, rest = np.divmod(ticks - self._into_month, DAY_TICKS)
            month, day = months_of_days(days, self.calendar)
            first, after = (first_days(month + more, self.calendar) for more in (0, 1))
            share = (day - 1 + rest / DAY_TICKS) / (after - first)
            return np.asarray((month - self._first_month + share) / self.months)
        if self.ticks >= 1 and float(self.ticks).is_integer():
            whole, rest = np.divmod(ticks - self.reference, int(self.ticks))
            return np.asarray(whole + rest / self.ticks)
        return np.asarray((ticks - self.reference) / self.ticks)

    @property
    def _first_month(self) -> int:
        days = np.array([self.reference // DAY_TICKS])
        return int(months_of_days(days, self.calendar)[0][0])

    @property
    def _into_month(self) -> int:
        """How far into its month the date lies that is counted from."""
        first = first_days(np.array([self._first_month]), self.calendar)
        return int(self.reference - first[0] * DAY_TICKS)

    def _by_length(self, numbers: Array, stored: np.dtype[Any]) -> Ticks:
        seconds = numbers * (self.ticks / SECOND_TICKS)
        finest = stored if stored.kind == "f" else np.dtype("f8")
        with np.errstate(over="ignore", invalid="ignore"):
            spacing = np.spacing(np.abs(numbers).astype(finest)).astype(np.float64)
            resolved = spacing * (self.ticks / SECOND_TICKS)
            for unit in (1.0, 60.0, 3600.0):
                near = np.rint(seconds / unit) * unit
                seconds = np.where(np.abs(seconds - near) <= resolved, near, seconds)
        if not (np.abs(seconds) < _MOST_SECONDS).all():
            furthest = float(numbers[np.argmax(np.abs(seconds))])
            raise DataError(
                f"the times hold numbers that are not dates, such as {furthest:g}"
            )
        whole = np.floor(seconds)
        rest = np.rint((seconds - whole) * SECOND_TICKS).astype(np.int64)
        return self.reference + whole.astype(np.int64) * SECOND_TICKS + rest

    def _by_months(self, numbers: Array, _: np.dtype[Any]) -> Ticks:
        counted = numbers * self.months
        if not (np.abs(counted) < 3e6).all():
            furthest = float(numbers[np.argmax(np.abs(counted))])
            raise DataError(
                f"the times hold numbers that are not dates, such as {furthest:g}"
            )
        whole = np.floor(counted).astype(np.int64)
        first, after = (
            first_days(self._first_month + whole + more, self.calendar)
            for more in (0, 1)
        )
        within = np.rint((counted - whole) * (after - first) * DAY_TICKS)
        return np.asarray(
            first * DAY_TICKS + self._into_month + within.astype(np.int64)
        )


@lru_cache(maxsize=512)
def plain_time_units(units: str) -> str:
    """Return units of time in the words that all here look for; others as they are.

    Examples
    --------
    >>> plain_time_units("HOURS after 20010101T0600"), plain_time_units("K @ 273.15")
    ('hours since 2001-01-01T06:00', 'K @ 273.15')
    """
    match = _FROM_A_DATE.fullmatch(units)
    if match is None or not convertible(unit := _in_small_letters(match[1]), "s"):
        return units
    date = _PACKED_DATE.sub(r"\1-\2-\3", match[2].strip())
    date = _PACKED_CLOCK.sub(_with_colons, date)
    if _HOUR_ALONE.fullmatch(date):
        date += ":00"
    return f"{unit} since {date}"


def _in_small_letters(unit: str) -> str:
    """Return a unit that is written in capitals throughout in small letters; one alone has a
    meaning of its own."""
    plain = unit.lower() if unit.isupper() and len(unit) > 1 else unit
    return _ALSO.get(plain, plain)


def _with_colons(clock: re.Match[str]) -> str:
    return ":".join(part for part in clock.groups() if part)


def counts_from_a_date(units: str | None) -> bool:
    """Return whether units are those of times, such as ``hours since 2001-01-01``."""
    return _SINCE.search(plain_time_units(units or "")) is not None


def units_between(units: str) -> str:
    """Return the units of what lies between two values: of dates those of times.

    Examples
    --------
    >>> units_between("days since 2001-01-01"), units_between("K")
    ('days', 'K')
    """
    return re.split(_SINCE, plain_time_units(units), maxsplit=1)[0].strip()


def counts_months(units: str) -> bool:
    """Return whether units are months or years since a date."""
    return _MONTHS.fullmatch(units) is not None


@lru_cache(maxsize=128)
def read_time_units(units: str, calendar: str) -> TimeUnits:
    """Return what units such as ``days since 1990-01-01`` count.

    Raises
    ------
    ValueError
        If they cannot be read, or months are counted from a day that some months lack.
    DataError
        If what follows ``since`` is not a date.
    """
    _, *since = re.split(_SINCE, units, maxsplit=1)
    if not since:
        raise ValueError("the units do not say since when")
    counted = _MONTHS.fullmatch(units)
    try:
        date = cftime.num2date(
            0, f"seconds since {since[0]}", calendar, only_use_cftime_datetimes=True
        )
    except (TypeError, OverflowError):
        raise DataError(f"the units '{units}' do not begin at a date") from None
    reference = ticks_of_date(date, calendar)
    if counted is None:
        return TimeUnits(
            calendar, _round_ticks(seconds_per(units) * SECOND_TICKS), reference
        )
    months = 12 if counted.group(1).lower() == "year" else 1
    if calendar == "360_day":  # of one length, from whichever day
        return TimeUnits(calendar, months * 30.0 * DAY_TICKS, reference)
    if date.day > _IN_EVERY_MONTH:
        raise ValueError(
            f"months are counted from day {date.day} of one, which not all of them have"
        )
    return TimeUnits(calendar, 0.0, reference, months)


def _round_ticks(ticks: float) -> float:
    """Return the ticks of a unit without what the units library rounded."""
    return (
        float(np.rint(ticks)) if abs(ticks - np.rint(ticks)) < 1e-9 * ticks else ticks
    )


def day_number(year: int, month: int, day: int, calendar: str) -> int:
    """Return the number of a day, from the beginning of the year 1; months may run beyond 12.

    Parameters
    ----------
    year, month, day : int
        With a year 0.
    calendar : str
        CF calendar.
    """
    months = year * 12 + month - 1
    first = int(first_days(np.array([months]), calendar)[0])
    number = first + day - 1
    # October 1582 went on with the 15th after the 4th.
    mixed = calendar in ("standard", "gregorian") and months == 1582 * 12 + 9
    return number - 10 if mixed and day > 4 else number


def ticks_of_date(date: Any, calendar: str) -> int:
    """Return the ticks of a date (of the cftime library).

    Parameters
    ----------
    date : object
        Date of the cftime library, or of Python's own.
    calendar : str
        CF calendar.
    """
    year = date.year
    if year < 0 and not getattr(date, "has_year_zero", True):
        year += 1  # 1 BC is -1 where no year is 0
    clock = (date.hour * 60 + date.minute) * 60 + date.second
    within = clock * SECOND_TICKS + date.microsecond
    return int(day_number(year, date.month, date.day, calendar) * DAY_TICKS + within)


def dates_of_ticks(ticks: Ticks, calendar: str) -> NDArray[Any]:
    """Return dates (of the cftime library), of the shape of the ticks."""
    flat = np.asarray(ticks, dtype=np.int64).reshape(-1)
    days, within = np.divmod(flat, DAY_TICKS)
    month, day = months_of_days(days, calendar)
    seconds, micro = np.divmod(within, SECOND_TICKS)
    early = {"has_year_zero": True} if flat.size and month.min() < 12 else {}
    dates = np.empty(flat.size, dtype=object)
    fields = (
        month // 12,
        month % 12 + 1,
        day,
        seconds // 3600,
        seconds // 60 % 60,
        seconds % 60,
    )
    rows = zip(*(part.tolist() for part in (*fields, micro)), strict=True)
    for at, row in enumerate(rows):
        dates[at] = cftime.datetime(*row, calendar=calendar, **early)
    return dates.reshape(np.shape(ticks))


def month_start(year: int, month: int, calendar: str) -> Any:
    """Return the first moment of a month as a date; months beyond 12 or below 1 count into other
    years.

    Parameters
    ----------
    year : int
    month : int
        From 1; 13 is January of the next year.
    calendar : str
        CF calendar.
    """
    ticks = day_number(year, month, 1, calendar) * DAY_TICKS
    return dates_of_ticks(np.array([ticks]), calendar)[0]
