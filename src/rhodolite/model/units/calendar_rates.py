"""Amounts for each calendar month or year, whose real length decides what they come to.

UDUNITS takes a month for a twelfth of a year of 365.2425 days. Data in `mm month-1` are of the
months that their steps lie in, so wherever there is a time axis these count.
"""

from __future__ import annotations

import re

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.time.calendar_days import first_days
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import UNITS_OF_ONE

_CALENDAR = re.compile(
    r"(?P<amount>.+?)(?:\s*/\s*(?P<per>months?|mon|years?|yr|a)|[\s.*]+(?P<unit>months?|mon|years?|yr|a)(?:\^|\*\*)?-1)"
)

_OTHERWISE = re.compile(r"\b(?:years?|yr|months?)\b")
"""Months and years that are counted in another way, as of `K (10 year)-1`."""


def calendar_rate(units: str | None) -> tuple[str, int] | None:
    """Return the units of an amount for each month or year, and the months it is for; None for
    other units.

    Examples
    --------
    >>> calendar_rate("mm/month"), calendar_rate("kg m-2 year-1"), calendar_rate("mm day-1")
    (('mm', 1), ('kg m-2', 12), None)
    """
    match = None if units is None else _CALENDAR.fullmatch(units.strip())
    if match is None:
        return None
    word = match.group("unit") or match.group("per")
    amount = (match.group("amount") or "").strip() or UNITS_OF_ONE
    return amount, 1 if word.startswith("mon") else 12


def plain_rate(units: str) -> str:
    """Return units in which an amount for a month or a year is one for a day; others as they are.

    Examples
    --------
    >>> plain_rate("mm/month"), plain_rate("K")
    ('mm day-1', 'K')
    """
    rate = calendar_rate(units)
    return units if rate is None else f"{rate[0]} day-1".removeprefix("1 ")


def days_of_unit(axis: TimeAxis, months: int) -> Array:
    """Return the days of the month (or the year, for 12 months) that each step lies in, or of the
    mean one of those that it covers, shape (n,).
    """
    covered = axis.resolution.months
    if covered >= months and axis.lengths is not None:
        return np.asarray(axis.lengths * (months / covered))
    first = axis.month_numbers if months == 1 else axis.years * 12
    days = first_days(first + months, axis.calendar) - first_days(first, axis.calendar)
    return days.astype(np.float64)


def days_between(own: str | None, units: str, axis: TimeAxis | None) -> Array | None:
    """Return what values in some units are multiplied by, at each step, beside the plain change
    from an amount for a day to another, shape (n,); None where no month or year counts.

    Parameters
    ----------
    own, units : str
        UDUNITS units of the values, and those wanted.
    axis : TimeAxis, optional
        None where values run along no time; months are then those of UDUNITS.
    """
    source, target = calendar_rate(own), calendar_rate(units)
    counted = ((own, source), (units, target))
    if any(rate is None and _OTHERWISE.search(text or "") for text, rate in counted):
        return None  # slopes for ten years are of mean years
    if axis is None or (source and source[1]) == (target and target[1]):
        return None
    days = np.ones(len(axis))
    if target is not None:
        days = days * days_of_unit(axis, target[1])
    return days if source is None else days / days_of_unit(axis, source[1])
