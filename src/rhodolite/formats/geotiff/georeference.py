"""Where the cells of a GeoTIFF lie: from its reference system to coordinates, and back."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, warn
from rhodolite.formats.even_axes import (
    as_projected,
    can_be_degrees,
    geographic_axis,
    plane_axis,
)
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import mapping_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import AxisShape
from rhodolite.model.space.earth_figure import WGS_84, EarthFigure
from rhodolite.model.variable import Variable

MAPPING = "crs"
_NORTHWARDS = 1e-9
"""Of a cell, by which a picture may be turned."""


@dataclass(frozen=True)
class Placement:
    """The edges and widths of cells.

    Parameters
    ----------
    left, top : float
        Outer edges of the first column and row.
    width, height : float
        Of a cell; the height is negative where rows run from north to south.
    columns, rows : int
    """

    left: float
    top: float
    width: float
    height: float
    columns: int
    rows: int

    @property
    def geographic(self) -> bool:
        """Whether the numbers can be longitudes and latitudes."""
        right = self.left + self.columns * self.width
        bottom = self.top + self.rows * self.height
        return can_be_degrees((self.left, right), (bottom, self.top), self.height)


@dataclass(frozen=True)
class Georeference:
    """The dimensions of a map, the coordinates along them, and what each variable says of them."""

    dimensions: tuple[str, str]
    coordinates: list[Variable]
    attributes: dict[str, str]


def read_georeference(path: Path, file: Any) -> Georeference:
    """Return where the cells of an open file lie.

    Raises
    ------
    DataError
        If the picture is turned against its axes.
    """
    transform = file.transform
    turned = max(abs(transform.b), abs(transform.d))
    if turned > _NORTHWARDS * max(abs(transform.a), abs(transform.e)):
        raise DataError(
            f"{path}: the rows of this picture do not run along the axes of its reference system; "
            "have it turned northwards by a GIS"
        )
    place = Placement(
        transform.c, transform.f, transform.a, transform.e, file.width, file.height
    )
    system = _read_system(file)
    if system is None and place.geographic:
        warn(f"{path} names no reference system; its x and y are taken as degrees")
    if place.geographic if system is None else system.is_geographic:
        return _geographic(place, system)
    return _projected(path, place, system)


def _read_system(file: Any) -> Any:
    """Return the reference system as pyproj has it, or None where the file names none."""
    if file.crs is None:
        return None
    import pyproj

    return pyproj.CRS.from_wkt(file.crs.to_wkt())


def _geographic(place: Placement, system: Any) -> Georeference:
    axes = [
        *geographic_axis("latitude", place.top, place.height, place.rows),
        *geographic_axis("longitude", place.left, place.width, place.columns),
    ]
    if system is None:
        return Georeference(("lat", "lon"), axes, {})
    figure = system.ellipsoid
    flat = figure.inverse_flattening
    mapping = EarthFigure(figure.semi_major_metre, flat).grid_mapping(MAPPING)
    return Georeference(("lat", "lon"), [*axes, mapping], {"grid_mapping": MAPPING})


def _projected(path: Path, place: Placement, system: Any) -> Georeference:
    y = plane_axis("y", place.top, place.height, place.rows)
    x = plane_axis("x", place.left, place.width, place.columns)
    if system is None:
        warn(f"{path} names no reference system; x and y are kept as they are")
        return Georeference(("y", "x"), [y, x], {})
    units = system.axis_info[0].unit_name
    if units not in ("metre", "meter"):
        raise DataError(
            f"{path}: the reference system {system.name} counts in {units}; only such in metres "
            "are read, so have the picture brought into one by a GIS"
        )
    named = [as_projected(axis) for axis in (y, x)]
    mapping = Variable(MAPPING, (), InMemory(np.int32(0)), system.to_cf())
    return Georeference(("y", "x"), [*named, mapping], {"grid_mapping": MAPPING})


def place_of(dataset: Dataset, variable: Variable) -> tuple[tuple[str, str], Placement]:
    """Return the dimensions of the maps of a variable, rows and columns, and where they lie.

    Raises
    ------
    DataError
        If its cells are not of one width and one height.
    """
    rows, columns = _map_axes(dataset, variable)
    (top, height), (left, width) = (_first_edge(axis) for axis in (rows, columns))
    if width is None and height is None:
        raise DataError(
            f"{variable.name} has a single cell, whose width nothing tells; GeoTIFF needs it"
        )
    # A single row or column has no spacing of its own, and takes that of the other axis.
    wide, high = width or abs(height or 0), height or -abs(width or 0)
    if wide < 0:
        raise DataError(
            "a GeoTIFF runs from west to east; choose the area with --lon WEST..EAST first"
        )
    place = Placement(
        round(left - wide / 2, 10),
        round(top - high / 2, 10),
        round(wide, 12),
        round(high, 12),
        columns.data.size,
        rows.data.size,
    )
    return (rows.name, columns.name), place


def _map_axes(dataset: Dataset, variable: Variable) -> tuple[Variable, Variable]:
    """Return the coordinates of rows and columns."""
    by_role = dataset.axes.by_role
    if Role.LATITUDE in by_role and Role.LONGITUDE in by_role:
        rows, columns = (by_role[role] for role in (Role.LATITUDE, Role.LONGITUDE))
        return rows.variable, columns.variable
    plane = {}
    for name in variable.dimensions:
        axis = dataset.variables.get(name)
        standard_name = "" if axis is None else axis.attributes.get("standard_name")
        for letter in "yx":
            if axis is not None and standard_name == f"projection_{letter}_coordinate":
                plane[letter] = axis
    if plane.keys() != {"y", "x"}:
        raise DataError(
            f"{variable.name} does not lie on a grid of latitudes and longitudes, or of x and y of "
            "a projection; regrid it to one first"
        )
    return plane["y"], plane["x"]


def _first_edge(axis: Variable) -> tuple[float, float | None]:
    """Return the first coordinate of an axis, and the distance of its cells."""
    values: Array = axis.values().astype(np.float64).reshape(-1)
    shape = AxisShape.of(values)
    if shape.count == 1:
        return float(values[0]), None
    if shape.spacing is None or shape.direction == "neither":
        raise DataError(
            f"a GeoTIFF has cells of one width, and those along {axis.name} lie unevenly; regrid "
            "first"
        )
    return float(values[0]), float(values[-1] - values[0]) / (shape.count - 1)


def system_of(dataset: Dataset, variable: Variable, degrees: bool) -> str:
    """Return the reference system of a variable as text (OGC 18-010).

    Raises
    ------
    DataError
        If a projected grid names no projection, or one that cannot be understood.
    """
    if degrees:
        figure = EarthFigure.of(dataset) or WGS_84
        return "EPSG:4326" if figure == WGS_84 else figure.well_known_text()
    import pyproj

    name = mapping_of(variable)
    mapping = dataset.variables.get(name)
    try:
        system = pyproj.CRS.from_cf(dict(mapping.attributes) if mapping else {})
    except (pyproj.exceptions.CRSError, KeyError, TypeError) as error:
        raise DataError(
            f"{variable.name}: a GeoTIFF needs to name its projection, and the grid mapping "
            f"'{name}' does not tell it ({error})"
        ) from None
    return str(system.to_wkt())
