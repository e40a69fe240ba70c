"""Units as people write them where UDUNITS would not understand, or would understand something
else."""

from __future__ import annotations

import re

from rhodolite.model.units.udunits import is_unit

_READ_AS = {
    "degC": ("deg_c", "celcius"),
    "K": ("deg_k", "kelvins"),
    "1": (
        "unitless",
        "dimensionless",
        "none",
        "no units",
        "nondim",
        "-",
        "fraction",
        "proportion",
        "ratio",
        "0-1",
        "(0-1)",
        "0 - 1",
        "(0 - 1)",
        "[0 - 1]",
        "psu",
        "n/a",
        "na",
        "kg kg**-1",
        "numeric",
        "flag",
        "category",
        "bool",
    ),
    "%": ("pct", "per cent", "% (0-100)", "0-100"),
    "hPa": ("mb", "mbs", "millibar", "millibars"),
    "m": (
        "gpm",
        "gp m",
        "geopotential meter",
        "geopotential meters",
        "geopotential metres",
        "m asl",
        "m a.s.l.",
        "meters above sea level",
        "metres above sea level",
        "m of water equivalent",
        "m of water",
        "m water equivalent",
        "m w.e.",
        "m w.e",
    ),
    "mm": ("mm of water equivalent", "mm of water", "mm water equivalent", "mm w.e.", "mm w.e"),
    "dam": ("gpdm", "gpdam"),
    "m3 s-1": ("cumec", "cumecs"),
    "mm month-1": ("mm/mon", "mm/mth", "mm per month"),
    "W m-2": ("w/m2", "w/m^2", "w m-2", "w m**-2"),
    "mm day-1": ("mm/24h", "mm/24 h", "mm per day"),
    "m s-1": ("m per s", "meters per second", "metres per second"),
    "degree": ("degrees_true", "degree_true", "degrees true"),
    "kg m-2 s-1": ("kg/m2s", "kg/(m2 s)", "kg/m**2/s", "kg m**-2 s**-1", "kg/m^2/s"),
}
_TRAPS = {"degC", "K", "hPa"}
"""UDUNITS reads `mb` as millibarns, so these count before it."""
_DEGREES = re.compile(r"\bdeg(?:s|rees?)?\.? (c|f|k|[a-z]{5,10})\b", re.IGNORECASE)
_SCALES = {
    **dict.fromkeys(("c", "celsius", "celcius", "centigrade"), "degC"),
    **dict.fromkeys(("f", "fahrenheit", "farenheit"), "degF"),
    **dict.fromkeys(("k", "kelvin", "kelvins"), "K"),
}
"""Scales of temperature after the word degrees, which UDUNITS reads as degrees of angle times
coulombs, farads or temperatures."""


def read_typed_units(text: str) -> str:
    """Return units as somebody typed them in words of UDUNITS; a `C` is a temperature then.

    Examples
    --------
    >>> read_typed_units("C"), read_typed_units("mb"), read_typed_units("mm/day")
    ('degC', 'hPa', 'mm/day')
    """
    return repair_units(text, "temperature") or text


def repair_units(text: str, quantity: str = "") -> str | None:
    """Return what units as written must mean, in words of UDUNITS; None where they are understood
    as they are.

    Parameters
    ----------
    text : str
    quantity : str
        What is measured; `C` alone is read as degrees Celsius where this is a temperature.

    Examples
    --------
    >>> repair_units("deg C"), repair_units("mm day-1"), repair_units("C", "air_temperature")
    ('degC', None, 'degC')
    """
    cleaned = re.sub(r"\s+", " ", text.strip().strip("[]")).strip()
    plain = cleaned.lower()
    if plain in ("c", "°c") and text.strip() != "°C" and "temperature" in quantity.lower():
        return "degC"
    scaled = _DEGREES.sub(lambda m: _SCALES.get(m.group(1).lower(), m.group()), cleaned)
    if scaled != cleaned and is_unit(scaled):
        return scaled
    found = next((units for units, written in _READ_AS.items() if plain in written), None)
    if found in _TRAPS:
        return found
    return None if is_unit(text) else found
