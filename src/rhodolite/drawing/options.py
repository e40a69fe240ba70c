"""Options that pictures share, each declared once and mixed in; and the values of theirs."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Self

from rhodolite.errors import UsageError, nearest_names
from rhodolite.model.space.range_text import LatitudeRange, Levels, Position
from rhodolite.model.time.period_text import Period, split_range
from rhodolite.model.typed_value import TypedValue
from rhodolite.operations.declaration import Step, parameter
from rhodolite.plain_text import write_number

LEAST_POLAR = 10.0
"""Degrees from the equator down to which a polar map goes at most."""
_SMALLEST, _LARGEST = 200, 8000


@dataclass(frozen=True)
class Limits(TypedValue):
    """The range of values that colours or an axis span; None where the data decide."""

    low: float | None
    high: float | None

    @classmethod
    def parse(cls, text: str) -> Self:
        ends = [_number(end, text) if end else None for end in split_range(text)]
        low, high = ends
        if low is not None and high is not None and low >= high:
            hint = (
                f"write {high:g}..{low:g}"
                if low > high
                else "the upper limit has to be the greater"
            )
            raise ValueError(f"'{text}' spans nothing; {hint}")
        return cls(low, high)

    def __str__(self) -> str:
        ends = [
            "" if end is None else write_number(end) for end in (self.low, self.high)
        ]
        return "..".join(ends)


@dataclass(frozen=True)
class Size(TypedValue):
    """Width and height of a figure in pixels; vector formats take 100 of them to the inch."""

    width: int = 1280
    height: int = 800

    @classmethod
    def parse(cls, text: str) -> Self:
        width, _, height = text.lower().partition("x")
        if not (width.strip().isdecimal() and height.strip().isdecimal()):
            raise ValueError(
                f"'{text}' is not a size; write width and height in pixels, such as 1280x800"
            )
        if not all(_SMALLEST <= int(side) <= _LARGEST for side in (width, height)):
            raise ValueError(
                f"'{text}': each side has to be from {_SMALLEST} to {_LARGEST} pixels"
            )
        return cls(int(width), int(height))

    def __str__(self) -> str:
        return f"{self.width}x{self.height}"


def _number(text: str, whole: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise ValueError(
            f"'{whole}' holds no range of numbers; write it like -2..2 or 0.."
        ) from None


class ProjectionName(StrEnum):
    """The map projection."""

    EQUIRECTANGULAR = "equirectangular"
    EQUAL_AREA = "equal-area"
    NORTH_POLAR = "north-polar"
    SOUTH_POLAR = "south-polar"

    @property
    def latitudes(self) -> LatitudeRange | None:
        """The latitudes that a polar map shows at most."""
        least = LEAST_POLAR
        return {
            "north-polar": LatitudeRange(least, None),
            "south-polar": LatitudeRange(None, -least),
        }.get(self.value)


@dataclass(frozen=True)
class PartOptions(Step):
    """Which part of the data is drawn."""

    variable: tuple[str, ...] | None = parameter(
        "the variable to draw, where there are several", example="NAME"
    )
    time: Period | None = parameter("the time or times to draw", example="2014-01")
    level: Levels | None = parameter(
        "the level to draw, or levels where there is an axis of them", example="850hPa"
    )


@dataclass(frozen=True)
class FieldOptions(Step):
    """How the values of a field become colours."""

    palette: str | None = parameter("a Matplotlib colour map", example="NAME")
    limits: Limits | None = parameter("range of the colour bar", example="-2..2")
    centre: float | None = parameter(
        "value at the centre of the colour map", example="NUMBER"
    )

    def check(self) -> None:
        super().check()
        if self.palette is not None:
            _check_palette(self.palette)


@dataclass(frozen=True)
class CurveOptions(Step):
    """Where curves are taken from, and the range of their axis."""

    at: Position | None = parameter(
        "draw the grid cell at a position, not the mean over the area",
        example="64.1N,21.9W",
    )
    limits: Limits | None = parameter("range of the value axis", example="-2..2")


@dataclass(frozen=True)
class ProjectionOptions(Step):
    """How the sphere is drawn in a plane."""

    projection: ProjectionName = parameter(
        "map projection", default=ProjectionName.EQUIRECTANGULAR
    )


@dataclass(frozen=True)
class FigureOptions(Step):
    """Title and size of the figure."""

    title: str | None = parameter(
        "title to use instead of the quantity", example="TEXT"
    )
    size: Size | None = parameter(
        "width and height in pixels (default: what fits the picture)",
        example="1280x800",
    )


def _check_palette(name: str) -> None:
    """Refuse a palette that does not exist."""
    import matplotlib

    if name not in matplotlib.colormaps:
        offered = sorted(n for n in matplotlib.colormaps if not n.endswith("_r"))
        hint = nearest_names(name, offered).split(" There are:")[0]
        if not hint.startswith("Did"):
            hint = "Some are viridis, plasma, YlGnBu, RdBu, BrBG, PuOr."
        raise UsageError(
            f"--palette: no palette '{name}'. {hint} Add _r to reverse one."
        )
