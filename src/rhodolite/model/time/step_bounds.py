"""Where time steps begin and end when no bounds say so: worked out from where the stamps stand."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.calendar_parts import CalendarParts
from rhodolite.model.time.sampling import SamplingInterval
from rhodolite.model.time.time_units import DAY_TICKS, HOUR_TICKS, Ticks

_LATE = 27
"""Stamps after this day stand at the end of a month."""
_MID_MONTH = (11, 20)
"""The days of a month between which stamps stand in its middle."""


class Stamp(StrEnum):
    """Where in its step a time stands."""

    START = "start"
    MIDDLE = "middle"
    END = "end"


@dataclass(frozen=True, eq=False)
class Stamps:
    """Times as they are written, and how far they are apart.

    Attributes
    ----------
    ticks : ndarray of int64, shape (n,)
        Microseconds, see `time_units`.
    calendar : str
        CF calendar.
    step : SamplingInterval
    """

    ticks: Ticks
    calendar: str
    step: SamplingInterval

    @property
    def clocks(self) -> Ticks:
        """Microseconds since midnight."""
        return self.ticks % DAY_TICKS

    @property
    def months_and_days(self) -> tuple[Ticks, Ticks]:
        return months_of_days(self.ticks // DAY_TICKS, self.calendar)


def implied_cells(stamps: Stamps) -> Ticks | None:
    """Return the ends of steps without bounds, shape (n, 2); None where they are irregular.

    A month, a year or a day is the one of the calendar that the stamp lies in. Several months, and
    hours, begin at their stamp unless the stamps stand in the middle or at the end of what they can
    stand for. So do parts of months and years that begin anew with each.
    """
    if stamps.step.months:
        return _of_months(stamps, stamps.step.months)
    width = stamps.step.ticks
    if width is None:
        of_parts = (_of_parts(stamps, stamp) for stamp in Stamp)
        return next((cells for cells in of_parts if cells is not None), None)
    start = stamps.ticks - _since_start(stamps, width)
    return np.stack([start, start + width], axis=1)


def stamped_cells(stamps: Stamps, stamp: Stamp) -> Ticks | None:
    """Return the ends of steps whose times stand at a place in them that is known, shape (n, 2)."""
    if count := stamps.step.months:
        first, day = stamps.months_and_days
        at_start = (day == 1) & (stamps.clocks == 0)
        if stamp is Stamp.END:  # midnight of 1 February ends January
            first = first - count + np.where(at_start, 0, 1)
        elif stamp is Stamp.MIDDLE:
            first = first - count // 2
        return _from_months(first, count, stamps.calendar)
    width = stamps.step.ticks
    if width is None:
        return _of_parts(stamps, stamp)
    start = (
        stamps.ticks
        - {Stamp.START: 0, Stamp.MIDDLE: width // 2, Stamp.END: width}[stamp]
    )
    return np.stack([start, start + width], axis=1)


def end_at_stamps(stamps: Stamps) -> bool:
    """Return whether stamps run from just after one midnight to another, as those at the end of
    hours do."""
    width = stamps.step.ticks
    if (
        width is None
        or width >= DAY_TICKS
        or stamps.step.missing
        or len(stamps.ticks) < 3
    ):
        return False
    ends = stamps.ticks.min() % DAY_TICKS, stamps.ticks.max() % DAY_TICKS
    return bool(ends[0] == width and ends[1] == 0)


def _parts_of(stamps: Stamps, stamp: Stamp) -> CalendarParts | None:
    """Return the parts of months or years that stamps without a time of the day stand for; None
    where they are none."""
    if stamps.clocks.any() or len(np.unique(stamps.ticks)) < len(stamps.ticks):
        return None
    before = _days_after_start(stamps, stamp)
    days = stamps.ticks // DAY_TICKS - before
    parts = CalendarParts.find(days, stamps.calendar)
    if parts is None or stamp is not Stamp.MIDDLE:
        return parts
    middle = int(parts.offsets[1]) // 2
    return parts if parts.months == 1 and before in (middle - 1, middle) else None


def _days_after_start(stamps: Stamps, stamp: Stamp) -> int:
    """Return how many days after the beginning of its part each stamp stands; of ends, before the
    part that follows."""
    if stamp is Stamp.MIDDLE:  # of dekads the 5th or 6th, 15th or 16th, 25th or 26th
        return int(stamps.months_and_days[1].min()) - 1
    return -1 if stamp is Stamp.END else 0


def _of_parts(stamps: Stamps, stamp: Stamp) -> Ticks | None:
    parts = _parts_of(stamps, stamp)
    if parts is None:
        return None
    days = stamps.ticks // DAY_TICKS - _days_after_start(stamps, stamp)
    cells = parts.to_ends(days) if stamp is Stamp.END else parts.from_starts(days)
    return cells * DAY_TICKS


def _of_months(stamps: Stamps, count: int) -> Ticks:
    first, day = stamps.months_and_days
    if count > 1:
        days = stamps.ticks // DAY_TICKS
        at_end = first_days(first + 1, stamps.calendar) - days <= 1
        if (at_end & (day > _LATE)).all():
            first = first - count + 1
        elif count % 12 == 0 and not ((day == 1) & ~np.isin(first % 12, (0, 6))).all():
            # Years are those of the calendar unless they are stamped with another start.
            first = first // 12 * 12
        elif count % 2 and ((day >= _MID_MONTH[0]) & (day <= _MID_MONTH[1])).all():
            first = first - count // 2
    return _from_months(first, count, stamps.calendar)


def _from_months(first: Ticks, count: int, calendar: str) -> Ticks:
    return first_days(np.stack([first, first + count], axis=1), calendar) * DAY_TICKS


def _since_start(stamps: Stamps, width: int) -> Ticks:
    """Return how long before its stamp each step begins."""
    clocks = stamps.clocks
    if width <= DAY_TICKS:
        # Hours that divide a day lie in it from midnight; others begin at their stamps.
        return clocks % width if DAY_TICKS % width == 0 else np.zeros_like(clocks)
    # An odd number of days with stamps at noon has them in its middle.
    middle = (clocks == 12 * HOUR_TICKS).all() and (width // DAY_TICKS) % 2 == 1
    return np.full_like(clocks, width // 2) if middle else clocks
