"""Grids of HDF-EOS5: where their cells lie stands in a text of the file's own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from rhodolite.errors import warn
from rhodolite.formats.even_axes import as_projected, geographic_axis, plane_axis
from rhodolite.formats.netcdf.eos_projections import degrees_of, grid_mapping_of
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
_GEOGRAPHIC_NAMES = {"YDim": "lat", "XDim": "lon"}
_PLANE_NAMES = {"YDim": "y", "XDim": "x"}


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
    if grid.about.get("Projection", "").endswith(_GEOGRAPHIC):
        variables = _name_fields(dataset, grid, _GEOGRAPHIC_NAMES)
        return dataset.with_variables([*_geographic_axes(grid), *variables])
    variables = _name_fields(dataset, grid, _PLANE_NAMES)
    mapping = grid_mapping_of(grid.about)
    if mapping is None:
        warn(
            f"{dataset.label}: where the cells of the grid {name} lie is not known, since its "
            f"projection ({grid.about.get('Projection')}) is not among those that are "
            "read, or lacks its numbers"
        )
        return dataset.with_variables(variables)
    referring = [
        v.edit(grid_mapping=mapping.name) if {"x", "y"} <= set(v.dimensions) else v
        for v in variables
    ]
    return dataset.with_variables([*_plane_axes(grid), mapping, *referring])


def _grids_of(file: Any) -> list[_Grid]:
    return [_read_grid(part) for part in parts_of(file, "GridStructure", "GRID")]


def _read_grid(text: str) -> _Grid:
    about = settings_of(text)
    dimensions = dimensions_of(text, "DataField")
    return _Grid(about.get("GridName", "").strip('"'), about, dimensions)


def _name_fields(
    dataset: Dataset, grid: _Grid, axes: Mapping[str, str]
) -> list[Variable]:
    """Return the fields along the dimensions that the text names, rows and columns as here."""
    dimensions = {
        field: tuple(axes.get(name, name) for name in names)
        for field, names in grid.dimensions.items()
    }
    return [name_field(v, dimensions) for v in dataset.variables.values()]


def _geographic_axes(grid: _Grid) -> list[Variable]:
    rows, columns = _edges(grid, degrees_of)
    return [
        *geographic_axis("latitude", *rows),
        *geographic_axis("longitude", *columns),
    ]


def _plane_axes(grid: _Grid) -> list[Variable]:
    rows, columns = _edges(grid, float)
    return [as_projected(plane_axis(n, *e)) for n, e in (("y", rows), ("x", columns))]


def _edges(
    grid: _Grid, read: Callable[[float], float]
) -> tuple[tuple[float, float, int], tuple[float, float, int]]:
    """Return for rows and for columns the outer edge of the first, the step to the next, and their
    number."""
    west, north = _corner(grid.about["UpperLeftPointMtrs"], read)
    east, south = _corner(grid.about["LowerRightMtrs"], read)
    columns, rows = int(grid.about["XDim"]), int(grid.about["YDim"])
    height, width = (south - north) / rows, (east - west) / columns
    origin = grid.about.get("GridOrigin", "UL")
    # The first cell is at the upper left, unless another corner is named.
    from_top, from_left = origin.endswith(("UL", "UR")), origin.endswith(("UL", "LL"))
    return (
        (north, height, rows) if from_top else (south, -height, rows),
        (west, width, columns) if from_left else (east, -width, columns),
    )


def _corner(text: str, read: Callable[[float], float]) -> tuple[float, float]:
    x, y = (read(float(number)) for number in text.strip("()").split(","))
    return x, y
