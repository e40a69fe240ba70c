"""Cell methods: how values stand for their cells (CF 7.3)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

_ENTRY = re.compile(
    r"((?:[\w.]+\s*:\s*)+)(\w+)((?:\s+(?:where|over|within)\s+\w+)*)\s*(\([^)]*\))?\s*"
)
"""Names, each with a colon, a method, what it is over or within, and notes in parentheses."""

SPREADS = ("standard_deviation", "range")
"""In the units of the values, but never on their scale."""
SIZES = (*SPREADS, "variance", "sum_of_squares")
"""Never negative."""
_OTHER_QUANTITIES = (*SIZES, "sum")


@dataclass(frozen=True)
class CellMethod:
    """One of the methods, in the order in which they were applied.

    Attributes
    ----------
    names : tuple of str
        Axes, dimensions or standard names; none where the text is not understood.
    method : str
        In small letters.
    notes : str
        What follows it.
    """

    names: tuple[str, ...]
    method: str
    notes: str = ""

    def __str__(self) -> str:
        names = "".join(f"{name}: " for name in self.names)
        return f"{names}{self.method} {self.notes}".strip()

    def is_over(self, *names: str) -> bool:
        """Return whether it is over one of some axes."""
        over = {name.lower() for name in self.names}
        return not over.isdisjoint(name.lower() for name in names)

    def without(self, *names: str) -> CellMethod | None:
        """Return the same over its other axes; None where there are none."""
        gone = {name.lower() for name in names}
        others = tuple(name for name in self.names if name.lower() not in gone)
        return CellMethod(others, self.method, self.notes) if others else None


def read_cell_methods(attributes: Mapping[str, Any]) -> list[CellMethod]:
    """Return the methods that the attributes of a variable name; what is not understood stays, as
    one without names.

    Examples
    --------
    >>> methods = read_cell_methods({"cell_methods": "area : mean time: lat: Sum (of days)"})
    >>> [str(method) for method in methods]
    ['area: mean', 'time: lat: sum (of days)']
    """
    text = str(attributes.get("cell_methods", "")).strip()
    methods, place = [], 0
    while match := _ENTRY.match(text, place):
        names = tuple(name.strip() for name in match[1].split(":") if name.strip())
        notes = " ".join(part.strip() for part in match.group(3, 4) if part)
        methods.append(CellMethod(names, match[2].lower(), notes.strip()))
        place = match.end()
    if place < len(text):
        methods.append(CellMethod((), text[place:]))
    return methods


def holds_values(attributes: Mapping[str, Any]) -> bool:
    """Return whether the values of a variable are such as its quantity has, and no spread or sum of
    them.

    Examples
    --------
    >>> holds_values({"cell_methods": "time: mean (interval: 1 day comment: summer)"})
    True
    """
    methods = read_cell_methods(attributes)
    return not any(method.method in _OTHER_QUANTITIES for method in methods)


def methods_over_time(attributes: Mapping[str, Any], time: str = "time") -> list[str]:
    """Return the methods over time, in their order.

    Parameters
    ----------
    attributes : mapping
        Of a variable.
    time : str
        Name of the coordinate, by which methods may be named instead of its standard name.
    """
    return [
        method.method
        for method in read_cell_methods(attributes)
        if method.is_over("time", time)
    ]
