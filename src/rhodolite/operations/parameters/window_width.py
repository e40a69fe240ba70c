"""How long a moving window is: a number of steps, or a length of time."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.errors import DataError
from rhodolite.model.time.sampling import UNIT_TICKS
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.typed_value import TypedValue

_TEXT = re.compile(r"(\d+)\s*(steps?|hours?|days?|months?|years?|)")
_MONTHS = {"month": 1, "year": 12}


@dataclass(frozen=True)
class WindowWidth(TypedValue):
    """The length of a window: `5`, `5days`, `12months`, `30years`.

    Attributes
    ----------
    count : int
    unit : str
        ``step``, ``hour``, ``day``, ``month`` or ``year``.
    """

    count: int
    unit: str = "step"

    @classmethod
    def parse(cls, text: str) -> Self:
        match = _TEXT.fullmatch(str(text).strip().lower())
        if not match or not int(match.group(1)):
            raise ValueError(
                f"'{text}' is no length of a window; write a number of steps, or 6hours, 5days, "
                "12months or 30years"
            )
        return cls(int(match.group(1)), match.group(2).removesuffix("s") or "step")

    def __str__(self) -> str:
        if self.unit == "step":
            return str(self.count)
        return f"{self.count}{self.unit}{'s' * (self.count > 1)}"

    @property
    def words(self) -> str:
        """As it stands in a sentence."""
        return f"{self.count} {self.unit}{'s' * (self.count > 1)}"

    def steps(self, axis: TimeAxis) -> int:
        """Return how many steps of an axis it covers.

        Raises
        ------
        DataError
            If these are not a whole number, or steps are irregular.
        """
        if self.unit == "step":
            return self.count
        spacing = axis.spacing
        if self.unit in _MONTHS:
            length = self.count * _MONTHS[self.unit]
            step = {"month": 1, "year": 12}.get(spacing.unit, 0) * spacing.count
        else:
            length = self.count * UNIT_TICKS[self.unit]
            step = UNIT_TICKS.get(spacing.unit, 0) * spacing.count
        if not step or length % step:
            raise DataError(
                f"--width {self}: the data have one value {spacing}, of which {self.words} are "
                "no whole number; write the number of steps"
            )
        return length // step
