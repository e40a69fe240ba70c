"""Places as people write them: latitudes, longitudes, a position, levels, every n-th."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.time.period_text import split_range
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.typed_numbers import read_number
from rhodolite.plain_text import write_number

_ANGLE = re.compile(r"([+-]?\d+(?:\.\d*)?|[+-]?\.\d+)\s*°?\s*([NSEWnsew]?)")


@dataclass(frozen=True)
class LatitudeRange(TypedValue):
    """A closed range of latitudes, in degrees north; None where it is open.

    Examples
    --------
    >>> LatitudeRange.parse("35S..10N")
    LatitudeRange(south=-35.0, north=10.0)
    """

    south: float | None
    north: float | None

    spans = True

    @classmethod
    def parse(cls, text: str) -> Self:
        start, stop = split_range(text)
        south = parse_latitude(start) if start else None
        north = parse_latitude(stop) if stop else None
        if south is not None and north is not None and south > north:
            raise ValueError(
                f"'{text}' runs from north to south; write it {stop}..{start}"
            )
        return cls(south, north)

    def __str__(self) -> str:
        ends = [
            None if end is None else _typed(end, "NS")
            for end in (self.south, self.north)
        ]
        return _join(*ends)


@dataclass(frozen=True)
class LongitudeRange(TypedValue):
    """A closed range of longitudes that runs eastward from `west` to `east`, in degrees east as
    typed."""

    west: float | None
    east: float | None

    spans = True

    @classmethod
    def parse(cls, text: str) -> Self:
        start, stop = split_range(text)
        return cls(
            parse_longitude(start) if start else None,
            parse_longitude(stop) if stop else None,
        )

    def __str__(self) -> str:
        return _join(
            *[
                None if end is None else _typed(end, "EW")
                for end in (self.west, self.east)
            ]
        )


@dataclass(frozen=True)
class Position(TypedValue):
    """One place on the sphere, in degrees north and degrees east."""

    latitude: float
    longitude: float

    takes_pairs = True

    @classmethod
    def of(cls, data: Any) -> Self:
        """Return the place of a pair of numbers, latitude first."""
        north, east = data
        return cls(parse_latitude(str(north)), parse_longitude(str(east)))

    @classmethod
    def parse(cls, text: str) -> Self:
        parts = [part.strip() for part in text.split(",")]
        if len(parts) != 2:
            raise ValueError(f"'{text}' is not a position; write it like 64.1N,21.9W")
        letters = [part[-1:].upper() for part in parts]
        if not any(letter in "NSEW" for letter in letters if letter):
            raise ValueError(
                f"'{text}' does not say which number is the latitude; write "
                + " or ".join(
                    f"{_guess(y, 'NS')},{_guess(x, 'EW')}"
                    for y, x in (parts, parts[::-1])
                )
            )
        if letters[0] in ("E", "W") or letters[1] in ("N", "S"):
            parts.reverse()
        return cls(parse_latitude(parts[0]), parse_longitude(parts[1]))

    def __str__(self) -> str:
        return f"{_typed(self.latitude, 'NS')},{_typed(self.longitude, 'EW')}"


@dataclass(frozen=True)
class LevelRange:
    """One level, or a closed range of levels, each with units or in the units of the data."""

    first: tuple[float, str] | None
    last: tuple[float, str] | None

    @property
    def single(self) -> bool:
        return self.first == self.last

    def __str__(self) -> str:
        ends = (self.first, self.last)
        return _join(
            *[None if end is None else write_number(end[0]) + end[1] for end in ends]
        )


@dataclass(frozen=True)
class Levels(TypedValue):
    """Levels to keep: `850hPa,500hPa`, `1000hPa..300hPa`, `100..500`."""

    ranges: tuple[LevelRange, ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        ranges = []
        for part in text.split(","):
            start, stop = (_level(end) if end else None for end in split_range(part))
            if start and stop and not start[1]:
                start = (start[0], stop[1])
            ranges.append(LevelRange(start, stop))
        return cls(tuple(ranges))

    def __str__(self) -> str:
        return ",".join(str(part) for part in self.ranges)


@dataclass(frozen=True)
class Every(TypedValue):
    """Each n-th along named axes, counted from the first: `time=12`, `lat=2,lon=2`."""

    steps: tuple[tuple[str, int], ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        steps = []
        for part in text.split(","):
            name, equals, number = (word.strip() for word in part.partition("="))
            if not equals or not name or not number.isdecimal() or int(number) < 1:
                raise ValueError(
                    f"'{text}' does not say every how many of what; write time=12 or lat=2,lon=2"
                )
            steps.append((name, int(number)))
        return cls(tuple(steps))

    def __str__(self) -> str:
        return ",".join(f"{name}={step}" for name, step in self.steps)


@dataclass(frozen=True)
class Choices(TypedValue):
    """Values of named axes: `pattern=1`, `pattern=1,pattern=3`, `return_period=10..50`, `member=b`.

    Attributes
    ----------
    values : tuple of tuple of str
        Names of axes, each with a value or a range as it is written.
    """

    values: tuple[tuple[str, str], ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        values = []
        for part in text.split(","):
            name, equals, value = (word.strip() for word in part.partition("="))
            if not (equals and name and value):
                raise ValueError(
                    f"'{text}' does not say which values of what; write pattern=1, or "
                    "return_period=10..50"
                )
            values.append((name, value))
        return cls(tuple(values))

    def __str__(self) -> str:
        return ",".join(f"{name}={value}" for name, value in self.values)

    @property
    def by_axis(self) -> dict[str, list[str]]:
        """The values of each axis."""
        grouped: dict[str, list[str]] = {}
        for name, value in self.values:
            grouped.setdefault(name, []).append(value)
        return grouped


def parse_latitude(text: str) -> float:
    """Return degrees north for `64.1N`, `35S` or `-35`."""
    value = _angle(text, "NS", "latitude")
    if not -90 <= value <= 90:
        raise ValueError(f"'{text}' is not a latitude; latitudes run from 90S to 90N")
    return value


def parse_longitude(text: str) -> float:
    """Return degrees east for `21.9W`, `-21.9` or `338.1`."""
    value = _angle(text, "EW", "longitude")
    if not -360 <= value <= 720:
        raise ValueError(
            f"'{text}' is not a longitude; longitudes run from 180W to 180E or from 0 to 360"
        )
    return value


def format_latitude(value: float) -> str:
    """Write a latitude with its hemisphere, such as 35S."""
    return f"{abs(value):.6g}{'S' if value < 0 else 'N'}"


def within_a_turn(longitudes: Array) -> Array:
    """Return degrees east from -180 to 360, as either convention has them."""
    beyond = (longitudes < -180) | (longitudes > 360)
    return np.where(beyond, longitudes % 360, longitudes)


def format_longitude(value: float) -> str:
    """Write a longitude with its hemisphere, such as 21.9W; beyond 180 as it is, such as 200E, and
    beyond a whole turn, as blocks across the seam are counted, without it: 35E for 395."""
    value = float(within_a_turn(np.asarray(value)))
    return f"{abs(value):.6g}{'W' if value < 0 else 'E'}"


def _angle(text: str, letters: str, quantity: str) -> float:
    match = _ANGLE.fullmatch(text.strip())
    letter = match.group(2).upper() if match else ""
    if not match or (letter and letter not in letters):
        examples = "64.1N, 35S or -35" if letters == "NS" else "21.9W, 160E or -21.9"
        raise ValueError(f"'{text}' is not a {quantity}; write it like {examples}")
    value = float(match.group(1))
    if letter and match.group(1)[0] in "+-":
        raise ValueError(
            f"'{text}' has both a sign and a letter; write {match.group(1)[1:]}{letter} or "
            f"{value:g}"
        )
    return -value if letter and letter in "SW" else value


def _level(text: str) -> tuple[float, str]:
    level = read_number(text)
    if level is None:
        raise ValueError(
            f"'{text}' is not a level; write it like 850hPa, 2m or, in the data's units, 850"
        )
    return level


def _typed(value: float, letters: str) -> str:
    """Write an angle so that it is read back as the same number."""
    return np.format_float_positional(abs(value), trim="-") + letters[value < 0]


def _guess(number: str, letters: str) -> str:
    """Write a bare number with the letter of its hemisphere, for a suggestion."""
    return (
        f"{number[1:]}{letters[1]}"
        if number.startswith("-")
        else f"{number}{letters[0]}"
    )


def _join(first: str | None, last: str | None) -> str:
    return first if first == last and first else f"{first or ''}..{last or ''}"
