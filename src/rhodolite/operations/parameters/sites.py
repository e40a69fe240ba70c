"""A table of sites, as the value of an option."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.typed_value import FileReader, FileValue
from rhodolite.model.variable import Variable

_MOST_NAMED = 5


@dataclass(frozen=True)
class Sites(FileValue):
    """A table with one site per row, and what it holds once it has been read.

    Attributes
    ----------
    location : str
    described : tuple of Variable, optional
        Along the dimension `site`: names, `lat` and `lon` in degrees, and all other columns.
    line_numbers : ndarray of int, shape (sites,), optional
    frame : data frame, optional
        In place of a table in a file.
    """

    location: str
    described: tuple[Variable, ...] | None = field(default=None, compare=False)
    line_numbers: Array | None = field(default=None, compare=False)
    frame: Any = field(default=None, compare=False)

    @classmethod
    def parse(cls, text: str) -> Self:
        return cls(text)

    @classmethod
    def of(cls, data: Any) -> Self:
        """Return the sites of a data frame with one of them in each row."""
        if not hasattr(data, "to_csv"):
            return super().of(data)
        return cls("a table", frame=data)

    def __str__(self) -> str:
        return self.location

    @property
    def is_loaded(self) -> bool:
        return self.described is not None

    def loaded(self, reader: FileReader) -> Self:
        if self.is_loaded:
            return self
        described, lines = reader.sites(
            self.location if self.frame is None else self.frame
        )
        return replace(self, described=tuple(described), line_numbers=lines)

    def column(self, name: str) -> Array:
        """Return the values of a column, shape (sites,)."""
        return next(v.values() for v in self._variables if v.name == name)

    @property
    def latitudes(self) -> Array:
        return self.column("lat").astype(np.float64)

    @property
    def longitudes(self) -> Array:
        return self.column("lon").astype(np.float64)

    @property
    def names(self) -> list[str]:
        named = next(v for v in self._variables if "cf_role" in v.attributes)
        return [str(name) for name in named.values()]

    def name_lines(self, numbers: Array) -> str:
        """Return the names of sites and the lines of the table in which they stand."""
        assert self.line_numbers is not None
        shown = numbers[:_MOST_NAMED]
        named = ", ".join(
            f"{self.names[at]} (line {self.line_numbers[at]})" for at in shown
        )
        left = numbers.size - _MOST_NAMED
        return f"{named} and {left:,} more" if left > 0 else named

    @property
    def _variables(self) -> tuple[Variable, ...]:
        if self.described is None:
            raise DataError(f"{self.location} has not been read")
        return self.described
