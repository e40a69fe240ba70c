"""What people call the steps of a time axis: 2001, 2001-02, 2050 DJF, January of 1991 to 2020."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np

from rhodolite.model.time.calendar_days import months_of_days
from rhodolite.model.time.period_text import MONTH_TITLES, Instant, Season
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, Ticks, dates_of_ticks

NORMAL = " normal "
WHOLE_YEAR = "year"
"""The name of a phase that is all of a cycle."""
"""Between a phase of a mean cycle and the years that it is of."""


def time_labels(axis: TimeAxis) -> list[str]:
    """Return a text for each step, no finer than need be, in ISO 8601 where that has one.

    What a step covers follows from its text: the month of `2001-02`, the ten days of
    `2001-02-01..2001-02-10`.
    """
    if axis.climatological and axis.bounds is not None:
        return [
            name_phase(*ends) for ends in axis.to_dates(np.sort(axis.bounds, axis=1))
        ]
    cells, months = axis.cell_ticks, axis.resolution.months
    if cells is not None:
        if not (axis.instants or _follows_from_middle(axis, cells)):
            # Ends are told as the last moment within.
            within = dates_of_ticks(cells - np.array([0, 1]), axis.calendar)
            return [_range(*ends) for ends in within]
        if months > 1:
            ends = dates_of_ticks(cells, axis.calendar)
            return [_stretch(first, after, months) for first, after in ends]
    dates = axis.dates if axis.bounds is None else axis.reference_dates
    form = _date_form(axis)
    return [date.strftime(form) for date in dates]


def _date_form(axis: TimeAxis) -> str:
    """Return the form of dates that tells steps apart."""
    unit = axis.resolution.unit
    on_midnight = not (axis.ticks % DAY_TICKS).any()
    if unit == "day" or (unit in ("irregular", "single") and on_midnight):
        return "%Y-%m-%d"
    return {"month": "%Y-%m", "year": "%Y"}.get(unit, "%Y-%m-%dT%H:%M:%S")


def _follows_from_middle(axis: TimeAxis, cells: Ticks) -> bool:
    """Return whether the month, the day or the hours that the middle of a step lies in are what it
    covers."""
    step, at_midnight = axis.resolution, not (cells % DAY_TICKS).any()
    if step.months:
        first = months_of_days(cells // DAY_TICKS, axis.calendar)[1]
        return at_midnight and bool((first == 1).all())
    width = step.ticks
    if width is None or width > DAY_TICKS:
        return False
    if width == DAY_TICKS or axis.bounds is None:
        return width < DAY_TICKS or at_midnight
    evenly = DAY_TICKS % width == 0 and axis.step.ticks == width
    return evenly and not (cells[:, 0] % width).any()


def _range(first: Any, last: Any) -> str:
    """Return what runs from one moment to another, which is the last of it, such as the last
    microsecond of a day."""
    for depth in (3, 4, 5):
        ends = [_cut_date(date, depth) for date in (first, last)]
        clock = (first.hour, first.minute, first.second)[depth - 3 :]
        if not any(clock) and _is_last(last, depth):
            break
    else:
        ends = [_cut_date(date, 6) for date in (first, last)]
    whole_day = ends[0] == ends[1] and "T" not in ends[0]
    return ends[0] if whole_day else f"{ends[0]}..{ends[1]}"


def _is_last(date: Any, depth: int) -> bool:
    """Return whether a date is the last second of the day, hour or minute that it lies in."""
    clock = (date.hour, date.minute, date.second)[depth - 3 :]
    return clock == (23, 59, 59)[depth - 3 :]


def _cut_date(date: Any, depth: int) -> str:
    fields = (date.year, date.month, date.day, date.hour, date.minute, date.second)
    return str(Instant(fields[:depth]))


def whole_labels(axis: TimeAxis) -> list[str]:
    """Return a text for each step that tells all of it: of a phase of a mean cycle, with the years
    that it is of, as in `January normal 1991-2020`."""
    years = base_years(axis)
    return [label + (NORMAL + years if years else "") for label in time_labels(axis)]


def base_years(axis: TimeAxis) -> str | None:
    """Return the years that a climatological axis is of, such as 1991-2020; None for other axes."""
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


def name_phase(start: Any, end: Any) -> str:
    """Return what a phase of a cycle is called, given the beginning of its first and the end of its
    last occurrence."""
    if (start.hour, start.minute) != (end.hour, end.minute):
        return _phase_of_hour(start, end)
    months = _months_between(start, end)
    whole_months = (start.day, end.day) == (1, 1)
    # Some files end the phase of a day where its last occurrence begins, full years after the first
    # but for leap days; 1 January to 1 January is likelier the whole year.
    is_day = months == 0 and (end - start).days % 365 < 3
    if whole_months and is_day and start.month == 1:
        return WHOLE_YEAR
    if not whole_months or is_day:
        return f"{start.day} {MONTH_TITLES[start.month - 1]}"
    if months == 0:
        return WHOLE_YEAR
    if months == 1:
        return MONTH_TITLES[start.month - 1]
    return str(Season(start.month, months))


def _phase_of_hour(start: Any, end: Any) -> str:
    """Return what an hour of each day is called, of a month, a season, one day or all."""
    clock = f"{start.hour:02d}:{start.minute:02d}"
    last = end - datetime.timedelta(hours=1)
    if start.day == 1 and last.day >= 28:
        if last.month == start.month:
            return f"{MONTH_TITLES[start.month - 1]} {clock}"
        if _months_between(start, last) == 2:
            return f"{Season(start.month, 3)} {clock}"
    if (start.month, start.day) == (last.month, last.day):
        return f"{start.day} {MONTH_TITLES[start.month - 1]} {clock}"
    return clock


def _months_between(start: Any, end: Any) -> int:
    return int((end.month - start.month) % 12)
