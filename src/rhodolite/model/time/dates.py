"""Dates of any calendar: the first and the last moment that a text means, and dates as text."""

from __future__ import annotations

import datetime
from typing import Any

import cftime

from rhodolite.errors import DataError
from rhodolite.model.time.period_text import Instant
from rhodolite.model.time.time_units import month_start


def first_moment(instant: Instant, calendar: str) -> Any:
    """Return the date at which what an instant names begins.

    Raises
    ------
    DataError
        If the calendar has no such day.
    """
    year, month, day, hour, minute, second = (
        *instant.fields,
        *(0, 1, 1, 0, 0, 0)[len(instant.fields) :],
    )
    try:
        return cftime.datetime(
            year, month, day, hour, minute, second, calendar=calendar
        )
    except ValueError:
        raise DataError(
            f"{instant} is not a day of the data's calendar ({calendar})"
        ) from None


def moment_after(instant: Instant, calendar: str) -> Any:
    """Return the date at which what an instant names has just ended."""

    start = first_moment(instant, calendar)
    depth = len(instant.fields)
    if depth == 1:
        return cftime.datetime(start.year + 1, 1, 1, calendar=calendar)
    if depth == 2:
        return month_start(start.year, start.month + 1, calendar)
    unit = ("days", "hours", "minutes", "seconds")[depth - 3]
    return start + datetime.timedelta(**{unit: 1})


def format_date(date: Any, *, seconds: bool = False) -> str:
    """Write a date for people: the day alone at midnight, otherwise with the hour and minute.

    Parameters
    ----------
    date : object
        Date of the cftime library.
    seconds : bool
        Whether seconds are written.
    """
    if (date.hour, date.minute, date.second) == (0, 0, 0):
        return f"{date.year:04d}-{date.month:02d}-{date.day:02d}"
    clock = f"{date.hour:02d}:{date.minute:02d}" + (
        f":{date.second:02d}" if seconds else ""
    )
    return f"{date.year:04d}-{date.month:02d}-{date.day:02d} {clock}"
