"""What a dataset says of its times: what they cover, how far they are apart, what is left out."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.local_clock import local_offset
from rhodolite.model.time.calendar_parts import CalendarParts
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.left_out_steps import find_breaks
from rhodolite.model.time.period_text import Instant
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, dates_of_ticks

Plain = dict[str, Any]


def describe_times(dataset: Dataset) -> Plain | None:
    """Return what is known of the times of a dataset; None where it has none."""
    try:
        axis = dataset.time
    except DataError as error:  # what else there is can still be said
        return {"unreadable": str(error)}
    if axis is None or not len(axis):
        return None
    ends = dates_of_ticks(np.array([axis.ticks.min(), axis.ticks.max()]), axis.calendar)
    parts, missing = _parts(axis), axis.step.missing
    if parts is not None and axis.cell_ticks is not None:
        missing = parts.count_missing(axis.cell_ticks[:, 0] // DAY_TICKS)
    described: Plain = {
        "first": format_date(ends[0]),
        "last": format_date(ends[1]),
        "covers": _list_covered(axis, by_days=parts is not None),
        "step": str(parts or axis.step),
        "count": len(axis),
        "missing_steps": missing,
        "gaps": _gaps(axis) if missing else [],
        "calendar": axis.calendar,
        "utc_offset": local_offset(dataset),
        "name": axis.name,
        "bounds": axis.bounds is not None,
    }
    if axis.climatological and axis.bounds is not None:
        ends = axis.to_dates(np.array([axis.bounds.min(), axis.bounds.max()]))
        described["climatology_of"] = [format_date(date) for date in ends]
    return described


def _parts(axis: TimeAxis) -> CalendarParts | None:
    """Return the parts of months or years that steps are, such as dekads; None where they are
    none."""
    cells = axis.cell_ticks
    if axis.step.unit != "irregular" or cells is None or (cells % DAY_TICKS).any():
        return None
    days = cells // DAY_TICKS
    parts = CalendarParts.find(days[:, 0], axis.calendar)
    is_of_them = parts is not None and (parts.from_starts(days[:, 0]) == days).all()
    return parts if is_of_them else None


def _list_covered(axis: TimeAxis, *, by_days: bool) -> list[str]:
    """Return the first and last period that steps stand for: days, months or years as the step
    is."""
    fields = {"day": 3, "month": 2, "year": 1}.get(axis.step.unit)
    if fields == 3 or by_days:
        return [str(axis.span.first), str(axis.span.last)]
    if axis.step.unit == "year":
        return [
            f"{year:04d}" for year in (axis.named_years.min(), axis.named_years.max())
        ]
    ends = np.array([axis.middle_ticks.min(), axis.middle_ticks.max()])
    dates = dates_of_ticks(ends, axis.calendar)
    if fields is None:
        return [format_date(date) for date in dates]
    return [str(Instant((date.year, date.month, date.day)[:fields])) for date in dates]


def _gaps(axis: TimeAxis, most: int = 5) -> list[str]:
    """Return the first few stretches where steps are left out, as between two dates."""
    order = axis.order
    after = find_breaks(axis.middle_ticks[order])[:most]
    edges = axis.ticks[order[np.stack([after - 1, after], axis=1)]]
    return [
        f"{format_date(before)} to {format_date(after)}"
        for before, after in dates_of_ticks(edges, axis.calendar)
    ]
