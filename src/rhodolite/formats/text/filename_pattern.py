"""Names of files that hold a date: `rain_{year}{month}.asc`, filled in or read back."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from rhodolite.errors import UsageError, nearest_names

DATE_FIELDS = ("year", "month", "day", "hour", "minute")
_OTHER_FIELDS = ("variable", "level")
_PLACE = re.compile(r"\{(\w*)\}")


@dataclass(frozen=True)
class FilePattern:
    """The name of a file with places for parts of a date, a variable and a level.

    Examples
    --------
    >>> FilePattern("rain_{year}{month}.asc").fill({"year": 1999, "month": 2})
    'rain_199902.asc'
    >>> FilePattern("rain_{year}{month}.asc").read("rain_199902.asc")
    {'year': '1999', 'month': '02'}
    """

    text: str

    @cached_property
    def fields(self) -> tuple[str, ...]:
        """The names in the places, in order.

        Raises
        ------
        UsageError
            If there is no such field.
        """
        placed = tuple(_PLACE.findall(self.text))
        for name in placed:
            if name not in DATE_FIELDS + _OTHER_FIELDS:
                raise UsageError(
                    f"{self.text}: there is no field '{{{name}}}'. "
                    f"{nearest_names(name, DATE_FIELDS + _OTHER_FIELDS)}"
                )
        return placed

    def fill(self, values: Mapping[str, int | str]) -> str:
        """Return the name of one file."""
        return _PLACE.sub(
            lambda place: _write_field(place.group(1), values[place.group(1)]),
            self.text,
        )

    def read(self, name: str) -> dict[str, str] | None:
        """Return what a file's name says, or None where it does not fit."""
        match = self._expression.fullmatch(name)
        return None if match is None else dict(match.groupdict())

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        parts: list[str] = []
        end = 0
        for place in _PLACE.finditer(self.text):
            name, following = place.group(1), self.text[place.end() : place.end() + 1]
            known = f"(?P<{name}>" not in "".join(parts)
            what = _digits(name, following) if name in DATE_FIELDS else r"[^/]+?"
            parts.append(re.escape(self.text[end : place.start()]))
            parts.append(f"(?P<{name}>{what})" if known else f"(?P={name})")
            end = place.end()
        return re.compile("".join(parts) + re.escape(self.text[end:]))


def _digits(name: str, following: str) -> str:
    """Return the expression of a part of a date, given the character after it."""
    if name == "year":
        return r"\d{4}"
    # Where a field ends only by its width, a month has two figures.
    return r"\d{2}" if following in ("{", "") else r"\d{1,2}"


def fits_pattern(pattern: str, name: str) -> bool:
    """Return whether a name may be one of those that a pattern with any fields stands for."""
    plain = [re.escape(part) for part in _PLACE.sub("\0", pattern).split("\0")]
    return re.fullmatch("[^/]+".join(plain), name) is not None


def _write_field(field: str, value: int | str) -> str:
    if field in DATE_FIELDS:
        return f"{int(value):04d}" if field == "year" else f"{int(value):02d}"
    return str(value)
