"""Conditions on a column: a threshold, or a difference from another level."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.aliases import read_typed_units

_NUMBER = r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?"
_THRESHOLD = re.compile(rf"(\w+)\s*([<>])\s*({_NUMBER})\s*\[?([^\[\]]*)\]?\s*")
_DIFFERS = re.compile(
    rf"(\w+)\s+differs\s+({_NUMBER})\s*\[?([^\[\]]*?)\]?\s+from\s+({_NUMBER})\s*(\S.*)?"
)


@dataclass(frozen=True)
class ColumnCondition(TypedValue):
    """A condition: `ta < 0degC`, or `thetao differs 0.2K from 10m`.

    Attributes
    ----------
    text : str
    variable : str
    sign : str
        ``<`` or ``>``; of a difference ``differs``.
    number : float
    units : str
        Of the number; those of the variable where it has none.
    level : float or None
        From which a difference is.
    level_units : str
        Of that level; those of the levels where it has none.
    """

    text: str
    variable: str
    sign: str
    number: float
    units: str = ""
    level: float | None = None
    level_units: str = ""

    @classmethod
    def parse(cls, text: str) -> Self:
        plain = text.strip()
        if match := _DIFFERS.fullmatch(plain):
            name, number, units, level, level_units = match.groups()
            return cls(
                plain,
                name,
                "differs",
                float(number),
                _read(units),
                float(level),
                _read(level_units),
            )
        if match := _THRESHOLD.fullmatch(plain):
            name, sign, number, units = match.groups()
            return cls(plain, name, sign, float(number), _read(units))
        raise ValueError(
            f"'{text}' is no condition; write 'ta < 0degC', or 'thetao differs 0.2K from 10m'"
        )

    def __str__(self) -> str:
        return self.text


def _read(units: str | None) -> str:
    return read_typed_units(units.strip()) if units and units.strip() else ""
