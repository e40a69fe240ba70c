"""The values of a variable of a GRIB file: decoded message by message, when they are read."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.formats.grib.grids import Scanning
from rhodolite.formats.grib.messages import library, open_message, read_key
from rhodolite.formats.grib.sections import Field


class GribVariable(LazyArray):
    """Values over members, times and levels, of which each map is one field.

    Parameters
    ----------
    path : Path
    name : str
    fields : list of Field
    places : ndarray of int, shape (members, times, levels), as far as there are such
        Which field each map is of; -1 where the file holds none.
    scanning : Scanning
    """

    dtype = np.dtype("f8")

    def __init__(
        self,
        path: Path,
        name: str,
        fields: list[Field],
        places: Array,
        scanning: Scanning,
    ) -> None:
        self.path = path.resolve()  # since another process may run in another folder
        self.name = name
        self.shape = (*places.shape, *scanning.shape)
        self.chunks = (*(1,) * places.ndim, *scanning.shape)
        self._fields, self._places, self._scanning = fields, places, scanning

    @property
    def origin(self) -> str:
        return f"{self.path}: variable '{self.name}'"

    def read(self, region: Region) -> Array:
        upper, map_part = region[: self._places.ndim], region[self._places.ndim :]
        places = self._places[upper]
        lengths = [part.stop - part.start for part in map_part]
        values = np.full((*places.shape, *lengths), np.nan)
        for at in _corners(places.shape):
            if places[at] >= 0:
                values[at] = self._decode(self._fields[places[at]])[map_part]
        return values

    def _decode(self, field: Field) -> Array:
        """Return the map of a field, NaN where its bitmap has no value."""
        with open_message(self.path, field) as handle:
            values = np.asarray(library().codes_get_values(handle), dtype=np.float64)
            if read_key(handle, "bitmapPresent", int):
                gap = read_key(handle, "missingValue", float)
                values[values == gap] = np.nan
        if values.size != np.prod(self._scanning.shape):
            raise DataError(
                f"{self.origin}: the message at byte {field.spans[0][0]:,} holds {values.size:,} "
                f"values, and its grid has {int(np.prod(self._scanning.shape)):,}"
            )
        return self._scanning.arrange(values)


def _corners(shape: tuple[int, ...]) -> Iterator[tuple[int, ...]]:
    return itertools.product(*map(range, shape))
