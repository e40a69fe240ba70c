"""Opening Esri ASCII grids: the header now, values when they are needed."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError, warn
from rhodolite.formats.even_axes import can_be_degrees, geographic_axis, plane_axis
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Variable
from rhodolite.plain_text import is_number

_KEYS = (
    "ncols",
    "nrows",
    "xllcorner",
    "xllcenter",
    "yllcorner",
    "yllcenter",
    "cellsize",
    "nodata_value",
)
_NEEDED = (
    ("ncols",),
    ("nrows",),
    ("xllcorner", "xllcenter"),
    ("yllcorner", "yllcenter"),
    ("cellsize",),
)
"""What a header has to say: one of each."""
USUAL_MISSING = -9999.0


@dataclass(frozen=True)
class Header:
    """Where the cells of a grid lie.

    Parameters
    ----------
    columns, rows : int
    west, south : float
        Outer edges of the grid.
    cell : float
        Width and height of a cell.
    missing : float
        The number that stands for a missing value.
    lines : int
        How many lines the header takes.
    """

    columns: int
    rows: int
    west: float
    south: float
    cell: float
    missing: float
    lines: int

    @property
    def geographic(self) -> bool:
        """Whether the numbers can be degrees of longitude and latitude."""
        north = self.south + self.rows * self.cell
        east = self.west + self.columns * self.cell
        return can_be_degrees((self.west, east), (self.south, north), self.cell)


def read(path: Path) -> Dataset:
    """Open a grid as a dataset of one variable, named after the file.

    Raises
    ------
    DataError
        If the header cannot be understood.
    """
    header = read_header(path)
    if not header.geographic:
        warn(
            "an ASCII grid says nothing of its projection; x and y are kept as they are"
        )
    axes = grid_axes(header)
    name = re.sub(r"\W+", "_", path.stem).strip("_") or "grid"
    data = Variable(name, axis_names(header), GridArray(path, header))
    source = SourceFile(path, "Esri ASCII grid", path.stat().st_size)
    return Dataset({v.name: v for v in (*axes, data)}, {}, frozenset(), (source,))


def read_header(path: Path) -> Header:
    """Read where the cells of a grid lie.

    Raises
    ------
    DataError
        If a line cannot be understood or something is left out; the message names it.
    """
    fields, lines = _read_fields(path)
    for keys in _NEEDED:
        if not any(key in fields for key in keys):
            raise DataError(f"{path}: the header does not say {' or '.join(keys)}")
    unknown = [key for key, value in fields.items() if not math.isfinite(value)]
    if unknown:
        raise DataError(
            f"{path}: the header says {fields[unknown[0]]} for {unknown[0]}"
        )
    cell, columns, rows = fields["cellsize"], int(fields["ncols"]), int(fields["nrows"])
    # A value takes a digit and a space at least.
    if columns * rows > path.stat().st_size:
        raise DataError(
            f"{path}: the header says {columns:,} x {rows:,} cells, more than a file of this size "
            "can hold"
        )
    if cell <= 0 or columns < 1 or rows < 1:
        raise DataError(
            f"{path}: a grid of {columns} x {rows} cells of size {cell:g} cannot be"
        )
    west, south = (
        fields.get(f"{axis}llcorner", fields.get(f"{axis}llcenter", 0.0) - cell / 2)
        for axis in "xy"
    )
    missing = fields.get("nodata_value", USUAL_MISSING)
    return Header(columns, rows, west, south, cell, missing, lines)


def _read_fields(path: Path) -> tuple[dict[str, float], int]:
    """Return the numbers of a header by their keys, and how many lines they take.

    Raises
    ------
    DataError
        If one of them is no number.
    """
    fields: dict[str, float] = {}
    lines = 0
    with path.open(encoding="ascii", errors="replace") as file:
        for line in file:
            words = line.split()
            if len(words) != 2 or words[0].lower() not in _KEYS:
                break
            lines += 1
            try:
                fields[words[0].lower()] = float(words[1])
            except ValueError:
                raise DataError(
                    f"{path}, line {lines}: '{words[1]}' is not a number for {words[0]}"
                ) from None
    return fields, lines


def axis_names(header: Header) -> tuple[str, str]:
    """Return the names of the rows' and the columns' dimension."""
    return ("lat", "lon") if header.geographic else ("y", "x")


def grid_axes(header: Header) -> list[Variable]:
    """Return the coordinates of a grid and their bounds, from north to south and from west to
    east.
    """
    north = header.south + header.rows * header.cell
    if header.geographic:
        return [
            *geographic_axis("latitude", north, -header.cell, header.rows),
            *geographic_axis("longitude", header.west, header.cell, header.columns),
        ]
    return [
        plane_axis("y", north, -header.cell, header.rows),
        plane_axis("x", header.west, header.cell, header.columns),
    ]


class GridArray(LazyArray):
    """The values of one grid; the whole file is read for any part of it."""

    dtype = np.dtype("f8")

    def __init__(self, path: Path, header: Header) -> None:
        self._path = path.resolve()  # since another process may run in another folder
        self._header = header
        self.shape = self.chunks = (header.rows, header.columns)

    def read(self, region: Region) -> Array:
        header = self._header
        with self._path.open(encoding="ascii", errors="replace") as file:
            for _ in range(header.lines):
                file.readline()
            words = file.read().split()
        try:
            values = np.array(words, dtype=np.float64)
        except ValueError:
            wrong = next(word for word in words if not is_number(word))
            raise DataError(
                f"{self._path}: '{wrong}' among the values is not a number"
            ) from None
        if values.size != header.rows * header.columns:
            raise DataError(
                f"{self._path}: the header says {header.rows} rows of {header.columns} values, "
                f"{header.rows * header.columns} in all, and there are {values.size}"
            )
        values[values == header.missing] = np.nan
        return values.reshape(self.shape)[region]
