"""Values that are dates, such as the first day of a growing season, in words."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.time_units import (
    TimeUnits,
    counts_from_a_date,
    dates_of_ticks,
    read_time_units,
)
from rhodolite.model.variable import Variable


def units_of_dates(variable: Variable) -> TimeUnits | None:
    """Return the units of values that count time from a date; None for others."""
    units = variable.units or ""
    if not counts_from_a_date(units):
        return None
    calendar = str(variable.attributes.get("calendar", "standard")).lower()
    try:
        return read_time_units(units, calendar)
    except ValueError:
        return None  # numbers, then, as they are


def write_dates(values: Array, units: TimeUnits) -> Array:
    """Return numbers that count time as dates, and missing ones as nothing.

    Parameters
    ----------
    values : ndarray
        Of any shape.
    units : TimeUnits

    Returns
    -------
    ndarray of str, of the same shape

    Examples
    --------
    >>> units = read_time_units("days since 2001-01-01", "noleap")
    >>> write_dates(np.array([59.0, np.nan]), units).tolist()
    ['2001-03-01', '']
    """
    texts = np.full(values.shape, "", dtype=object)
    known = np.isfinite(values)
    if known.any():
        ticks = units.to_ticks(values[known])
        dates = dates_of_ticks(ticks, units.calendar)
        texts[known] = [format_date(date) for date in dates]
    return texts
