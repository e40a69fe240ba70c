"""Periods, months, seasons and years as people write them. Pure text and whole numbers, any
calendar."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.model.typed_value import TypedValue

MONTH_NAMES = (
    "jan",
    "feb",
    "mar",
    "apr",
    "may",
    "jun",
    "jul",
    "aug",
    "sep",
    "oct",
    "nov",
    "dec",
)
MONTH_TITLES = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)
_INITIALS = "JFMAMJJASOND"
_FIELDS = ("year", "month", "day", "hour", "minute", "second")
_INSTANT = re.compile(
    r"(-?\d{1,6})(?:-(\d{1,2})(?:-(\d{1,2})(?:[T ](\d{1,2})(?::(\d{2})(?::(\d{2}))?)?)?)?)?Z?"
)


@dataclass(frozen=True)
class Instant(TypedValue):
    """A point or stretch of time, as exact as its fields: `2003-07` is all of that month."""

    fields: tuple[int, ...]

    @classmethod
    def parse(cls, text: str) -> Self:
        match = _INSTANT.fullmatch(text.strip())
        if not match:
            raise ValueError(
                f"'{text}' is not a date; write it like 2003, 2003-07, 2003-07-15 or 2003-07-15T06"
            )
        fields = tuple(int(part) for part in match.groups() if part is not None)
        limits = ((1, 12), (1, 31), (0, 23), (0, 59), (0, 59))
        for value, (low, high), name in zip(
            fields[1:], limits, _FIELDS[1:], strict=False
        ):
            if not low <= value <= high:
                raise ValueError(
                    f"'{text}' has {name} {value}; a {name} runs from {low} to {high}"
                )
        return cls(fields)

    def __str__(self) -> str:
        year, *rest = self.fields
        text = f"{year:05d}" if year < 0 else f"{year:04d}"
        for value, mark in zip(rest, "--T::", strict=False):
            text += f"{mark}{value:02d}"
        return text


@dataclass(frozen=True)
class Period(TypedValue):
    """A stretch of time `A..B` that includes all of what B names; either end may be open.

    Examples
    --------
    >>> str(Period.parse("1991..2020"))
    '1991..2020'
    """

    first: Instant | None
    last: Instant | None

    spans = True

    @classmethod
    def parse(cls, text: str) -> Self:
        start, stop = split_range(text)
        first = Instant.parse(start) if start else None
        last = Instant.parse(stop) if stop else None
        if first and last and (last.fields < first.fields[: len(last.fields)]):
            raise ValueError(f"'{text}' runs backwards; write it {stop}..{start}")
        return cls(first, last)

    def __str__(self) -> str:
        if self.first == self.last:
            return str(self.first)
        return f"{self.first or ''}..{self.last or ''}"


@dataclass(frozen=True)
class Months(TypedValue):
    """Months of the year, `nov..mar` (around the year's end if need be), `jan,jul` or `1,7`."""

    numbers: tuple[int, ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        numbers: list[int] = []
        for part in text.split(","):
            if ".." in part:
                first, last = (month_number(end) for end in part.split("..", 1))
                numbers.extend(
                    (first - 1 + step) % 12 + 1
                    for step in range((last - first) % 12 + 1)
                )
            else:
                numbers.append(month_number(part))
        return cls(tuple(dict.fromkeys(numbers)))

    def __str__(self) -> str:
        return ",".join(MONTH_NAMES[number - 1] for number in self.numbers)


@dataclass(frozen=True)
class MonthOfYear(TypedValue):
    """A month in which years begin, `oct` or `10`."""

    number: int

    @classmethod
    def parse(cls, text: str) -> Self:
        return cls(month_number(text))

    def __str__(self) -> str:
        return MONTH_NAMES[self.number - 1]


@dataclass(frozen=True)
class Season(TypedValue):
    """Months in a row that may cross the end of the year: `DJF`, `JJAS` or `jun..sep`.

    A season belongs to the year in which it ends: December 2013 is part of DJF 2014.
    """

    first: int
    length: int

    @classmethod
    def parse(cls, text: str) -> Self:
        letters = text.strip().upper()
        if ".." in text:
            first, last = (month_number(end) for end in text.split("..", 1))
            return cls(first, (last - first) % 12 + 1)
        places = [at for at in range(12) if (_INITIALS * 2).startswith(letters, at)]
        if not 2 <= len(letters) <= 12 or not places:
            raise ValueError(
                f"'{text}' is not a season; write the first letters of its months in a row, such "
                "as DJF, MAM, JJAS, or jun..sep"
            )
        return cls(places[0] + 1, len(letters))

    @property
    def months(self) -> tuple[int, ...]:
        return tuple((self.first - 1 + step) % 12 + 1 for step in range(self.length))

    @property
    def late_months(self) -> tuple[int, ...]:
        """The months that lie in the calendar year before the one the season belongs to."""
        return tuple(
            month
            for month in self.months
            if self.first + self.length - 1 > 12 and month >= self.first
        )

    def __str__(self) -> str:
        # Two or more letters in a row stand for one run of months only.
        if self.length > 1:
            return (_INITIALS * 2)[self.first - 1 : self.first - 1 + self.length]
        return "..".join([MONTH_NAMES[self.first - 1]] * 2)


FOUR_SEASONS = tuple(Season(first, 3) for first in (12, 3, 6, 9))


@dataclass(frozen=True)
class Years(TypedValue):
    """Single years and ranges of years: `2010,2015`, `1991..2020`, `2001..`."""

    ranges: tuple[tuple[int | None, int | None], ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        ranges = []
        for part in text.split(","):
            start, stop = split_range(part)
            ends = tuple(_year(end) if end else None for end in (start, stop))
            if ends[0] is not None and ends[1] is not None and ends[1] < ends[0]:
                raise ValueError(f"'{part}' runs backwards; write it {stop}..{start}")
            ranges.append((ends[0], ends[1]))
        return cls(tuple(ranges))

    def __contains__(self, year: int) -> bool:
        return bool(self.holds(np.array([year]))[0])

    def holds(self, years: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Return which years are among these."""
        chosen = np.zeros(years.shape, dtype=bool)
        for first, last in self.ranges:
            after = True if first is None else years >= first
            chosen |= after & (True if last is None else years <= last)
        return chosen

    def __str__(self) -> str:
        return ",".join(_range_text(first, last) for first, last in self.ranges)


def _range_text(first: int | None, last: int | None) -> str:
    if first == last:
        return str(first)
    return "..".join("" if end is None else str(end) for end in (first, last))


def month_number(text: str) -> int:
    """Return 1 to 12 for a month's number or (the start of) its English name."""
    word = text.strip().lower()
    if word.isdecimal() and 1 <= int(word) <= 12:
        return int(word)
    for number, title in enumerate(MONTH_TITLES, start=1):
        if len(word) >= 3 and title.lower().startswith(word):
            return number
    raise ValueError(f"'{text}' is not a month; write jan, feb ... dec or 1 ... 12")


def split_range(text: str) -> tuple[str, str]:
    """Split `A..B` into its ends, either of which may be empty; a single value is both ends."""
    start, dots, stop = (part.strip() for part in text.partition(".."))
    if not dots:
        stop = start
    if not start and not stop:
        raise ValueError(f"'{text}' names no range; write A..B, A.. or ..B")
    if ".." in stop:
        raise ValueError(f"'{text}' has more than two ends; write A..B, A.. or ..B")
    return start, stop


def _year(text: str) -> int:
    try:
        return int(text)
    except ValueError:
        raise ValueError(
            f"'{text}' is not a year; write 2010,2015 or 1991..2020"
        ) from None
