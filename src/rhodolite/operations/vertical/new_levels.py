"""Levels to interpolate to, as the value of an option."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np

from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.typed_numbers import read_number

_MOST_LEVELS = 10_000


@dataclass(frozen=True)
class NewLevels(TypedValue):
    """Levels to interpolate to: `850hPa,500hPa`, or `100m..2000m/100m`; all in one unit."""

    values: tuple[float, ...]
    units: str
    text: str

    @classmethod
    def parse(cls, text: str) -> Self:
        values: list[float] = []
        units: list[str] = []
        for part in text.split(","):
            ends, slash, step = part.partition("/")
            first, dots, last = ends.partition("..")
            numbers = []
            for level in (first, last, step)[: 1 if not dots else 3]:
                number = read_number(level)
                if number is None or bool(dots) != bool(slash):
                    raise ValueError(
                        f"'{text}' are not levels; write 850hPa,500hPa or 100m..2000m/100m"
                    )
                numbers.append(number[0])
                units += [number[1]] if number[1] else []
            values += _range(numbers, text) if dots else numbers
        if len(set(units)) > 1:
            raise ValueError(
                f"'{text}' mixes {' and '.join(sorted(set(units)))}; write all levels in one unit"
            )
        if len(set(values)) < len(values):
            raise ValueError(f"'{text}' names a level twice")
        return cls(tuple(values), units[0] if units else "", text)

    def __str__(self) -> str:
        return self.text


def _range(numbers: list[float], text: str) -> list[float]:
    first, last, step = numbers
    count = int(np.floor(abs(last - first) / step + 1e-9)) + 1 if step > 0 else 0
    if not 0 < count <= _MOST_LEVELS:
        raise ValueError(
            f"'{text}' makes {count:,} levels; give a step above zero, such as 100m..2000m/100m"
        )
    return [float(first + np.sign(last - first) * step * at) for at in range(count)]
