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
        "~",
        "index",
        "code",
        "day of year",
    ),
    "1e-3": ("‰", "per mille", "permille", "promille", "per mil"),
    "0.1": ("tenth", "tenths"),
    "0.125": ("okta", "oktas", "octa", "octas", "eighths"),
    "%": ("pct", "per cent", "% (0-100)", "0-100"),
    "hPa": ("mb", "mbs", "millibar", "millibars", "hpa"),
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
    ),
    "dam": ("gpdm", "gpdam"),
    "m3 s-1": ("cumec", "cumecs"),
    "mm month-1": ("mm/mon", "mm/mth", "mm per month"),
    "W m-2": ("w/m2", "w/m^2", "w m-2", "w m**-2", "wm-2"),
    "mm day-1": ("mm/24h", "mm/24 h", "mm per day", "mmday-1", "mmd-1"),
    "m s-1": ("m per s", "meters per second", "metres per second"),
    "km h-1": ("kmh-1", "kmh", "kph", "kmph", "km per hour"),
    "mile hour-1": ("mph", "mi/h", "miles per hour"),
    "s-1": ("/s", "per s", "per second"),
    "degree": ("degrees_true", "degree_true", "degrees true", "deg", "degs"),
    "kg m-2 s-1": (
        "kgm-2s-1",
        "kg/m2s",
        "kg/(m2 s)",
        "kg/m**2/s",
        "kg m**-2 s**-1",
        "kg/m^2/s",
    ),
}
_TRAPS = {"degC", "K", "hPa", "mile hour-1"}
"""UDUNITS reads `mb` as millibarns and `mph` as milliphots, so these count before it."""
_OF_TEMPERATURES = {"c": "degC", "°c": "degC", "f": "degF"}
"""Which are coulombs and farads otherwise."""
_TEMPERATURES = re.compile(
    r"temperature|\btemps?\b|\b(?:tas|ta|ts|tos|sst)(?:max|min)?\b|\bt(?:2m|max|min|mean|avg|[xng])\b"
    r"|dew ?point|wet ?bulb|heat index|wind chill"
)
_OF_SPEEDS = ("wind", "speed", "velocity", "current")
_DEGREES = re.compile(r"\bdeg(?:s|rees?)?\.? (c|f|k|[a-z]{5,10})\b", re.IGNORECASE)
_WATER = re.compile(
    r"\b((?:[cmk])?m|kg m-2) (?:of )?(?:water(?: eq\w*\.?)?|w\.? ?e\.?)(?=\W|$)",
    re.IGNORECASE,
)
"""Depths of water, which the quantity tells already."""
_SUBSTANCE = re.compile(
    r"\b((?:[kmuµnPTGM]?g|[kmuµn]?mol)) ?(?:C|N|S|P|CO2|H2O|CH4|N2O|NO2|SO2|NH3|O3)(?=[\s/.*]|$)"
)
"""Of what a mass or an amount is, which UDUNITS reads as coulombs, newtons or siemens."""
_PER_YEARS = re.compile(r"^(.+?) ?(?:/ ?|per )(decade|century)$", re.IGNORECASE)
_YEARS = {"decade": "(10 year)-1", "century": "(100 year)-1"}
_SIGNS = str.maketrans(
    {"⁻": "-", "⁰": "0", "¹": "1", "²": "2", "³": "3", "⁴": "4", "·": " "}
)
_SIGNS.update(str.maketrans({"×": " ", "−": "-", "{": "", "}": ""}))
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
        What is measured; `C` and `F` alone are read as degrees where this is a temperature, and
        `ms-1`, which is a thousand a second, as metres a second where it is a speed.

    Examples
    --------
    >>> repair_units("deg C"), repair_units("mm day-1"), repair_units("C", "air_temperature")
    ('degC', None, 'degC')
    """
    cleaned = re.sub(r"\s+", " ", text.strip().strip("[]")).strip()
    plain = cleaned.lower()
    if text.strip() != "°C" and (
        units_of_quantity := _told_by_quantity(plain, quantity.lower())
    ):
        return units_of_quantity
    rewritten = _rewrite(cleaned)
    if rewritten != cleaned and is_unit(rewritten):
        return rewritten
    alias = next(
        (units for units, written in _READ_AS.items() if plain in written), None
    )
    if alias in _TRAPS:
        return None if alias == text else alias
    if is_unit(text):
        return None
    # Capitals where small letters are meant: KG/M2/S.
    small = plain if is_unit(plain) and cleaned[:1].isupper() else None
    return alias or small


def _told_by_quantity(plain: str, quantity: str) -> str | None:
    """Return units that mean something else of any other quantity."""
    if _TEMPERATURES.search(quantity.replace("_", " ")):
        return _OF_TEMPERATURES.get(plain)
    is_speed = any(word in quantity for word in _OF_SPEEDS)
    return "m s-1" if is_speed and plain == "ms-1" else None


def _rewrite(text: str) -> str:
    """Return units with signs, temperatures, substances and long times as UDUNITS writes them."""
    if not is_unit(text):
        text = re.sub(r"\s+", " ", text.translate(_SIGNS)).strip()
    text = _DEGREES.sub(lambda m: _SCALES.get(m.group(1).lower(), m.group()), text)
    text = _WATER.sub(r"\1", text)
    text = _SUBSTANCE.sub(r"\1", text)
    return _PER_YEARS.sub(_write_long_rate, text)


def _write_long_rate(match: re.Match[str]) -> str:
    """Return a change in ten or a hundred years; of temperatures, in kelvins."""
    changing, years = match.groups()
    return f"{'K' if changing == 'degC' else changing} {_YEARS[years.lower()]}"
