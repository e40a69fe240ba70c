"""Parts of months and of years, at even distances that begin anew with each: dekads, half months,
composites of eight days, pentads of the year."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.model.time.calendar_days import Integers, first_days, months_of_days

_SHORTEST = 2
"""Days of a part."""
_LONGEST_LAST = 1.5
"""A last part of up to so many times the others, such as one from the 21st to the 31st."""
_COMMON_STARTS = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30])


@dataclass(frozen=True, eq=False)
class CalendarParts:
    """Where the parts of a month or a year begin.

    Attributes
    ----------
    calendar : str
        CF calendar.
    months : int
        Of what is divided: 1, or 12 for years.
    offsets : ndarray of int64, shape (parts,)
        Days from its first day to those of the parts.
    by_date : bool
        Whether parts of a year begin on the same dates in leap years, and not on the same days of
        the year.
    """

    calendar: str
    months: int
    offsets: Integers
    by_date: bool = False

    @classmethod
    def find(cls, days: Integers, calendar: str) -> CalendarParts | None:
        """Return the parts that begin on some days; None where they are no such parts.

        Parameters
        ----------
        days : ndarray of int64, shape (n,)
            From 1 January of the year 1, of more than one month or year.
        calendar : str
            CF calendar.
        """
        for months, by_date in ((1, False), (12, False), (12, True)):
            parts = cls(calendar, months, np.zeros(0, np.int64), by_date)
            numbers, offsets = parts._places(days)
            distinct = np.unique(offsets)
            number = np.unique(numbers)
            lengths = parts._first(number + 1) - parts._first(number)
            if distinct.size < days.size and _are_even(distinct, lengths):
                return cls(calendar, months, distinct, by_date)
        return None

    def __str__(self) -> str:
        of = "month" if self.months == 1 else "year"
        return f"{self.offsets.size} steps in each {of}"

    def count_missing(self, days: Integers) -> int:
        """Return how many parts are left out between the first and the last.

        Parameters
        ----------
        days : ndarray of int64, shape (n,)
            First days of parts.
        """
        numbers, offsets = self._places(days)
        places = numbers * self.offsets.size + np.searchsorted(self.offsets, offsets)
        return int(np.ptp(places)) + 1 - days.size

    def from_starts(self, days: Integers) -> Integers:
        """Return the first days of parts, and those after them, of their first days, shape
        (n, 2)."""
        numbers, offsets = self._places(days)
        following = np.searchsorted(self.offsets, offsets) + 1
        return np.stack([days, self._days(numbers, following)], axis=1)

    def to_ends(self, days: Integers) -> Integers:
        """Return the first days of parts, and those after them, of the latter, shape (n, 2)."""
        numbers, offsets = self._places(days)
        before = np.searchsorted(self.offsets, offsets) - 1
        return np.stack([self._days(numbers, before), days], axis=1)

    def _days(self, numbers: Integers, parts: Integers) -> Integers:
        """Return the first days of parts; those beyond the first and last are of the months or
        years beside."""
        more, parts = np.divmod(parts, self.offsets.size)
        first, offsets = self._first(numbers + more), self.offsets[parts]
        if not self.by_date:
            return first + offsets
        month = np.searchsorted(_COMMON_STARTS, offsets, side="right") - 1
        begins = first_days((numbers + more) * 12 + month, self.calendar)
        return np.asarray(begins + offsets - _COMMON_STARTS[month])

    def _first(self, numbers: Integers) -> Integers:
        return first_days(numbers * self.months, self.calendar)

    def _places(self, days: Integers) -> tuple[Integers, Integers]:
        """Return the number of the month or year that days lie in, and how far in it."""
        month, day = months_of_days(days, self.calendar)
        numbers = month // self.months
        if self.by_date:
            return numbers, _COMMON_STARTS[month % 12] + day - 1
        return numbers, days - self._first(numbers)


def _are_even(offsets: Integers, lengths: Integers) -> bool:
    """Return whether parts at some days lie at even distances in what they are parts of, the last
    one of which may be of another length."""
    if offsets.size < 2 or offsets[0] != 0:
        return False
    gaps, last = np.diff(offsets), lengths - offsets[-1]
    is_even = gaps[0] >= _SHORTEST and (gaps == gaps[0]).all()
    return bool(is_even and last.min() > 0 and last.max() <= _LONGEST_LAST * gaps[0])
