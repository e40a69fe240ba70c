"""Return periods: after how many years on average a level is exceeded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class ReturnPeriods(TypedValue):
    """One or more return periods: `50`, or `10,50,100`.

    Attributes
    ----------
    years : tuple of float
    """

    years: tuple[float, ...]

    @classmethod
    def parse(cls, text: str) -> Self:
        try:
            years = tuple(float(part) for part in str(text).split(","))
        except ValueError:
            years = ()
        if not years or not all(1 < number < 1e6 for number in years):
            raise ValueError(
                f"'{text}' are no return periods; write years above 1, such as 50 or 10,50,100"
            )
        if len(set(years)) < len(years):
            raise ValueError(f"'{text}' names a return period twice")
        return cls(years)

    def __str__(self) -> str:
        return ",".join(map(write_number, self.years))
