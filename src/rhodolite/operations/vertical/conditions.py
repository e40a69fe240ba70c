"""Conditions on a column: a threshold, or a difference from another level."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.typed_numbers import read_number

_THRESHOLD = re.compile(r"(\w+)\s*([<>])(.+)")
_DIFFERS = re.compile(r"(\w+)\s+differs\s+(.+?)\s+from\s+(.+)")


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
            change, level = read_number(match[2]), read_number(match[3])
            if change is not None and level is not None:
                return cls(plain, match[1], "differs", *change, *level)
        elif match := _THRESHOLD.fullmatch(plain):
            threshold = read_number(match[3])
            if threshold is not None:
                return cls(plain, match[1], match[2], *threshold)
        raise ValueError(
            f"'{text}' is no condition; write 'ta < 0degC', or 'thetao differs 0.2K from 10m'"
        )

    def __str__(self) -> str:
        return self.text
