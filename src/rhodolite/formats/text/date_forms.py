"""The forms in which people write one date, and what each says."""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from rhodolite.errors import DataError
from rhodolite.model.time.period_text import MONTH_NAMES, MONTH_TITLES
from rhodolite.model.time.time_units import month_start

_CLOCK = (
    r"(?:[T ,]\s*(?P<hour>\d{1,2})(?::?(?P<minute>\d{2})(?::?(?P<second>\d{2})(?:\.0+)?)?)?"
    r"\s?(?P<half>[aApP]\.?[mM]\.?)?(?:\s?(?:Z|UTC|GMT|(?P<offset>[+-]\d{2}:?(?:\d{2})?)))?)?"
)
"""A time of the day: with the half of the day it lies in, and its offset from universal time."""
_MONTH = r"(?P<name>[A-Za-z]{3,9})\.?"
_YEAR_LAST = re.compile(
    rf"(?P<one>\d{{1,2}})(?P<mark>[-/.])(?P<two>\d{{1,2}})(?P=mark)(?P<year>\d{{4}}){_CLOCK}"
)
_FORMS = (
    re.compile(
        rf"(?P<year>\d{{4}})(?:(?P<month>\d{{2}})(?:(?P<day>\d{{2}}){_CLOCK})?)?"
    ),
    re.compile(
        r"(?P<year>\d{4})(?P<mark>[-/.])(?P<month>\d{1,2})"
        rf"(?:(?P=mark)(?P<day>\d{{1,2}}){_CLOCK})?"
    ),
    _YEAR_LAST,
    re.compile(r"(?P<month>\d{1,2})[-/.](?P<year>\d{4})"),
    re.compile(
        rf"(?:(?P<day>\d{{1,2}})[-/. ]?\s?)?{_MONTH}[-/. ]?\s?(?P<year>\d{{4}}){_CLOCK}"
    ),
    re.compile(rf"{_MONTH} (?P<day>\d{{1,2}}),? (?P<year>\d{{4}}){_CLOCK}"),
    re.compile(
        rf"(?P<year>\d{{4}})[-/. ]?{_MONTH}(?:[-/. ]?(?P<day>\d{{1,2}}){_CLOCK})?"
    ),
)
_ORDINAL = re.compile(r"(?P<year>\d{4})[-/.]?(?P<day>\d{3})")
_FIELDS = ("year", "month", "day", "hour", "minute", "second")
_LIMITS = ((0, 9999), (1, 12), (1, 31), (0, 23), (0, 59), (0, 59))
_NOON = 12


@dataclass(frozen=True)
class DayOfYear:
    """A day by its number in the year, from 1, such as `2001-032`."""

    year: int
    day: int

    def __str__(self) -> str:
        return f"{self.year:04d}-{self.day:03d}"

    def limits(self, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which it begins and has ended.

        Raises
        ------
        DataError
            If the year has no such day.
        """
        start = month_start(self.year, 1, calendar) + timedelta(days=self.day - 1)
        if not self.day or start.year != self.year:
            raise DataError(
                f"the year {self.year} has no day {self.day} in the calendar {calendar}"
            )
        return start, start + timedelta(days=1)


def parse_fields(text: str, *, day_first: bool = True) -> tuple[int, ...] | None:
    """Return year, month, day, hour, minute and second of a date, as far as it says them; None for
    other texts. Times with an offset are those of universal time.

    Parameters
    ----------
    text : str
        As people type it.
    day_first : bool
        Whether 3/4/2001 is 3 April; with dots the day always comes first.

    Examples
    --------
    >>> parse_fields("1999-02"), parse_fields("2-Jan-2001"), parse_fields("1/2001")
    ((1999, 2), (2001, 1, 2), (2001, 1))
    >>> parse_fields("2001-01-01 12:30 AM"), parse_fields("2001-01-01T00:30+01:00")
    ((2001, 1, 1, 0, 30), (2000, 12, 31, 23, 30))
    """
    for form in _FORMS:
        if fitting := form.fullmatch(text):
            parts = _in_order_of_size(fitting.groupdict(), day_first=day_first)
            return None if parts is None else _fields_of(parts)
    return None


def parse_ordinal(text: str) -> DayOfYear | None:
    """Return the day that is named by year and number, such as 2001-032, 2001/032 or 2001032."""
    fitting = _ORDINAL.fullmatch(text)
    return DayOfYear(int(fitting["year"]), int(fitting["day"])) if fitting else None


def _in_order_of_size(
    parts: dict[str, str | None], *, day_first: bool
) -> dict[str, str | None] | None:
    """Return the parts of a date with a month that is a number; None where there is none of the
    name."""
    if "one" in parts:
        first = day_first or parts["mark"] == "."
        parts["day"], parts["month"] = parts["one"], parts["two"]
        if not first:
            parts["day"], parts["month"] = parts["two"], parts["one"]
    if parts.get("name"):
        number = named_month(str(parts["name"]))
        if number is None:
            return None
        parts["month"] = str(number)
    return parts


def _fields_of(parts: dict[str, str | None]) -> tuple[int, ...] | None:
    fields = [int(part) for name in _FIELDS if (part := parts.get(name)) is not None]
    if half := parts.get("half"):
        if not 1 <= fields[3] <= _NOON:
            return None
        fields[3] = fields[3] % _NOON + (_NOON if half.lower().startswith("p") else 0)
    if not all(
        low <= value <= high
        for value, (low, high) in zip(fields, _LIMITS, strict=False)
    ):
        return None
    if offset := parts.get("offset"):
        return _in_universal_time(fields, offset)
    return tuple(fields)


def _in_universal_time(fields: Sequence[int], offset: str) -> tuple[int, ...] | None:
    digits = offset[1:].replace(":", "").ljust(4, "0")
    ahead = timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
    if not ahead:
        return tuple(fields)
    try:
        local = datetime(*fields)  # type: ignore[arg-type]
        there = local + ahead if offset.startswith("-") else local - ahead
    except (ValueError, OverflowError):
        return None
    # To the minute at least, since an offset may be of minutes.
    count = max(len(fields), 5)
    return (there.year, there.month, there.day, there.hour, there.minute, there.second)[
        :count
    ]


def day_comes_first(texts: Sequence[str]) -> bool | None:
    """Return whether dates such as 3/4/2001 have the day first; None where all fit both ways and
    differ.
    """
    pairs = [
        (int(fitting["one"]), int(fitting["two"]))
        for text in texts
        if (fitting := _YEAR_LAST.fullmatch(text.strip())) and fitting["mark"] != "."
    ]
    if not pairs or any(first > 12 for first, _ in pairs):
        return True
    if any(second > 12 for _, second in pairs):
        return False
    return True if all(first == second for first, second in pairs) else None


@functools.cache
def named_month(text: str) -> int | None:
    """Return the number of a month that is named, in full or by its first three letters; None for
    other words.
    """
    word = text.strip().lower().rstrip(".")
    for number, (short, full) in enumerate(
        zip(MONTH_NAMES, MONTH_TITLES, strict=True), 1
    ):
        if word in (short, full.lower()):
            return number
    return None
