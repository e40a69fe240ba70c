"""Thresholds over which peaks are: a share of the values below, or an amount."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.threshold import Threshold
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class PeakThreshold(TypedValue):
    """A threshold: `98%` of the values lie below it, or `20mm/day`.

    Attributes
    ----------
    share : float or None
        From 0 to 1.
    amount : Threshold or None
    """

    share: float | None = None
    amount: Threshold | None = None

    @classmethod
    def parse(cls, text: str) -> Self:
        plain = str(text).strip()
        if plain.endswith("%"):
            try:
                share = float(plain.removesuffix("%")) / 100
            except ValueError:
                share = -1.0
            if not 0 < share < 1:
                raise ValueError(
                    f"'{text}' is no share of the values; write 98%, or an amount: 20mm/day"
                )
            return cls(share)
        try:
            return cls(None, Threshold.parse(plain))
        except ValueError:
            raise ValueError(
                f"'{text}' is no threshold; write 98% of the values, or an amount: 20mm/day"
            ) from None

    def __str__(self) -> str:
        if self.share is not None:
            return f"{write_number(round(100 * self.share, 10))}%"
        return str(self.amount)

    def within(self, variable: Variable) -> float:
        """Return the amount in the units of a variable.

        Raises
        ------
        DataError
            If its units cannot be converted to them.
        """
        assert self.amount is not None
        return self.amount.within(variable, f"--above {self}")
