"""Time counted in calendar months or years, which UDUNITS does not do but many files mean.

UDUNITS takes a month for a twelfth of a year of 365.2425 days. Files with units `months since` are
made by people who count calendar months, so that is how they are read here; a fraction is a share
of the month's own length.
"""

from __future__ import annotations

import re
from typing import Any

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError

_UNITS = re.compile(r"\s*(month|year)s?\s+since\s+(.+)", re.IGNORECASE)


def counts_months(units: str) -> bool:
    """Return whether units are months or years since a date.

    Parameters
    ----------
    units : str
        UDUNITS units.
    """
    return _UNITS.fullmatch(units) is not None


def months_to_dates(numbers: Array, units: str, calendar: str) -> NDArray[Any]:
    """Return dates (cftime objects) for numbers of months or years since a date.

    Parameters
    ----------
    numbers : ndarray
    units : str
        UDUNITS units.
    calendar : str
        CF calendar.

    Raises
    ------
    ValueError
        If the date in the units does not begin a month or cannot be read.
    """
    per_unit, year, month = _reference(units, calendar)
    made = np.empty(np.shape(numbers), dtype=object)
    for place, number in np.ndenumerate(numbers):
        whole = int(np.floor(number * per_unit))
        start, end = (month_start(year, month + whole + step, calendar) for step in (0, 1))
        made[place] = start + (end - start) * (float(number) * per_unit - whole)
    return made


def date_to_months(date: Any, units: str, calendar: str) -> float:
    """Return the number of months or years since the date in the units; the reverse of
    `months_to_dates`.

    Parameters
    ----------
    date : object
        Date of the cftime library.
    units : str
        UDUNITS units.
    calendar : str
        CF calendar.
    """
    per_unit, year, month = _reference(units, calendar)
    start, end = (
        month_start(date.year, date.month, calendar),
        month_start(date.year, date.month + 1, calendar),
    )
    whole = (date.year - year) * 12 + date.month - month
    return float((whole + (date - start) / (end - start)) / per_unit)


def _reference(units: str, calendar: str) -> tuple[int, int, int]:
    match = _UNITS.fullmatch(units)
    assert match is not None
    try:
        date = cftime.num2date(
            0, f"days since {match.group(2)}", calendar, only_use_cftime_datetimes=True
        )
    except (TypeError, OverflowError):
        raise DataError(f"the units '{units}' do not begin at a date") from None
    if (date.day, date.hour, date.minute, date.second) != (1, 0, 0, 0):
        raise ValueError("months can only be counted from the first of a month")
    return (12 if match.group(1).lower() == "year" else 1), date.year, date.month


def month_start(year: int, month: int, calendar: str) -> Any:
    """Return the first moment of a month; months beyond 12 or below 1 count into other years.

    Parameters
    ----------
    year : int
    month : int
        From 1; 13 is January of the next year.
    calendar : str
        CF calendar.
    """
    return cftime.datetime(year + (month - 1) // 12, (month - 1) % 12 + 1, 1, calendar=calendar)
