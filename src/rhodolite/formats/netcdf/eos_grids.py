"""Grids of HDF-EOS5: where their cells lie stands in a text of the file's own."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from rhodolite.errors import warn
from rhodolite.formats.even_axes import geographic_axis
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_GRIDS, _FIELDS = "/HDFEOS/GRIDS/", "/Data Fields"
_INFORMATION, _TEXT = "HDFEOS INFORMATION", "StructMetadata.0"
_GEOGRAPHIC = "GCTP_GEO"
_LARGEST_DEGREES = 360.0
"""Beyond which a corner is packed as degrees, minutes and seconds: DDDMMMSSS.SS."""
_OLD_NAMES = {"Units": "units", "Title": "long_name", "LongName": "long_name"}
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
    grids = _group_at(file, _GRIDS.strip("/"))
    if grids is None or len(grids.groups) != 1:
        return None
    name = next(iter(grids.groups))
    return f"{_GRIDS}{name}{_FIELDS}"


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
    variables = [_named(variable, grid) for variable in dataset.variables.values()]
    if not grid.about.get("Projection", "").endswith(_GEOGRAPHIC):
        warn(
            f"{dataset.label}: the grid {name} is projected ({grid.about.get('Projection')}), and "
            "where its cells lie is not read of HDF-EOS"
        )
        return dataset.with_variables(variables)
    return dataset.with_variables([*_axes_of(grid), *variables])


def _group_at(file: Any, path: str) -> Any:
    place = file
    for name in path.split("/"):
        place = place.groups.get(name)
        if place is None:
            return None
    return place


def _grids_of(file: Any) -> list[_Grid]:
    information = _group_at(file, _INFORMATION)
    if information is None or _TEXT not in information.variables:
        return []
    text = str(information.variables[_TEXT][...])
    parts = re.split(r"GROUP=GRID_\d+", text.partition("GROUP=GridStructure")[2])
    return [_read_grid(part) for part in parts[1:]]


def _read_grid(text: str) -> _Grid:
    about = dict(re.findall(r"^\s*(\w+)=(.*?)\s*$", text.partition("GROUP=")[0], re.M))
    fields = re.findall(r'DataFieldName="([^"]*)".*?DimList=\(([^)]*)\)', text, re.S)
    dimensions = {
        name: tuple(word.strip().strip('"') for word in words.split(","))
        for name, words in fields
    }
    return _Grid(about.get("GridName", "").strip('"'), about, dimensions)


def _named(variable: Variable, grid: _Grid) -> Variable:
    """Return a field with the names of its dimensions, and attributes under their usual names."""
    names = grid.dimensions.get(variable.name, variable.dimensions)
    if len(names) == len(variable.dimensions):
        dimensions = tuple(_AXES.get(name, name) for name in names)
        variable = variable.replace(dimensions=dimensions)
    usual = {
        _OLD_NAMES[key]: value
        for key, value in variable.attributes.items()
        if key in _OLD_NAMES and _OLD_NAMES[key] not in variable.attributes
    }
    return variable.edit(**usual)


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
