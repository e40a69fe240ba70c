"""Amounts for each calendar month or year, whose real length decides what they come to.

UDUNITS takes a month for a twelfth of a year of 365.2425 days. Data in `mm month-1` are of the
months that their steps lie in, so wherever there is a time axis these count.
"""

from __future__ import annotations

import re

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, Ticks
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
    mean one of those that it covers, in parts or whole, shape (n,).
    """
    calendar = axis.calendar
    if axis.lengths is None or axis.cell_ticks is None or axis.instants:
        return _places(axis.middle_ticks, months, calendar)[2]
    begins, ends = axis.cell_ticks.T
    first, since_first, days = _places(begins, months, calendar)
    last, since_last, _ = _places(ends, months, calendar)
    lies_in_one = _places(ends - 1, months, calendar)[0] == first
    covered = (last - first) + (since_last - since_first)
    return np.asarray(np.where(lies_in_one, days, axis.lengths / covered))


def _places(ticks: Ticks, months: int, calendar: str) -> tuple[Ticks, Array, Array]:
    """Return the number of the month or year that times lie in, the part of it that is over by
    then, and its days."""
    number = months_of_days(ticks // DAY_TICKS, calendar)[0] // months
    start, stop = (
        first_days((number + more) * months, calendar) * DAY_TICKS for more in (0, 1)
    )
    return number, (ticks - start) / (stop - start), (stop - start) / DAY_TICKS


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
