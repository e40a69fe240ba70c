"""Whether temperatures are on their scale or differences, to which the zero of a scale means
nothing."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from rhodolite.model.cf.cell_methods import SPREADS, read_cell_methods
from rhodolite.model.cf.departures import BASE_PERIOD, holds_departures
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import Variable


class Zero(StrEnum):
    """What 0 of a temperature means."""

    ON_SCALE = "on its scale"
    DIFFERENCE = "a difference"
    UNCERTAIN = "uncertain"


_CORRECTED = r"(?![\s_-]*(?:correct|adjust|remov|free))"
_PLAIN = re.compile(
    r"\b(?:anomal(?:y|ies)|anom|departures?|warming|cooling|(?<!without its )trends?|bias(?:es)?"
    + _CORRECTED
    + r"|depression|differences?|diff|dtr|(?:daily|diurnal|temperature|annual)\s+range|std|stddev"
    r"|standard\s+(?:deviation|error)|rmse?|root\s+mean\s+square)\b"
)
"""Words of quantities that are differences whatever their units."""
_PERHAPS = re.compile(
    r"\b(?:changes?|range|deviation|variability|error|increment|tendency|gradient|amplitude"
    r"|residuals?|uncertainty|delta|spread|perturbation)\b"
)
_NAMES = re.compile(r"_anomaly$|difference|standard_error$")


@dataclass(frozen=True)
class Reading:
    """How the zero of a variable is read, and what says so.

    Attributes
    ----------
    zero : Zero
    because : str
        The attribute and the word that tell; empty where the units alone do.
    """

    zero: Zero
    because: str = ""


def read_zero(variable: Variable) -> Reading:
    """Return whether values are on the scale of their units or differences, and what tells.

    `units_metadata` comes first (CF 1.11, 3.1.2), then cell methods and the standard name, then
    plain words of the long name or the name, such as anomaly; last that it says `unknown`.

    Parameters
    ----------
    variable : Variable
        Of any units; the answer matters for temperatures alone.
    """
    attributes = variable.attributes
    said = str(attributes.get("units_metadata", ""))
    if "temperature" in said and "unknown" not in said:
        zero = Zero.DIFFERENCE if "difference" in said else Zero.ON_SCALE
        return Reading(zero, "units_metadata")
    for method in read_cell_methods(attributes):
        if method.method in SPREADS:
            return Reading(Zero.DIFFERENCE, f"cell_methods ({method.method})")
    if match := _NAMES.search(str(attributes.get("standard_name", ""))):
        return Reading(Zero.DIFFERENCE, f"standard_name ({match.group(0).strip('_')})")
    if holds_departures(variable):
        return Reading(Zero.DIFFERENCE, BASE_PERIOD)
    texts = (
        ("long_name", str(attributes.get("long_name", ""))),
        ("name", variable.name),
    )
    for words, zero in ((_PLAIN, Zero.DIFFERENCE), (_PERHAPS, Zero.UNCERTAIN)):
        for key, text in texts:
            spaced = re.sub(
                r"[_-]+", " ", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", text)
            ).lower()
            if match := words.search(spaced):
                return Reading(zero, f"{key} ({match.group(0)})")
    if "unknown" in said:
        return Reading(Zero.UNCERTAIN, "units_metadata (unknown)")
    return Reading(Zero.ON_SCALE)


def is_difference(variable: Variable) -> bool:
    """Return whether the values are differences, to which the zero of a scale means nothing."""
    return read_zero(variable).zero is Zero.DIFFERENCE


def describe_units(units: str | None, *, difference: bool) -> dict[str, str]:
    """Return the attributes that say in which units values are, and of temperatures whether they
    are differences (CF 1.11, 3.1.2); none where there are no units.

    Examples
    --------
    >>> describe_units("K", difference=True)
    {'units': 'K', 'units_metadata': 'temperature: difference'}
    """
    if not units:
        return {}
    if not is_temperature(units):
        return {"units": units}
    scale = "difference" if difference else "on_scale"
    return {"units": units, "units_metadata": f"temperature: {scale}"}


def is_state(variable: Variable) -> bool:
    """Return whether a variable is certain to be a temperature on its scale, by `units_metadata` or
    a standard name."""
    attributes = variable.attributes
    said = "on_scale" in str(attributes.get("units_metadata", ""))
    named = str(attributes.get("standard_name", "")).endswith("temperature")
    return read_zero(variable).zero is Zero.ON_SCALE and (said or named)


def temperature_reading(variable: Variable) -> Reading | None:
    """Return how the zero of a temperature is read; None for other quantities."""
    return read_zero(variable) if is_temperature(variable.units or "1") else None
