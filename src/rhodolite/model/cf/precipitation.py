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
    if _OTHERS.search(described.replace("_", " ")) or _OTHERS.search(
        variable.name.lower()
    ):
        return None
    if word := next((word for word in _WORDS if word in described), None):
        return f"it is called {word}"
    if _NAMES.search(variable.name.lower()):
        return f"its name is {variable.name}"
    units = variable.units
    if units and (
        units.strip() == "mm" or convertible(plain_rate(units), "kg m-2 s-1")
    ):
        return f"its units are {units}"
    if units and convertible(plain_rate(units), "mm day-1") and "mm" in units:
        return f"its units are {units}"
    return None
