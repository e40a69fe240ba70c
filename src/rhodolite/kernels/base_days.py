"""Which days of the base count for which calendar day."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_NONE = -1


class BaseDays(NamedTuple):
    """Which days of a series set the percentile of which calendar day.

    Attributes
    ----------
    phase : ndarray of int64, shape (n,)
        The calendar day of each day of the series; -1 where it has none.
    year : ndarray of int64, shape (n,)
        The year within the base, counted from 0; -1 outside of it.
    starts : ndarray of int64, shape (phases + 1,)
        Where the days of each calendar day begin in `members`.
    members : ndarray of int64
        The days of the base that lie around each calendar day.
    years : int
    """

    phase: Array
    year: Array
    starts: Array
    members: Array
    years: int

    def members_of_phases(self) -> list[Array]:
        """Return the days of the base that lie around each calendar day."""
        return np.split(self.members, self.starts[1:-1])


def choose_base_days(phase: Array, year: Array, phases: int, window: int) -> BaseDays:
    """Return which days of the base set the percentile of each calendar day.

    Parameters
    ----------
    phase, year : ndarray of int64, shape (n,)
        As in `BaseDays`.
    phases : int
        Of a year.
    window : int
        Days around each, itself in the middle, that count for it.

    Examples
    --------
    >>> days = choose_base_days(np.arange(4), np.zeros(4, int), 4, 3)
    >>> days.members[days.starts[0] : days.starts[1]].tolist()
    [0, 1, 3]
    """
    inside = np.flatnonzero((year >= 0) & (phase >= 0))
    reach = np.arange(window) - window // 2
    near = ((phase[inside][:, None] + reach) % phases).ravel()
    days = np.repeat(inside, window)
    order = np.argsort(near, kind="stable")
    starts = np.searchsorted(near[order], np.arange(phases + 1))
    years = int(year.max(initial=_NONE)) + 1
    return BaseDays(
        phase.astype(np.int64),
        year.astype(np.int64),
        starts.astype(np.int64),
        days[order].astype(np.int64),
        years,
    )
