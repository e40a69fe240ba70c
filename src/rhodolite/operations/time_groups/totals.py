"""Sums over time: rates become amounts, amounts are added, and what is neither is named."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.model.time.month_units import month_start
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.udunits import convert, convertible, has_offset_zero
from rhodolite.model.variable import UNITS_OF_ONE, Variable

_TIME_WORDS = "s|sec|second|seconds|min|minute|minutes|h|hr|hour|hours|d|day|days"
_RATE = re.compile(
    rf"(?:[\s.*]|^)(?P<unit>{_TIME_WORDS})(?:\^|\*\*)?-1(?=$|[\s.*])|\s*/\s*(?P<per>{_TIME_WORDS})(?=$|[\s.*])"
)
_POWER = re.compile(r"(^|[\s.*/])(k|M|m)?W(?=$|[\s.*/^-])")
_MOTION = ("wind", "velocity", "speed", "vorticity", "divergence")
_CALENDAR = re.compile(
    r"(?P<amount>.+?)(?:\s*/\s*(?P<per>months?|mon|years?|yr|a)|[\s.*]+(?P<unit>months?|mon|years?|yr|a)(?:\^|\*\*)?-1)"
)
_FALLING = re.compile(
    r"precip|rain|snow|shower|evapo|runoff|run-off|melt|lwe_thickness|\b(tp|pr|sf|rr|prcp|ppt)\b"
)
_LYING = re.compile(
    r"depth|surface_snow|snow_thickness|snow_cover|\b(snd|swe|snw|sd)\b|water equivalent"
)
"""Words of water that came down during a step, and of water that lies there."""
_AMOUNT_WORDS = ("amount", "thickness_of", "duration", "number_of", "energy", "count")
_NAMES = {
    "precipitation_flux": "precipitation_amount",
    "convective_precipitation_flux": "convective_precipitation_amount",
    "rainfall_flux": "rainfall_amount",
    "snowfall_flux": "snowfall_amount",
    "runoff_flux": "runoff_amount",
    "lwe_precipitation_rate": "lwe_thickness_of_precipitation_amount",
    "lwe_convective_precipitation_rate": "lwe_thickness_of_convective_precipitation_amount",
}
"""Standard names of rates, and of the amounts that they add up to (CF standard name table)."""


@dataclass(frozen=True)
class TotalRule:
    """How the values of a variable add up over time.

    Attributes
    ----------
    factor : float
        What a rate has to be multiplied by, besides the days of its step; for amounts 1.
    of_rates : bool
        Whether values are multiplied by the length of their step.
    units : str or None
        Of the sum.
    standard_name : str or None
        Of the sum.
    """

    factor: float
    of_rates: bool
    units: str | None
    standard_name: str | None


def adding(variable: Variable, axis: TimeAxis) -> TotalRule:
    """Find out how values add up over time, with a warning where the sum of them means little.

    Parameters
    ----------
    variable : Variable
    axis : TimeAxis

    Raises
    ------
    DataError
        If the values are rates and the lengths of the steps are not known.
    """
    units, name = variable.units, variable.attributes.get("standard_name")
    if (calendar := calendar_rate(units)) is not None:
        return _of_calendar_units(variable, axis, *calendar)
    rate = None if units is None or _moves(variable) else rate_units(units)
    if rate is not None:
        if axis.lengths is None:
            raise DataError(
                f"{variable.name} is a rate ({units}), and its steps are irregular, so amounts "
                "cannot be told; bounds of the times would help"
            )
        amount, seconds = rate
        return TotalRule(86400.0 / seconds, True, amount, _NAMES.get(str(name)))
    if not is_amount(variable, axis):
        warn(
            f"{variable.name} ({units or 'no units'}) is a state, not an amount or a rate, and the "
            "sum of its values depends on how many there are; --statistic mean is what is usual"
        )
    if units and has_offset_zero(units):
        raise DataError(
            f"{variable.name} is in {units}, an interval scale with an arbitrary zero, so a sum is "
            "meaningless; use --statistic mean, or convert --units to K"
        )
    return TotalRule(1.0, False, units, None if name is None else str(name))


def rate_units(units: str) -> tuple[str, float] | None:
    """Return the units of the amount that a rate adds up to, and the seconds of its unit of time;
    None for no rate.

    Parameters
    ----------
    units : str
        UDUNITS units.

    Examples
    --------
    >>> rate_units("mm day-1")
    ('mm', 86400.0)
    >>> rate_units("W m-2")
    ('J m-2', 1.0)
    """
    if _POWER.search(units) and convertible(_POWER.sub(r"\1\2J", units), f"({units}) s"):
        return _POWER.sub(r"\1\2J", units), 1.0
    match = _RATE.search(units)
    if match is None:
        return None
    time = match.group("unit") or match.group("per")
    amount = (units[: match.start()] + " " + units[match.end() :]).strip() or UNITS_OF_ONE
    # What is left has to be the rate times the unit of time, or the text was read wrongly.
    if not convertible(amount, f"({units}) {time}"):
        return None
    return amount, float(convert(1.0, time, "s"))


def _moves(variable: Variable) -> bool:
    words = f"{variable.attributes.get('standard_name', '')} {variable.quantity}".lower()
    return any(word in words for word in _MOTION)


def is_amount(variable: Variable, axis: TimeAxis) -> bool:
    """Return whether each value is what fell, ran or came together during its step.

    Parameters
    ----------
    variable : Variable
    axis : TimeAxis
    """
    if calendar_rate(variable.units) is not None:
        return True
    methods = str(variable.attributes.get("cell_methods", ""))
    if any(
        name.lower() in (axis.name.lower(), "time")
        for name in re.findall(r"(\w+)\s*:\s*sum\b", methods)
    ):
        return True
    named = variable.attributes.get("standard_name", "")
    words = f"{named} {variable.quantity} {variable.name}".lower()
    if any(word in str(variable.attributes.get("standard_name", "")) for word in _AMOUNT_WORDS):
        return True
    deep = variable.units is not None and (
        convertible(variable.units, "m") or convertible(variable.units, "kg m-2")
    )
    return deep and not _LYING.search(words) and _FALLING.search(words) is not None


def calendar_rate(units: str | None) -> tuple[str, int] | None:
    """Return the units of an amount for each month or year, and the months it is for; None for
    other units.

    Parameters
    ----------
    units : str, optional
        UDUNITS units.

    Examples
    --------
    >>> calendar_rate("mm/month"), calendar_rate("kg m-2 year-1"), calendar_rate("mm day-1")
    (('mm', 1), ('kg m-2', 12), None)
    """
    match = None if units is None else _CALENDAR.fullmatch(units.strip())
    if match is None:
        return None
    word = match.group("unit") or match.group("per")
    return (match.group("amount") or "").strip() or UNITS_OF_ONE, 1 if word.startswith(
        "mon"
    ) else 12


def days_around(axis: TimeAxis, months: int) -> Array:
    """Return the days of the month (or the year, for 12 months) that each step lies in or stands
    for, shape (n,).

    Parameters
    ----------
    axis : TimeAxis
    months : int
    """
    step = axis.resolution
    count = step.count * {"month": 1, "year": 12}.get(step.unit, 0)
    if count and axis.lengths is not None:
        return np.asarray(axis.lengths * (months / count))
    first = axis.years * 12 + axis.months - 1
    first = first if months == 1 else first // 12 * 12
    known, places = np.unique(first, return_inverse=True)
    spans = [
        month_start(0, int(at) + 1 + months, axis.calendar)
        - month_start(0, int(at) + 1, axis.calendar)
        for at in known
    ]
    return np.array([span.total_seconds() / 86400 for span in spans])[places]


def _of_calendar_units(variable: Variable, axis: TimeAxis, amount: str, months: int) -> TotalRule:
    """Return how amounts for each month or year add up: by the months of their steps, not by their
    days."""
    step = axis.resolution
    if step.unit not in ("month", "year"):
        raise DataError(
            f"{variable.name} is in {variable.units}, and its steps ({step}) are not months or "
            f"years; convert --units '{variable.name}={amount} day-1' first"
        )
    count = step.count * (12 if step.unit == "year" else 1)
    name = str(variable.attributes.get("standard_name", ""))
    return TotalRule(count / months, False, amount, _NAMES.get(name, name or None))
