"""Dates of a time axis as NumPy has them."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.cf.vocabulary import CALENDARS_LIKE_TODAYS
from rhodolite.model.time.time_axis import TimeAxis


def dates_along(time: TimeAxis) -> Array:
    """Return the dates as written, shape (n,): datetime64 in calendars like today's, and dates of
    cftime in others, which have days that NumPy does not know.

    Parameters
    ----------
    time : TimeAxis
    """
    if time.calendar not in CALENDARS_LIKE_TODAYS:
        return np.asarray(time.dates)
    return np.array(
        [np.datetime64(date.isoformat()) for date in time.dates], "datetime64[ns]"
    )
