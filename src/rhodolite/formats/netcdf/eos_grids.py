"""Grids of HDF-EOS5: where their cells lie stands in a text of the file's own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from rhodolite.errors import warn
from rhodolite.formats.even_axes import geographic_axis
from rhodolite.formats.netcdf.eos_text import (
    dimensions_of,
    name_field,
    only_child,
    parts_of,
    settings_of,
)
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_GRIDS, _FIELDS = "/HDFEOS/GRIDS/", "/Data Fields"
_GEOGRAPHIC = "GCTP_GEO"
_LARGEST_DEGREES = 360.0
"""Beyond which a corner is packed as degrees, minutes and seconds: DDDMMMSSS.SS."""
_AXES = {"YDim": "lat", "XDim": "lon"}


@dataclass(frozen=True)
class _Grid:
    """What the text says of a grid.

    Parameters
    ----------
    name : str
    about : mapping of str
    dimensions : mapping
        Names of the dimensions of each field.
    """

    name: str
    about: dict[str, str]
    dimensions: dict[str, tuple[str, ...]]


def only_grid(file: Any) -> str | None:
    """Return the group of the fields of the one grid of an open file; None where there is none, or
    there are several."""
    name = only_child(file, _GRIDS)
    return None if name is None else f"{_GRIDS}{name}{_FIELDS}"


def place_on_grid(dataset: Dataset, file: Any, group: str) -> Dataset:
    """Return the fields of a grid with the latitudes and longitudes of its cells; others as they
    are.

    Parameters
    ----------
    dataset : Dataset
        As read from the group.
    file : netCDF4.Dataset
    group : str
        Path of the group.
    """
    if not (group.startswith(_GRIDS) and group.endswith(_FIELDS)):
        return dataset
    name = group.removeprefix(_GRIDS).removesuffix(_FIELDS)
    grid = next((g for g in _grids_of(file) if g.name == name), None)
    if grid is None:
        return dataset
    names = grid.dimensions
    variables = [name_field(v, names) for v in dataset.variables.values()]
    if not grid.about.get("Projection", "").endswith(_GEOGRAPHIC):
        warn(
            f"{dataset.label}: the grid {name} is projected ({grid.about.get('Projection')}), and "
            "where its cells lie is not read of HDF-EOS"
        )
        return dataset.with_variables(variables)
    return dataset.with_variables([*_axes_of(grid), *variables])


def _grids_of(file: Any) -> list[_Grid]:
    return [_read_grid(part) for part in parts_of(file, "GridStructure", "GRID")]


def _read_grid(text: str) -> _Grid:
    about = settings_of(text)
    dimensions = {
        field: tuple(_AXES.get(name, name) for name in names)
        for field, names in dimensions_of(text, "DataField").items()
    }
    return _Grid(about.get("GridName", "").strip('"'), about, dimensions)


def _axes_of(grid: _Grid) -> list[Variable]:
    west, north = _corner(grid.about["UpperLeftPointMtrs"])
    east, south = _corner(grid.about["LowerRightMtrs"])
    columns, rows = int(grid.about["XDim"]), int(grid.about["YDim"])
    height, width = (south - north) / rows, (east - west) / columns
    origin = grid.about.get("GridOrigin", "UL")
    # The first cell is at the upper left, unless another corner is named.
    top = north if origin.endswith(("UL", "UR")) else south
    left = west if origin.endswith(("UL", "LL")) else east
    down, right = (1 if top == north else -1), (1 if left == west else -1)
    return [
        *geographic_axis("latitude", top, down * height, rows),
        *geographic_axis("longitude", left, right * width, columns),
    ]


def _corner(text: str) -> tuple[float, float]:
    x, y = (float(number) for number in text.strip("()").split(","))
    return _degrees(x), _degrees(y)


def _degrees(packed: float) -> float:
    if abs(packed) <= _LARGEST_DEGREES:
        return packed
    sign, rest = (-1 if packed < 0 else 1), abs(packed)
    degrees, rest = divmod(rest, 1_000_000)
    minutes, seconds = divmod(rest, 1000)
    return sign * (degrees + minutes / 60 + seconds / 3600)
