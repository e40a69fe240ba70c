"""Dates of a time axis as NumPy has them."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.cf.vocabulary import CALENDARS_LIKE_TODAYS
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import TimeUnits, dates_of_ticks


def dates_along(time: TimeAxis) -> Array:
    """Return the dates as written, shape (n,): datetime64 in calendars like today's, and dates of
    cftime in others, which have days that NumPy does not know.

    Parameters
    ----------
    time : TimeAxis
    """
    return _as_dates(time.dates, time.calendar)


def dates_of_values(values: Array, units: TimeUnits) -> Array:
    """Return values that count time as dates, of the same shape; missing ones as not a time, or
    None in calendars that NumPy does not know.

    Parameters
    ----------
    values : ndarray of float
    units : TimeUnits
    """
    known = np.isfinite(values)
    ticks = units.to_ticks(values[known])
    dates = _as_dates(dates_of_ticks(ticks, units.calendar), units.calendar)
    missing = None if dates.dtype.kind == "O" else np.datetime64("NaT")
    filled = np.full(values.shape, missing, dates.dtype)
    filled[known] = dates
    return filled


def _as_dates(dates: Array, calendar: str) -> Array:
    if calendar not in CALENDARS_LIKE_TODAYS:
        return np.asarray(dates)
    texts = [np.datetime64(date.isoformat()) for date in dates]
    return np.array(texts, "datetime64[ns]")
