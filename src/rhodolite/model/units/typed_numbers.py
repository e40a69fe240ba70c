"""Numbers with units, as people type them: 20degC, 20 degC, 20[degC], 1e-3 kg m-2, 850."""

from __future__ import annotations

import math
import re

from rhodolite.model.units.aliases import read_typed_units

_NUMBER = r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?"
# Units are no further digits of the number, and do not end in those of a range.
_UNITS = r"(?![eE]\d)[^\d\s.,+\-\[\]](?:[^\[\]]*[^\s.\[\]])?"
_TYPED = re.compile(rf"\s*({_NUMBER})\s*(?:\[\s*({_UNITS}|1)\s*\]|({_UNITS}))?\s*")


def read_number(text: str) -> tuple[float, str] | None:
    """Return a number and its units, in words of UDUNITS, empty where there are none; None where
    the text is something else.

    Examples
    --------
    >>> read_number("20 [degC]"), read_number("-.5C"), read_number("850"), read_number("many")
    ((20.0, 'degC'), (-0.5, 'degC'), (850.0, ''), None)
    """
    match = _TYPED.fullmatch(text)
    if match is None or not math.isfinite(float(match[1])):
        return None
    units = (match[2] or match[3] or "").strip()
    return float(match[1]), read_typed_units(units) if units else ""
