"""Units of measurement, as UDUNITS understands them."""

from __future__ import annotations

import atexit
import contextlib
import re
from fractions import Fraction
from functools import cache, lru_cache
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.plain_text import cut_text

_RATES = {"(10 year)-1": "per decade", "(100 year)-1": "per century"}
_LONGEST = 60
"""Letters of units that people are shown; files may say anything."""
_ROUNDING = 1e-11
_TERM = re.compile(r"([A-Za-z%µ_]+)\^?([+-]?\d+)?")
_SUPERSCRIPTS = str.maketrans("-0123456789", "⁻⁰¹²³⁴⁵⁶⁷⁸⁹")


@lru_cache(maxsize=256)
def _unit(text: str) -> Any:
    _silence()
    import cf_units

    return cf_units.Unit(text)


@lru_cache(maxsize=1)
def _silence() -> Any:
    """Keep the library from printing what it cannot read: whoever asks is told by what is
    returned."""
    import cf_units

    stack = contextlib.ExitStack()
    stack.enter_context(cf_units.suppress_errors())
    atexit.register(stack.close)  # while the library is still there
    return stack


def is_unit(text: str) -> bool:
    """Return whether UDUNITS can read these units."""
    try:
        unit = _unit(text)
        return not (unit.is_unknown() or unit.is_no_unit()) and bool(
            unit.is_convertible(unit)
        )
    except ValueError:
        return False


def convertible(source: str, target: str) -> bool:
    """Return whether values in one unit can be expressed in another.

    Parameters
    ----------
    source : str
        Units to convert from.
    target : str
        Units to convert to.
    """
    return (
        is_unit(source)
        and is_unit(target)
        and bool(_unit(source).is_convertible(_unit(target)))
    )


def convert(values: Array | float, source: str, target: str) -> Any:
    """Return values in `source` units expressed in `target` units, in double precision.

    Parameters
    ----------
    values : ndarray or float
    source : str
        Units to convert from.
    target : str
        Units to convert to.

    Raises
    ------
    ValueError
        If one of the units is not known to UDUNITS or they measure different things.
    """
    if source == target:
        return values
    if has_other_zero(source, target):
        factor, offset = between_scales(source, target)
        if np.ndim(values) == 0:
            # As it is written: 25 degC is 77 degF, and not the nearest sum of rounded numbers.
            return float(Fraction(repr(float(values))) * factor + offset)
        return np.asarray(values, dtype=np.float64) * float(factor) + float(offset)
    return _unit(source).convert(np.asarray(values, dtype=np.float64), _unit(target))


@cache
def between_scales(source: str, target: str) -> tuple[Fraction, Fraction]:
    """Return factor and offset between scales whose zeros differ, such as 9/5 and 32.

    UDUNITS goes by way of absolute zero, and leaves 13 digits of either.

    Raises
    ------
    ValueError
        If the units measure different things.
    """
    at_zero, at_one = (
        float(_unit(source).convert(value, _unit(target))) for value in (0.0, 1.0)
    )
    return plain_number(at_one - at_zero), plain_number(at_zero)


def plain_number(number: float) -> Fraction:
    """Return the ratio of small numbers that a number is but for rounding, or else itself."""
    plain = Fraction(number).limit_denominator(1000)
    close = abs(plain - Fraction(number)) <= _ROUNDING * abs(number)
    return plain if close else Fraction(number)


def is_pressure(text: str) -> bool:
    """Return whether units measure pressure, which by CF 4.3 makes a coordinate vertical."""
    return convertible(text, "Pa")


def has_offset_zero(text: str) -> bool:
    """Return whether nothing of the quantity is a number other than 0 (such as degC), so ratios
    mean nothing.
    """
    if not is_unit(text):
        return False
    base = _unit(text)
    return (
        bool(base.is_convertible(_unit("K"))) and float(convert(0.0, text, "K")) != 0.0
    )


def has_other_zero(units: str, others: str) -> bool:
    """Return whether 0 in some units is not 0 in others, as of degC and K."""
    return convertible(units, others) and between_scales(units, others)[1] != 0


def is_temperature(text: str) -> bool:
    """Return whether units are those of a temperature."""
    return convertible(text, "K")


def quotient(units: str, divisor: str) -> str:
    """Return the units of a quantity divided by another; temperatures with an offset count as
    differences.

    Parameters
    ----------
    units : str
        UDUNITS units.
    divisor : str
        Units to divide by.
    """
    above, below = ("K" if has_offset_zero(part) else part for part in (units, divisor))
    if below == "1":
        return above
    inverse = f"{below}-1" if below.isalpha() else f"({below})-1"
    return inverse if above == "1" else f"{above} {inverse}"


def square_units(units: str) -> str:
    """Return the units of a square; of temperatures those of differences.

    Examples
    --------
    >>> square_units("degC"), square_units("kg m-2 s-1")
    ('K2', 'kg2 m-4 s-2')
    """
    return power("K" if has_offset_zero(units) else units, 2) or f"({units})2"


def pretty(units: str | None) -> str:
    """Write units for people: `kg m-2 s-1` as `kg m⁻² s⁻¹`, `degC` as `°C`, dimensionless as
    nothing.
    """
    if not units or units == "1":
        return ""
    if " since " in units:  # a date, of which no part is a power
        return units
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
        plain = {
            "degC": "°C",
            "celsius": "°C",
            "degree_Celsius": "°C",
            "degrees_Celsius": "°C",
        }.get(name, name)
        words.append(plain + power.translate(_SUPERSCRIPTS) if name else word)
    return cut_text(" ".join(words), _LONGEST)


def product(units: str, others: str, *, divide: bool = False) -> str:
    """Return the units of a product, or of a quotient.

    Parameters
    ----------
    units : str
        UDUNITS units.
    others : str
        Units to multiply by.
    divide : bool
        Whether they are divided by instead.

    Examples
    --------
    >>> product("m s-1", "m s-1")
    'm2 s-2'
    >>> product("kg m-2 s-1", "s")
    'kg m-2'
    """
    if others == "1":
        return units
    unit = _unit(units) / _unit(others) if divide else _unit(units) * _unit(others)
    terms, more = _terms(units), _terms(others)
    if terms is not None and more is not None:
        for name, exponent in more.items():
            terms[name] = terms.get(name, 0) + (-exponent if divide else exponent)
        if (text := _write_terms(terms)) and _same(text, unit):
            return text
    factors = [
        _put_in_brackets(units),
        _put_in_brackets(others) + ("-1" if divide else ""),
    ]
    text = " ".join(factors).removeprefix("1 ")
    return text if _same(text, unit) else str(unit.definition)


def power(units: str, exponent: float) -> str | None:
    """Return the units of a power, such as a square or a square root; None where there are none.

    Examples
    --------
    >>> power("m2 s-2", 0.5)
    'm s-1'
    """
    if units == "1" or exponent == 1:
        return units
    unit = _raise(_unit(units), exponent)
    if unit is None:
        return None
    terms = _terms(units)
    if terms is not None:
        raised = {name: round(value * exponent) for name, value in terms.items()}
        if _same(text := _write_terms(raised), unit):
            return text
    if float(exponent).is_integer() and _same(
        text := f"{_put_in_brackets(units)}{int(exponent)}", unit
    ):
        return text
    return str(unit.definition)


def _raise(unit: Any, exponent: float) -> Any | None:
    """Return a power of a unit (of the units library), or a root; None where there is none."""
    inverse = round(1 / exponent) if exponent else 0
    try:
        if float(exponent).is_integer():
            return unit ** int(exponent)
        return unit.root(inverse) if abs(exponent * inverse - 1) < 1e-12 else None
    except ValueError:
        return None


def _terms(units: str) -> dict[str, int] | None:
    """Return the powers of the units that a text multiplies; None where it is more than that."""
    terms: dict[str, int] = {}
    if units == "1":
        return terms
    sign = 1
    for word in re.findall(r"/|[^\s.*/]+", units.replace("**", "^")):
        if word == "/":
            sign = -1
            continue
        match = _TERM.fullmatch(word)
        if match is None:
            return None
        terms[match.group(1)] = terms.get(match.group(1), 0) + sign * int(
            match.group(2) or 1
        )
        sign = 1
    return terms


def _write_terms(terms: dict[str, int]) -> str:
    """Write units with those above the line first."""
    powers = sorted(
        ((name, n) for name, n in terms.items() if n), key=lambda term: term[1] < 0
    )
    return " ".join(name if n == 1 else f"{name}{n}" for name, n in powers) or "1"


def _same(text: str, unit: Any) -> bool:
    other = _unit(text)
    return (
        bool(other.is_convertible(unit))
        and abs(float(other.convert(1.0, unit)) - 1) < 1e-9
    )


def _put_in_brackets(units: str) -> str:
    return units if re.fullmatch(r"[A-Za-z%]+|1", units) else f"({units})"
