"""What people call the steps of a time axis: 2001, 2001-02, 2050 DJF, January of 1991 to 2020."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np

from rhodolite.model.time.period_text import MONTH_TITLES, Season
from rhodolite.model.time.time_axis import TimeAxis


def time_labels(axis: TimeAxis) -> list[str]:
    """Return a text for each step, no finer than need be, in ISO 8601 where that has one.

    Parameters
    ----------
    axis : TimeAxis
    """
    if axis.climatological and axis.bounds is not None:
        return [_phase(*ends) for ends in axis.to_dates(np.sort(axis.bounds, axis=1))]
    step = axis.resolution
    if (
        axis.cells is not None
        and step.unit in ("year", "month")
        and (step.unit, step.count) != ("month", 1)
    ):
        months = step.count * (12 if step.unit == "year" else 1)
        return [_stretch(first, after, months) for first, after in axis.to_dates(axis.cells)]
    form = {"month": "%Y-%m", "day": "%Y-%m-%d"}.get(step.unit, "%Y-%m-%dT%H:%M:%S")
    if step.unit in ("irregular", "single", "day") and all(
        (d.hour, d.minute) == (0, 0) for d in axis.dates
    ):
        form = "%Y-%m-%d"
    if step.unit in ("year", "month") and axis.cells is None:
        form = "%Y" if step.unit == "year" else "%Y-%m"
    return [date.strftime(form) for date in axis.reference_dates]


def base_years(axis: TimeAxis) -> str | None:
    """Return the years that a climatological axis is of, such as 1991-2020; None for other axes.

    Parameters
    ----------
    axis : TimeAxis
    """
    if not axis.climatological or axis.bounds is None:
        return None
    dates = axis.to_dates(np.sort(axis.bounds, axis=1))
    # A winter belongs to the year in which it ends, so the first year is that of the first January.
    first = min(
        start.year + (1 if start.month == 12 and _months_between(start, end) > 1 else 0)
        for start, end in dates
    )
    last = max((end - datetime.timedelta(hours=1)).year for _, end in dates)
    return f"{first:04d}-{last:04d}" if last > first else f"{first:04d}"


def _stretch(first: Any, after: Any, months: int) -> str:
    last = after - datetime.timedelta(hours=1)
    if months == 12:
        return f"{last.year:04d}"
    if months > 12:
        return f"{first.year:04d}-{last.year:04d}"
    return f"{last.year:04d} {Season(first.month, months)}"


def _phase(start: Any, end: Any) -> str:
    """Return what a phase of a cycle is called, given the beginning of its first and the end of its
    last occurrence."""
    if (start.hour, start.minute) != (end.hour, end.minute):
        clock, last = f"{start.hour:02d}:{start.minute:02d}", end - datetime.timedelta(hours=1)
        if start.day == 1 and last.month == start.month and last.day >= 28:
            return f"{MONTH_TITLES[start.month - 1]} {clock}"
        if start.day == 1 and last.day >= 28 and _months_between(start, last) == 2:
            return f"{Season(start.month, 3)} {clock}"
        if (start.month, start.day) == (last.month, last.day):
            return f"{start.day} {MONTH_TITLES[start.month - 1]} {clock}"
        return clock
    if (start.day, end.day) != (1, 1) or (
        _months_between(start, end) == 0 and (end - start).days % 365 < 3
    ):
        if (start.day, end.day) == (1, 1) and (start.month, end.month) == (1, 1):
            return "year"
        return f"{start.day} {MONTH_TITLES[start.month - 1]}"
    months = _months_between(start, end)
    if months == 0:
        return "year"
    return MONTH_TITLES[start.month - 1] if months == 1 else str(Season(start.month, months))


def _months_between(start: Any, end: Any) -> int:
    return int((end.month - start.month) % 12)
