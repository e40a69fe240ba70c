"""Where the steps of a time axis begin and end, when no bounds say so: worked out from the
stamps."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.model.time.month_units import month_start
from rhodolite.model.time.time_units import DAY, seconds_per

if TYPE_CHECKING:
    from rhodolite.model.time.time_axis import TimeAxis

_UNIT_DAYS = {"day": 1.0, "hour": 1 / 24, "minute": 1 / 1440, "second": 1 / 86400}


class Stamp(StrEnum):
    """Where in its step a time stands."""

    START = "start"
    MIDDLE = "middle"
    END = "end"


def implied_cells(axis: TimeAxis) -> Array | None:
    """Return the ends of the steps of an axis without bounds, shape (n, 2); None where the steps
    are irregular.

    A month, a year or a day is the one of the calendar that the stamp lies in. Several months, and
    hours, begin at their stamp unless the stamps stand in the middle or at the end of what they can
    stand for.

    Parameters
    ----------
    axis : TimeAxis
    """
    step = axis.step
    if step.unit in ("month", "year"):
        return _of_months(axis, step.count * (12 if step.unit == "year" else 1))
    if step.unit not in _UNIT_DAYS or axis.by_month:
        return None
    per_unit = seconds_per(axis.units) / DAY
    width = _UNIT_DAYS[step.unit] * step.count
    start = axis.numbers - _days_since_start(axis, width) / per_unit
    return np.stack([start, start + width / per_unit], axis=1)


def stamped_cells(axis: TimeAxis, stamp: Stamp) -> Array | None:
    """Return the ends of steps whose times stand at a place in them that is known, shape (n, 2).

    Parameters
    ----------
    axis : TimeAxis
    stamp : Stamp
        Where each time lies within its step.
    """
    step = axis.step
    if step.unit in ("month", "year"):
        count = step.count * (12 if step.unit == "year" else 1)
        first = _month_numbers(axis)
        at_start = np.array(
            [(d.day, d.hour, d.minute, d.second) == (1, 0, 0, 0) for d in axis.dates]
        )
        if stamp is Stamp.END:  # midnight of 1 February ends January
            first = first - count + np.where(at_start, 0, 1)
        elif stamp is Stamp.MIDDLE:
            first = first - count // 2
        return _from_months(axis, first, count)
    if step.unit not in _UNIT_DAYS or axis.by_month:
        return None
    per_unit = seconds_per(axis.units) / DAY
    width = _UNIT_DAYS[step.unit] * step.count / per_unit
    share = {Stamp.START: 0.0, Stamp.MIDDLE: 0.5, Stamp.END: 1.0}[stamp]
    return np.stack([axis.numbers - share * width, axis.numbers + (1 - share) * width], axis=1)


def ends_at_stamps(axis: TimeAxis) -> bool:
    """Return whether stamps run from just after one midnight to another, as those at the end of
    hours do.

    Parameters
    ----------
    axis : TimeAxis
    """
    step = axis.step
    if (
        axis.bounds is not None
        or step.unit not in ("hour", "minute")
        or step.missing
        or len(axis) < 3
    ):
        return False
    width = _UNIT_DAYS[step.unit] * step.count
    clocks = [
        date.hour / 24 + date.minute / 1440 + date.second / 86400
        for date in (axis.dates[np.argmin(axis.numbers)], axis.dates[np.argmax(axis.numbers)])
    ]
    return width < 1 and abs(clocks[0] - width) < 1e-6 and clocks[1] < 1e-6


def _of_months(axis: TimeAxis, count: int) -> Array:
    first = _month_numbers(axis)
    if count > 1:
        dates = axis.dates
        days = np.array([date.day for date in dates])
        at_end = np.array(
            [
                month_start(d.year, d.month + 1, axis.calendar).toordinal() - d.toordinal() <= 1
                for d in dates
            ]
        )
        if (at_end & (days > 27)).all():
            first = first - count + 1
        elif count % 12 == 0 and not ((days == 1) & ~np.isin(first % 12, (0, 6))).all():
            first = (
                first // 12 * 12
            )  # years are those of the calendar unless they are stamped with another start
        elif count % 12 and count % 2 and ((days > 10) & (days < 21)).all():
            first = first - count // 2
    return _from_months(axis, first, count)


def _month_numbers(axis: TimeAxis) -> NDArray[np.int64]:
    """Return months since the year 0 of the stamps as written."""
    return np.array([date.year * 12 + date.month - 1 for date in axis.dates], dtype=np.int64)


def _from_months(axis: TimeAxis, first: NDArray[np.int64], count: int) -> Array:
    ends = np.stack([first, first + count], axis=1)
    known, places = np.unique(ends, return_inverse=True)
    dates = np.array(
        [month_start(int(number // 12), int(number % 12) + 1, axis.calendar) for number in known]
    )
    return np.asarray(axis.to_numbers(dates)[places.reshape(ends.shape)])


def _days_since_start(axis: TimeAxis, width: float) -> Array:
    """Return how long before its stamp each step begins, in days."""
    clocks = np.array(
        [
            d.hour / 24 + d.minute / 1440 + (d.second + d.microsecond / 1e6) / 86400
            for d in axis.dates
        ]
    )
    if width <= 1:
        return np.asarray(
            clocks % width if np.isclose(1 / width, round(1 / width)) else np.zeros(len(axis))
        )
    # An odd number of days with stamps at noon has them in its middle.
    middle = np.allclose(clocks, 0.5) and round(width) % 2 == 1
    return np.full(len(axis), width / 2) if middle else clocks
