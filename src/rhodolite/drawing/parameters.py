"""Parameters that several drawings share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.model.periods import split_range

_SMALLEST, _LARGEST = 200, 8000


@dataclass(frozen=True)
class Limits:
    """The range of values that colours or an axis span; None where the data decide."""

    low: float | None
    high: float | None

    @classmethod
    def parse(cls, text: str) -> Self:
        ends = [_number(end, text) if end else None for end in split_range(text)]
        low, high = ends
        if low is not None and high is not None and low >= high:
            hint = f"write {high:g}..{low:g}" if low > high else "the upper limit has to be the greater"
            raise ValueError(f"'{text}' spans nothing; {hint}")
        return cls(low, high)

    def __str__(self) -> str:
        return f"{'' if self.low is None else f'{self.low:g}'}..{'' if self.high is None else f'{self.high:g}'}"


@dataclass(frozen=True)
class Size:
    """Width and height of a figure in pixels; vector formats take 100 of them to the inch."""

    width: int = 1280
    height: int = 800

    @classmethod
    def parse(cls, text: str) -> Self:
        width, _, height = text.lower().partition("x")
        if not (width.strip().isdigit() and height.strip().isdigit()):
            raise ValueError(f"'{text}' is not a size; write width and height in pixels, such as 1280x800")
        if not all(_SMALLEST <= int(side) <= _LARGEST for side in (width, height)):
            raise ValueError(f"'{text}': each side has to be from {_SMALLEST} to {_LARGEST} pixels")
        return cls(int(width), int(height))

    def __str__(self) -> str:
        return f"{self.width}x{self.height}"


def _number(text: str, whole: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise ValueError(f"'{whole}' holds no range of numbers; write it like -2..2 or 0..") from None
