"""Units of measurement, as UDUNITS understands them."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import numpy as np

from rhodolite.arrays import Array

_RATES = {"(10 year)-1": "per decade", "(100 year)-1": "per century"}
_SUPERSCRIPTS = str.maketrans("-0123456789", "⁻⁰¹²³⁴⁵⁶⁷⁸⁹")


@lru_cache(maxsize=256)
def _unit(text: str) -> Any:
    import cf_units

    return cf_units.Unit(text)


def is_unit(text: str) -> bool:
    """Return whether UDUNITS can read these units."""
    try:
        return not (_unit(text).is_unknown() or _unit(text).is_no_unit())
    except ValueError:
        return False


def convertible(source: str, target: str) -> bool:
    """Return whether values in one unit can be expressed in another."""
    return is_unit(source) and is_unit(target) and bool(_unit(source).is_convertible(_unit(target)))


def convert(values: Array | float, source: str, target: str) -> Any:
    """Return values in `source` units expressed in `target` units, in double precision.

    Raises
    ------
    ValueError
        If one of the units is not known to UDUNITS or they measure different things.
    """
    if source == target:
        return values
    return _unit(source).convert(np.asarray(values, dtype=np.float64), _unit(target))


def is_pressure(text: str) -> bool:
    """Return whether units measure pressure, which by CF 4.3 makes a coordinate vertical."""
    return convertible(text, "Pa")


def has_offset_zero(text: str) -> bool:
    """Return whether nothing of the quantity is a number other than 0 (such as degC), so ratios mean nothing."""
    if not is_unit(text):
        return False
    base = _unit(text)
    return bool(base.is_convertible(_unit("K"))) and float(convert(0.0, text, "K")) != 0.0


def is_temperature(text: str) -> bool:
    """Return whether units are those of a temperature."""
    return convertible(text, "K")


def quotient(units: str, divisor: str) -> str:
    """Return the units of a quantity divided by another; temperatures with an offset count as differences."""
    above, below = ("K" if has_offset_zero(part) else part for part in (units, divisor))
    if below == "1":
        return above
    inverse = f"{below}-1" if below.isalpha() else f"({below})-1"
    return inverse if above == "1" else f"{above} {inverse}"


def squared(units: str) -> str:
    """Return the units of a square; of temperatures those of differences."""
    if has_offset_zero(units):
        units = "K"
    return f"({units})2" if " " in units or "/" in units else f"{units}2"


def pretty(units: str | None) -> str:
    """Write units for people: `kg m-2 s-1` as `kg m⁻² s⁻¹`, `degC` as `°C`, dimensionless as nothing."""
    if not units or units == "1":
        return ""
    words = []
    for written, spoken in _RATES.items():
        if units.endswith(written):
            return f"{pretty(units.removesuffix(written).strip())} {spoken}".strip()
    for word in units.split():
        if re.fullmatch(r"1e-?\d+", word):
            words.append(f"10{word[2:].translate(_SUPERSCRIPTS)}")
            continue
        name = word.rstrip("-0123456789")
        power = word[len(name) :].removeprefix("^")
        plain = {"degC": "°C", "celsius": "°C", "degree_Celsius": "°C", "degrees_Celsius": "°C"}.get(name, name)
        words.append(plain + power.translate(_SUPERSCRIPTS) if name else word)
    return " ".join(words)
