"""From the grid of a field to coordinates (section 3, code table 3.1)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.even_axes import as_projected
from rhodolite.formats.grib.messages import open_message, read_key, read_numbers
from rhodolite.formats.grib.sections import Field
from rhodolite.limits import why_beyond_reading
from rhodolite.model.variable import Variable

MAPPING = "crs"
_REGULAR = ("regular_ll", "regular_gg")
_ROTATED = ("rotated_ll", "rotated_gg")
_REDUCED = ("reduced_gg", "reduced_ll")
_LISTS = (*_REDUCED, "unstructured_grid", "healpix")
_SPECTRAL = ("sh", "rotated_sh")
_ROUNDING = 9
"""Decimals of degrees, since messages keep millionths."""
_PLANE_ROUNDING = 4
"""Decimals of metres."""


@dataclass(frozen=True)
class Scanning:
    """In which order a message lists the values of its rows (flag table 3.4).

    Parameters
    ----------
    shape : tuple of int
        Rows and columns; only a length for a list of cells.
    columns_first : bool
        Whether values along y follow each other.
    every_other_turned : bool
        Whether each second row runs the other way.
    """

    shape: tuple[int, ...]
    columns_first: bool = False
    every_other_turned: bool = False

    def arrange(self, values: Array) -> Array:
        """Return the values of a message, shape (rows, columns), in the order of its rows."""
        if len(self.shape) == 1:
            return values
        rows, columns = self.shape
        if self.columns_first:
            grid = values.reshape(columns, rows)
        else:
            grid = values.reshape(rows, columns)
        if self.every_other_turned:
            grid = grid.copy()
            grid[1::2] = grid[1::2, ::-1].copy()
        return grid.T if self.columns_first else grid


@dataclass(frozen=True)
class Grid:
    """Where the values of fields lie.

    Parameters
    ----------
    dimensions : tuple of str
    coordinates : tuple of Variable
        With the grid mapping, if any.
    attributes : mapping
        Of each variable on it.
    scanning : Scanning
    """

    dimensions: tuple[str, ...]
    coordinates: tuple[Variable, ...]
    attributes: dict[str, str]
    scanning: Scanning


def read_grid(path: Path, field: Field) -> Grid:
    """Return the grid of a field.

    Raises
    ------
    DataError
        If it is of a kind without cells, or declares more cells than there can be.
    """
    with open_message(path, field) as handle:
        kind = str(read_key(handle, "gridType"))
        if kind in _SPECTRAL:
            raise DataError(
                f"{path}: the field at byte {field.spans[0][0]:,} holds coefficients of spherical "
                "harmonics, not values on a grid; have it brought onto a grid where it comes from"
            )
        scanning = _read_scanning(path, handle, kind)
        if kind in _REGULAR:
            return _regular(handle, scanning)
        if kind in _ROTATED:
            return _rotated(handle, scanning, kind)
        if len(scanning.shape) == 1:
            return _list_of_cells(handle, scanning, kind)
        return _projected(path, handle, scanning, kind)


def _read_scanning(path: Path, handle: Any, kind: str) -> Scanning:
    points = read_key(handle, "numberOfDataPoints", int) or 0
    length = read_key(handle, "totalLength", int) or 0
    beyond = why_beyond_reading(f"{path}: a field", (points,), 8, length)
    if beyond is not None:
        raise DataError(beyond)
    if kind in _LISTS:
        return Scanning((points,))
    columns = read_key(handle, "Ni", int) or read_key(handle, "Nx", int) or 0
    rows = read_key(handle, "Nj", int) or read_key(handle, "Ny", int) or 0
    if rows * columns != points or not points:
        raise DataError(
            f"{path}: a grid ({kind}) of {rows} rows and {columns} columns cannot hold the "
            f"{points:,} values of its message"
        )
    return Scanning(
        (rows, columns),
        bool(read_key(handle, "jPointsAreConsecutive", int)),
        bool(read_key(handle, "alternativeRowScanning", int)),
    )


def _positions(handle: Any) -> tuple[Array, Array]:
    """Return latitude and longitude of the values of a message, in degrees, as they are listed."""
    latitudes, longitudes = (
        read_numbers(handle, key) for key in ("latitudes", "longitudes")
    )
    return latitudes, longitudes


def _regular(handle: Any, scanning: Scanning) -> Grid:
    latitudes, longitudes = map(scanning.arrange, _positions(handle))
    lon = _unwrapped(longitudes[0])
    axes = (_axis("lat", latitudes[:, 0], "latitude"), _axis("lon", lon, "longitude"))
    mapping = Variable(
        MAPPING,
        (),
        InMemory(np.int32(0)),
        {"grid_mapping_name": "latitude_longitude", **_figure(handle)},
    )
    return Grid(("lat", "lon"), (*axes, mapping), {"grid_mapping": MAPPING}, scanning)


def _unwrapped(longitudes: Array) -> Array:
    """Return longitudes that go on where they pass the meridian from which they are counted."""
    turned = np.round(np.unwrap(longitudes, period=360.0), _ROUNDING)
    return turned - 360.0 if turned.min() >= 180.0 and turned.max() > 360.0 else turned


def _axis(name: str, values: Array, standard_name: str) -> Variable:
    units = {"latitude": "degrees_north", "longitude": "degrees_east"}
    about = {
        "standard_name": standard_name,
        "long_name": standard_name.replace("_", " "),
        "units": units.get(standard_name, "degrees"),
        "axis": "Y" if "latitude" in standard_name else "X",
    }
    return Variable(name, (name,), InMemory(np.round(values, _ROUNDING)), about)


def _figure(handle: Any) -> dict[str, float]:
    """Return the sphere or ellipsoid of a grid, as attributes of a grid mapping."""
    if not read_key(handle, "earthIsOblate", int):
        radius = read_key(handle, "radius", float)
        return {"earth_radius": radius} if radius else {}
    axes = {
        "semi_major_axis": read_key(handle, "earthMajorAxisInMetres", float),
        "semi_minor_axis": read_key(handle, "earthMinorAxisInMetres", float),
    }
    return axes if all(axes.values()) else {}


def _rotated(handle: Any, scanning: Scanning, kind: str) -> Grid:
    """Return a grid that is regular about another pole, whose southern end its message gives."""
    rows, columns = scanning.shape
    lat, lon = (
        _spaced(handle, axis, n, kind)
        for axis, n in (("latitude", rows), ("longitude", columns))
    )
    south = read_key(handle, "latitudeOfSouthernPoleInDegrees", float)
    meridian = read_key(handle, "longitudeOfSouthernPoleInDegrees", float)
    angle = read_key(handle, "angleOfRotationInDegrees", float) or 0.0
    about: dict[str, Any] = {
        "grid_mapping_name": "rotated_latitude_longitude",
        "grid_north_pole_latitude": -south,
        "grid_north_pole_longitude": (meridian + 360.0) % 360.0 - 180.0,
        **_figure(handle),
    }
    if angle:
        about["north_pole_grid_longitude"] = angle
    axes = (_axis("rlat", lat, "grid_latitude"), _axis("rlon", lon, "grid_longitude"))
    mapping = Variable(MAPPING, (), InMemory(np.int32(0)), about)
    return Grid(("rlat", "rlon"), (*axes, mapping), {"grid_mapping": MAPPING}, scanning)


def _spaced(handle: Any, axis: str, count: int, kind: str) -> Array:
    """Return the coordinates of a rotated grid in its own degrees, from its first to its last."""
    first, last = (
        read_key(handle, f"{axis}Of{which}GridPointInDegrees", float)
        for which in ("First", "Last")
    )
    if axis == "longitude":
        backwards = bool(read_key(handle, "iScansNegatively", int))
        last = (
            first - (first - last) % 360.0
            if backwards
            else first + (last - first) % 360.0
        )
        shift = 360.0 if min(first, last) >= 180.0 else 0.0
        return np.linspace(first - shift, last - shift, count)
    if kind.endswith("_gg"):
        rows: Array = np.sort(read_numbers(handle, "distinctLatitudes"))
        return rows if first < last else rows[::-1]
    return np.linspace(first, last, count)


def _list_of_cells(handle: Any, scanning: Scanning, kind: str) -> Grid:
    latitudes, longitudes = _positions(handle)
    corners = _corners_in_rows(latitudes, longitudes) if kind in _REDUCED else {}
    coordinates = []
    for name, values in (
        ("lat", _axis("lat", latitudes, "latitude")),
        ("lon", _axis("lon", longitudes, "longitude")),
    ):
        plain = values.edit("axis").replace(dimensions=("cell",))
        if name in corners:
            bounds = f"{name}_bnds"
            plain = plain.edit(bounds=bounds)
            numbers = InMemory(np.round(corners[name], _ROUNDING))
            coordinates.append(Variable(bounds, ("cell", "corner"), numbers))
        coordinates.append(plain)
    return Grid(("cell",), tuple(coordinates), {"coordinates": "lat lon"}, scanning)


def _corners_in_rows(latitudes: Array, longitudes: Array) -> dict[str, Array]:
    """Return the corners of cells that fill rows along parallels, each row with cells of one width;
    edges between rows lie halfway, and the outermost at the poles."""
    rows, row_of, counts = np.unique(latitudes, return_inverse=True, return_counts=True)
    if rows.size < 2:
        return {}
    edges = np.concatenate([[-90.0], (rows[1:] + rows[:-1]) / 2, [90.0]])
    south, north = edges[row_of], edges[row_of + 1]
    half = 180.0 / counts[row_of]
    west, east = longitudes - half, longitudes + half
    return {
        "lat": np.stack([south, south, north, north], axis=1),
        "lon": np.stack([west, east, east, west], axis=1),
    }


def _projected(path: Path, handle: Any, scanning: Scanning, kind: str) -> Grid:
    """Return a grid on the plane of a projection, whose first cell lies where its message says."""
    import pyproj

    text = read_key(handle, "projString", str)
    if not text:
        raise DataError(f"{path}: grids of the kind {kind} are not read")
    system = pyproj.CRS.from_proj4(text)
    place = pyproj.Transformer.from_crs(system.geodetic_crs, system, always_xy=True)
    longitude, latitude = (
        read_key(handle, f"{axis}OfFirstGridPointInDegrees", float)
        for axis in ("longitude", "latitude")
    )
    step_x, step_y = (
        read_key(handle, f"D{axis}InMetres", float) for axis in ("x", "y")
    )
    if None in (step_x, step_y, longitude, latitude):
        raise DataError(
            f"{path}: this grid ({kind}) does not say how wide its cells are"
        )
    first_x, first_y = place.transform(longitude, latitude)
    step_x *= -1 if read_key(handle, "iScansNegatively", int) else 1
    step_y *= 1 if read_key(handle, "jScansPositively", int) else -1
    rows, columns = scanning.shape
    axes = (
        _plane_axis("y", first_y, step_y, rows),
        _plane_axis("x", first_x, step_x, columns),
    )
    about = {key: value for key, value in system.to_cf().items() if value != "unknown"}
    mapping = Variable(MAPPING, (), InMemory(np.int32(0)), about)
    return Grid(("y", "x"), (*axes, mapping), {"grid_mapping": MAPPING}, scanning)


def _plane_axis(name: str, first: float, step: float, count: int) -> Variable:
    values = round(float(first), _PLANE_ROUNDING) + step * np.arange(count)
    axis = Variable(name, (name,), InMemory(values), {"axis": name.upper()})
    return as_projected(axis)
