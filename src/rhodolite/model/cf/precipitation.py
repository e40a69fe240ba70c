"""What tells that a variable is precipitation, whose values are none below zero and many at it."""

from __future__ import annotations

import re

from rhodolite.model.cf.vocabulary import WATER_WORDS
from rhodolite.model.units.calendar_rates import plain_rate
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

_NAMES = re.compile(
    r"(?:^|[^a-z])(?:pr|precip|prcp|rr|tp|rain|ppt|prec|rainfall)(?:$|[^a-z])"
)
"""Short names in use of precipitation."""
_OTHERS = re.compile(
    r"evap|balance|minus|deficit|anomal|departure|difference|change|trend|net\b"
)
"""Words of quantities in the same units that may fall below zero."""
_WORDS = (*WATER_WORDS, "snow", "lwe_")


def tell_precipitation(variable: Variable) -> str | None:
    """Return what says that a variable is precipitation, or other water that falls or runs off, in
    words; None where nothing does.
    """
    described = (
        f"{variable.attributes.get('standard_name', '')} {variable.quantity}".lower()
    )
    name = variable.name.lower()
    if _OTHERS.search(described.replace("_", " ")) or _OTHERS.search(name):
        return None
    if word := next((word for word in _WORDS if word in described), None):
        return f"it is called {word}"
    if _NAMES.search(name):
        return f"its name is {variable.name}"
    if _are_of_rain(variable.units or ""):
        return f"its units are {variable.units}"
    return None


def _are_of_rain(units: str) -> bool:
    """Return whether hardly anything but water that falls is measured in these units."""
    if not units:
        return False
    rate = plain_rate(units)
    if units.strip() == "mm" or convertible(rate, "kg m-2 s-1"):
        return True
    # A speed in millimetres is one of rain; others are of winds.
    return "mm" in units and convertible(rate, "mm day-1")
