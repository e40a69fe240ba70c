"""Latitude and longitude of grids that give their cells only in the x and y of a projection (CF
5.6)."""

from __future__ import annotations

import importlib.util
from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region, read_small
from rhodolite.errors import DataError, warn
from rhodolite.kernels.sphere import from_rotated
from rhodolite.model.cf.named_variables import mapping_of
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable

_ROTATED = "rotated_latitude_longitude"
_AXES = {
    "projection_x_coordinate": "x",
    "projection_y_coordinate": "y",
    "grid_longitude": "x",
    "grid_latitude": "y",
}


def add_positions(dataset: Dataset) -> Dataset:
    """Return a projected dataset with two-dimensional latitude and longitude, computed when they
    are read.

    All projections but the rotated pole need pyproj, which is an optional part of the
    installation; without it the dataset is returned as it is, with a warning.

    Raises
    ------
    DataError
        If the description of the projection cannot be understood.
    """
    axes = _projected_axes(dataset)
    mapping = _mapping(dataset, axes)
    if (
        mapping is None
        or dataset.axes.by_role.keys() & {"latitude", "longitude"}
        or dataset.axes.curvilinear
    ):
        return dataset
    name = mapping.attributes.get("grid_mapping_name")
    if name != _ROTATED and importlib.util.find_spec("pyproj") is None:
        warn(
            f"{dataset.label}: the grid is projected ({name}); for its latitudes and longitudes "
            "install pyproj: pip install 'rhodolite[projections]'"
        )
        return dataset
    x, y = axes["x"], axes["y"]
    place = (
        _in_base_units(x),
        _in_base_units(y),
        Plane(mapping.attributes, dataset.label),
    )
    added = [
        Variable(n, (y.name, x.name), PositionArray(*place, n), ABOUT_POSITIONS[n])
        for n in ("lat", "lon")
    ]
    if any(variable.name in dataset.variables for variable in added):
        return dataset
    pair = {x.name, y.name}
    changed = [
        v.edit(coordinates=f"{v.attributes.get('coordinates', '')} lat lon".strip())
        if pair <= set(v.dimensions) and "grid_mapping" in v.attributes
        else v
        for v in dataset.variables.values()
    ]
    return dataset.with_variables([*changed, *added])


def _projected_axes(dataset: Dataset) -> dict[str, Variable]:
    axes = {}
    for name, variable in dataset.variables.items():
        axis = _AXES.get(str(variable.attributes.get("standard_name", "")))
        if axis and variable.dimensions == (name,):
            axes[axis] = variable
    return axes


def _mapping(dataset: Dataset, axes: dict[str, Variable]) -> Variable | None:
    """Return the grid mapping of the data along projected axes."""
    if axes.keys() != {"x", "y"}:
        return None
    for variable in dataset.variables.values():
        mapping = dataset.variables.get(mapping_of(variable))
        plane = {axes["x"].name, axes["y"].name}
        if mapping is not None and plane <= set(variable.dimensions):
            return mapping
    return None


def _in_base_units(axis: Variable) -> Array:
    """Return coordinates in metres, or in degrees for a rotated pole."""
    values = read_small(axis.floats()).astype(np.float64)
    units = axis.units or "m"
    return (
        np.asarray(convert(values, units, "m"), dtype=np.float64)
        if convertible(units, "m")
        else values
    )


class PositionArray(LazyArray):
    """Latitudes or longitudes of the cells of a projected grid, shape (y, x), degrees."""

    dtype = np.dtype("f8")

    def __init__(self, x: Array, y: Array, plane: Plane, which: str) -> None:
        self.shape = (y.size, x.size)
        self._x, self._y, self._plane, self._which = x, y, plane, which

    def read(self, region: Region) -> Array:
        x, y = np.meshgrid(self._x[region[1]], self._y[region[0]])
        latitudes, longitudes = self._plane.positions(x, y)
        return np.asarray(latitudes if self._which == "lat" else longitudes)


class Plane:
    """The plane of a projection.

    Parameters
    ----------
    mapping : mapping of str to object
        Attributes of the grid mapping.
    label : str
        Of the dataset, for messages.
    """

    def __init__(self, mapping: Mapping[str, Any], label: str) -> None:
        self._mapping, self._label = dict(mapping), label

    def positions(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Return latitudes and longitudes, degrees, of places in the plane, in metres or, of a
        rotated pole, in degrees.

        Raises
        ------
        DataError
            If the description of the projection cannot be understood.
        """
        if self._mapping.get("grid_mapping_name") == _ROTATED:
            return self._rotated(x, y)
        import pyproj

        # Made anew for each block, since a transformer must not be shared between threads.
        transformer = pyproj.Transformer.from_crs(
            self._system, self._system.geodetic_crs, always_xy=True
        )
        longitudes, latitudes = transformer.transform(x, y)
        return latitudes, longitudes

    @cached_property
    def _system(self) -> Any:
        """The reference system, whose description takes a third of a second to be understood."""
        import pyproj

        try:
            return pyproj.CRS.from_cf(self._mapping)
        except (pyproj.exceptions.CRSError, KeyError, TypeError) as error:
            raise DataError(
                f"{self._label}: the grid mapping cannot be understood: {error}"
            ) from None

    def _rotated(self, x: Array, y: Array) -> tuple[Array, Array]:
        try:
            latitude = float(self._mapping["grid_north_pole_latitude"])
            longitude = float(self._mapping["grid_north_pole_longitude"])
        except (KeyError, TypeError, ValueError):
            raise DataError(
                f"{self._label}: the grid mapping does not say where the rotated pole lies"
            ) from None
        turn = float(self._mapping.get("north_pole_grid_longitude", 0.0))
        return from_rotated(y, x, latitude, longitude, turn)
