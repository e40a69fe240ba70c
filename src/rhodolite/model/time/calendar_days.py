"""Days of the CF calendars as whole numbers: to months and days of the month, and back.

Every calendar repeats itself after some years, so the starts of the months of one such cycle say
all. Days are counted from 1 January of the year 1; months from January of the year 0, years being
numbered as astronomers do, with a year 0.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Integers = NDArray[np.int64]
_LENGTHS = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
_AHEAD = 2
"""Days by which the Julian calendar was ahead of the Gregorian one in the year 1."""
_FIRST_GREGORIAN = 577_737
"""The Julian number of what became 15 October 1582, the day after 4 October."""
_SWITCH = 1582 * 12 + 9
"""The month in which the standard calendar left out ten days."""


@dataclass(frozen=True, eq=False)
class _Cycle:
    """The months of the years after which a calendar repeats itself.

    Attributes
    ----------
    starts : ndarray of int64, shape (months + 1,)
        First days of the months, then the days of the whole cycle.
    """

    starts: Integers

    @property
    def months(self) -> int:
        return self.starts.size - 1

    @property
    def days(self) -> int:
        return int(self.starts[-1])

    def months_of(self, days: Integers) -> tuple[Integers, Integers]:
        cycles, within = np.divmod(days, self.days)
        month = np.searchsorted(self.starts, within, side="right") - 1
        # The first cycle begins with the year 1, months are counted from the year 0.
        return cycles * self.months + month + 12, within - self.starts[month] + 1

    def starts_of(self, months: Integers) -> Integers:
        cycles, within = np.divmod(months - 12, self.months)
        return np.asarray(cycles * self.days + self.starts[within])


@lru_cache(maxsize=8)
def _cycle(calendar: str) -> _Cycle:
    if calendar == "360_day":
        lengths = np.full(12, 30)
    elif calendar in ("noleap", "365_day"):
        lengths = _LENGTHS
    elif calendar in ("all_leap", "366_day"):
        lengths = _LENGTHS + (np.arange(12) == 1)
    else:
        years = np.arange(1, 5 if calendar == "julian" else 401)
        leap = years % 4 == 0
        if calendar != "julian":
            leap &= (years % 100 != 0) | (years % 400 == 0)
        lengths = (_LENGTHS + np.outer(leap, np.arange(12) == 1)).reshape(-1)
    return _Cycle(np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64))


def months_of_days(days: Integers, calendar: str) -> tuple[Integers, Integers]:
    """Return the month and the day of the month that days lie in.

    Parameters
    ----------
    days : ndarray of int64
        From 1 January of the year 1, which is 0.
    calendar : str
        CF calendar.

    Returns
    -------
    tuple of ndarray of int64
        Years times 12 plus the month from 0, and the day from 1.

    Examples
    --------
    >>> months, day = months_of_days(np.array([59]), "noleap")
    >>> int(months[0]) - 12, int(day[0])
    (2, 1)
    """
    days = np.asarray(days, dtype=np.int64)
    if calendar not in ("standard", "gregorian"):
        return _cycle(calendar).months_of(days)
    # Before October 1582 the standard calendar is the Julian one (CF 4.4.1).
    old = days < _FIRST_GREGORIAN
    month, day = _cycle("proleptic_gregorian").months_of(days - _AHEAD)
    if old.any():
        julian = _cycle("julian").months_of(days)
        month, day = np.where(old, julian[0], month), np.where(old, julian[1], day)
    return month, day


def first_days(months: Integers, calendar: str) -> Integers:
    """Return the first days of months; the reverse of `months_of_days`.

    Parameters
    ----------
    months : ndarray of int64
        Years times 12 plus the month from 0.
    calendar : str
        CF calendar.
    """
    months = np.asarray(months, dtype=np.int64)
    if calendar not in ("standard", "gregorian"):
        return _cycle(calendar).starts_of(months)
    new = _cycle("proleptic_gregorian").starts_of(months) + _AHEAD
    old = _cycle("julian").starts_of(months)
    return np.asarray(np.where(months <= _SWITCH, old, new))
