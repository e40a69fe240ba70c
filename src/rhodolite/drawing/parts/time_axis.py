"""Time on the axis of a figure, whatever the calendar of the data."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.cf.vocabulary import CALENDARS_LIKE_TODAYS
from rhodolite.model.time.period_text import MONTH_TITLES
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import dates_of_ticks

_COMMON_CALENDARS = (*CALENDARS_LIKE_TODAYS, "noleap")
"""Calendars all of whose days since 1582 the axis of a figure has too."""
_EPOCH = datetime.datetime(1970, 1, 1)


def plot_days(axis: TimeAxis) -> Array:
    """Return times as days since 1970 for Matplotlib's date axis.

    Days that the common calendar does not have (30 February) are placed by their share of the year.
    """
    if axis.calendar in _COMMON_CALENDARS:
        return np.array(
            [
                _days_since_1970(d.year, d.month, d.day)
                + (d.hour + d.minute / 60 + d.second / 3600) / 24
                for d in dates_of_ticks(axis.covered_middles, axis.calendar)
            ]
        )
    years = np.floor(axis.decimal_years).astype(int)
    starts = np.array([_days_since_1970(year, 1, 1) for year in years])
    stops = np.array([_days_since_1970(year + 1, 1, 1) for year in years])
    return np.asarray(starts + (axis.decimal_years - years) * (stops - starts))


def date_labels(*, of_cycle: bool = False) -> Any:
    """Return a Matplotlib formatter that writes what is new at each tick, and all of it at the
    first; of a mean cycle, which lies in no year, the place in the cycle alone."""
    from matplotlib.ticker import Formatter

    write = labels_of_cycle if of_cycle else labels

    class DateLabels(Formatter):
        def format_ticks(self, values: Any) -> list[str]:
            return write([_date(value) for value in values])

    return DateLabels()


def labels_of_cycle(dates: list[datetime.datetime]) -> list[str]:
    """Write months, days or hours for an axis, without their year.

    Examples
    --------
    >>> labels_of_cycle([datetime.datetime(2013, month, 1) for month in (1, 2)])
    ['Jan', 'Feb']
    >>> labels_of_cycle([datetime.datetime(2013, 1, 1, hour) for hour in (0, 6)])
    ['00:00', '06:00']
    """
    if all((d.day, d.hour, d.minute) == (1, 0, 0) for d in dates) and len(dates) > 1:
        return [MONTH_TITLES[d.month - 1][:3] for d in dates]
    if dates and dates[-1] - dates[0] <= datetime.timedelta(days=1):
        return [f"{d:%H:%M}" for d in dates]
    return [f"{d.day} {MONTH_TITLES[d.month - 1][:3]}" for d in dates]


def labels(dates: list[datetime.datetime]) -> list[str]:
    """Write dates for an axis: years alone, months over their year, or days over their month.

    Examples
    --------
    >>> labels([datetime.datetime(2013, month, 1) for month in (10, 11, 12)])
    ['Oct\\n2013', 'Nov', 'Dec']
    """
    if all((d.month, d.day, d.hour) == (1, 1, 0) for d in dates):
        return [str(d.year) for d in dates]
    by_month = all((d.day, d.hour) == (1, 0) for d in dates)
    written, above = [], None
    for d in dates:
        month = MONTH_TITLES[d.month - 1][:3]
        if by_month:
            small, large = month, str(d.year)
        else:
            small = (
                str(d.day) if d.hour == 0 and d.minute == 0 else f"{d.day}, {d:%H:%M}"
            )
            large = f"{month} {d.year}"
        written.append(small if large == above else f"{small}\n{large}")
        above = large
    return written


def _date(value: float) -> datetime.datetime:
    return _EPOCH + datetime.timedelta(days=float(value))


def _days_since_1970(year: int, month: int, day: int) -> float:
    return float((datetime.datetime(year, month, day) - _EPOCH).days)
