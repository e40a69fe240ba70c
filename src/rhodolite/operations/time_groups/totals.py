"""Sums over time: rates become amounts, amounts are added, and what is neither is named."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.model.cf.cell_methods import methods_over_time
from rhodolite.model.time.steps_of_periods import steps_overlap
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.calendar_rates import calendar_rate, days_of_unit
from rhodolite.model.units.differences import is_difference
from rhodolite.model.units.udunits import convert, convertible, has_offset_zero
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.time_groups.since_start import warn_of_restarts

_TIME_WORDS = "s|sec|second|seconds|min|minute|minutes|h|hr|hour|hours|d|day|days"
_RATE = re.compile(
    rf"(?:[\s.*]|^)(?P<unit>{_TIME_WORDS})(?:\^|\*\*)?-1(?=$|[\s.*])|\s*/\s*(?P<per>{_TIME_WORDS})(?=$|[\s.*])"
)
_POWER = re.compile(r"(^|[\s.*/])(k|M|m)?W(?=$|[\s.*/^-])")
_MOTION = ("wind", "velocity", "speed", "vorticity", "divergence")
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


def name_of_rate(name: str) -> str | None:
    """Return the standard name of the rate of which an amount is the sum; None where there is
    none."""
    return next((rate for rate, amount in _NAMES.items() if amount == name), None)


@dataclass(frozen=True, eq=False)
class TotalRule:
    """How the values of a variable add up over time.

    Attributes
    ----------
    weights : ndarray of float64, shape (n,), or None
        What the value of each step is multiplied by: the length of its step where values are rates;
        None for amounts.
    factor : float
        What the sum has to be multiplied by besides.
    units : str or None
        Of the sum.
    standard_name : str or None
        Of the sum.
    """

    weights: Array | None
    factor: float
    units: str | None
    standard_name: str | None


def adding(variable: Variable, axis: TimeAxis, along: int) -> TotalRule:
    """Find out how values add up over time, with a warning where the sum of them means little.

    Parameters
    ----------
    variable : Variable
    axis : TimeAxis
    along : int
        Where time lies.

    Raises
    ------
    DataError
        If the values are rates and the lengths of the steps are not known, or if steps overlap.
    """
    warn_of_restarts(variable, axis, along)
    _need_apart(variable, axis)
    units, name = variable.units, str(variable.attributes.get("standard_name", ""))
    weights, rate, calendar = (
        sum_weights(variable, axis),
        _rate_of(variable),
        calendar_rate(units),
    )
    if weights is None and (rate or calendar):
        raise DataError(
            f"{variable.name} is a rate ({units}), and its steps are irregular, so its amounts are "
            "not known; give the times bounds"
        )
    if rate is not None:
        return TotalRule(weights, 86400.0 / rate[1], rate[0], _NAMES.get(name))
    if calendar is not None:
        return TotalRule(weights, 1.0, calendar[0], _NAMES.get(name, name or None))
    if not is_amount(variable, axis):
        warn(
            f"{variable.name} ({units or 'no units'}) is a state, not an amount or a rate, and the "
            "sum of its values depends on how many there are; --statistic mean is what is usual"
        )
    need_ratio_scale(variable)
    return TotalRule(None, 1.0, units, name or None)


def _need_apart(variable: Variable, axis: TimeAxis) -> None:
    """Refuse to add up what several steps share."""
    if not steps_overlap(axis):
        return
    assert axis.cell_ticks is not None
    begins = axis.cell_ticks[:, 0]
    if np.unique(begins).size < begins.size:
        raise DataError(
            f"{variable.name}: several steps begin together, as amounts since a start do, and a "
            "sum would count them more than once; take them apart first with convert --amounts "
            "since-start"
        )
    raise DataError(
        f"{variable.name}: the steps overlap, as those of running means do, and a sum would count "
        "what they share more than once; choose some that do not, such as subset --every time=3, "
        "or take --statistic mean"
    )


def need_ratio_scale(variable: Variable) -> None:
    """Refuse to add up values on a scale whose zero is arbitrary.

    Raises
    ------
    DataError
        For temperatures in degC, say, that are no differences.
    """
    units = variable.units
    if units and has_offset_zero(units) and not is_difference(variable):
        raise DataError(
            f"{variable.name} is in {units}, an interval scale with an arbitrary zero, so a sum is "
            "meaningless; use --statistic mean, or convert --units to K"
        )


def mean_weights(variable: Variable, axis: TimeAxis) -> Array | None:
    """Return how much each step counts in a mean over time, shape (n,); None where all count alike.

    States and rates count by the length of their steps, amounts of steps alike, and amounts for a
    month or a year by how many of these a step covers.
    """
    calendar = calendar_rate(variable.units)
    if calendar is not None:
        return _shares_of_unit(axis, calendar[1])
    return None if is_amount(variable, axis) else axis.lengths


def sum_weights(variable: Variable, axis: TimeAxis) -> Array | None:
    """Return what makes amounts of the values of each step, but for a factor, shape (n,); None
    where they are amounts, or states, already.
    """
    if _rate_of(variable) is not None:
        return axis.lengths
    calendar = calendar_rate(variable.units)
    return None if calendar is None else _shares_of_unit(axis, calendar[1])


def _shares_of_unit(axis: TimeAxis, months: int) -> Array | None:
    """Return how many months (or years) each step covers; None where that is not known."""
    if axis.lengths is None:
        step = axis.resolution.months
        return np.full(len(axis), step / months) if step else None
    shares = axis.lengths / days_of_unit(axis, months)
    # Whole months are of one weight, to the last bit.
    return np.asarray(
        np.where(np.abs(shares - np.rint(shares)) < 1e-9, np.rint(shares), shares)
    )


def _rate_of(variable: Variable) -> tuple[str, float] | None:
    """Return the amount that a rate for a day or less adds up to, and its seconds; None for all
    else."""
    units = variable.units
    return None if units is None or _moves(variable) else rate_units(units)


def rate_units(units: str) -> tuple[str, float] | None:
    """Return the units of the amount that a rate adds up to, and the seconds of its unit of time;
    None for no rate.

    Examples
    --------
    >>> rate_units("mm day-1")
    ('mm', 86400.0)
    >>> rate_units("W m-2")
    ('J m-2', 1.0)
    """
    if _POWER.search(units) and convertible(
        _POWER.sub(r"\1\2J", units), f"({units}) s"
    ):
        return _POWER.sub(r"\1\2J", units), 1.0
    match = _RATE.search(units)
    if match is None:
        return None
    time = match.group("unit") or match.group("per")
    amount = (
        units[: match.start()] + " " + units[match.end() :]
    ).strip() or UNITS_OF_ONE
    # What is left has to be the rate times the unit of time, or the text was read wrongly.
    if not convertible(amount, f"({units}) {time}"):
        return None
    return amount, float(convert(1.0, time, "s"))


def _moves(variable: Variable) -> bool:
    words = (
        f"{variable.attributes.get('standard_name', '')} {variable.quantity}".lower()
    )
    return any(word in words for word in _MOTION)


def is_amount(variable: Variable, axis: TimeAxis) -> bool:
    """Return whether each value is what fell, ran or came together during its step."""
    if "sum" in methods_over_time(variable.attributes, axis.name):
        return True
    named = variable.attributes.get("standard_name", "")
    words = f"{named} {variable.quantity} {variable.name}".lower()
    if any(
        word in str(variable.attributes.get("standard_name", ""))
        for word in _AMOUNT_WORDS
    ):
        return True
    deep = variable.units is not None and (
        convertible(variable.units, "m") or convertible(variable.units, "kg m-2")
    )
    return deep and not _LYING.search(words) and _FALLING.search(words) is not None
