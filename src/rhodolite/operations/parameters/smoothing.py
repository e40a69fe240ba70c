"""How a cycle is smoothed, as the value of an option."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue


@dataclass(frozen=True)
class Smoothing(TypedValue):
    """How a cycle is smoothed: `31` for a centred window of that many phases, or `3 harmonics`.

    The window wraps around the ends of the cycle.
    """

    count: int
    harmonics: bool = False

    @classmethod
    def parse(cls, text: str) -> Self:
        number, harmonics = (
            text.strip().removesuffix("harmonics").removesuffix("harmonic").strip(),
            "harmonic" in text,
        )
        if (
            not number.isdecimal()
            or int(number) < 1
            or (not harmonics and int(number) % 2 == 0)
        ):
            raise ValueError(
                f"'{text}' is not a way to smooth; write an odd number of phases, such as 31, or "
                "'3 harmonics'"
            )
        return cls(int(number), harmonics)

    def __str__(self) -> str:
        return f"{self.count} harmonics" if self.harmonics else str(self.count)

    @property
    def words(self) -> str:
        """The smoothing as it reads in a comment."""
        return (
            f"first {self.count} harmonics"
            if self.harmonics
            else f"centred mean of {self.count} phases"
        )
