"""The cells of a dataset, found from its latitudes and longitudes."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, Engine, InMemory
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.kernels.spherical_cells import corners_between
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import (
    cell_bounds,
    cell_edges,
    check_degrees,
    joins_up,
)
from rhodolite.model.space.cell_lists import ROW, as_one_row
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.precision import rounding
from rhodolite.model.variable import Variable

_SAME = 1e-6
"""Degrees by which latitudes of a row, or longitudes of a column, may differ and be one."""


def mesh_of(dataset: Dataset) -> Mesh:
    """Return the cells of a dataset.

    Raises
    ------
    DataError
        If the data lie on no grid.
    """
    dataset = as_one_row(dataset)
    if dataset.axes.curvilinear:
        return _curvilinear(dataset, *dataset.axes.curvilinear)
    latitude, longitude = dataset.need(Role.LATITUDE), dataset.need(Role.LONGITUDE)
    if latitude.dimension is None or longitude.dimension is None:
        scalar = latitude if latitude.dimension is None else longitude
        raise DataError(
            f"{dataset.label}: {scalar.name} is a scalar coordinate, and this needs an axis of it; "
            "summarise --over lat or --over lon goes along the other alone"
        )
    if not (joins_up(latitude) and joins_up(longitude)):
        return _of_single_cells(latitude, longitude)
    return Mesh(
        (latitude.dimension, longitude.dimension),
        latitude.values,
        np.unwrap(longitude.values, period=360.0),
        cell_edges(latitude),
        cell_edges(longitude),
        slack=_slack_of(latitude, longitude),
    )


def _of_single_cells(latitude: Coordinate, longitude: Coordinate) -> Mesh:
    """Return the cells of rows and columns between which parts of the grid were left out."""
    north, east = np.meshgrid(
        latitude.values, np.unwrap(longitude.values, period=360.0), indexing="ij"
    )
    low, high = cell_bounds(latitude).T
    west, right = (cell_bounds(longitude) - longitude.values[:, None] + east[:1].T).T
    corners = _corners_of(
        np.stack([low, high], axis=1), np.stack([west, right], axis=1)
    )
    return Mesh(
        (str(latitude.dimension), str(longitude.dimension)),
        north,
        east,
        corners=corners,
        straight=True,
        slack=_slack_of(latitude, longitude),
    )


def _slack_of(*axes: Coordinate) -> float:
    """Return the rounding of the coordinates themselves, without what selections allow for beyond
    it."""
    return max(1e-9, *(rounding(ax.values, ax.variable.data.dtype) for ax in axes))


def _curvilinear(dataset: Dataset, north: str, east: str) -> Mesh:
    latitude, longitude = dataset.variables[north], dataset.variables[east]
    engine = Engine(workers=1)
    values = [
        engine.compute(v.floats()).astype(np.float64) for v in (latitude, longitude)
    ]
    check_degrees(values[0], Role.LATITUDE, north)
    check_degrees(values[1], Role.LONGITUDE, east)
    bounds = [
        dataset.variables.get(str(v.attributes.get("bounds", "")))
        for v in (latitude, longitude)
    ]
    straight = False
    if all(b is not None and _are_corners(b, latitude) for b in bounds):
        corners = tuple(
            _filled_corners(engine.compute(b.floats()).astype(np.float64))
            for b in bounds
            if b is not None
        )
        straight = _run_along_axes(*corners)
    elif min(latitude.shape) < 2:
        raise DataError(
            f"{dataset.label}: cells in a single row or column, without bounds, have no size"
        )
    elif (axes := _axes_in_disguise(*values)) is not None:
        corners, straight = axes, True
    else:
        corners = corners_between(*values)
    names = (latitude.dimensions[0], latitude.dimensions[1])
    return Mesh(
        names, values[0], values[1], corners=(corners[0], corners[1]), straight=straight
    )


def _are_corners(bounds: Variable, latitude: Variable) -> bool:
    """Return whether bounds are the corners of cells: four of a grid, three or more of a list."""
    *shape, count = bounds.shape
    in_list = ROW in latitude.dimensions
    return tuple(shape) == latitude.shape and (count == 4 or (in_list and count >= 3))


def _filled_corners(corners: Array) -> Array:
    """Return corners with the last one again where a cell has fewer than others, which adds an edge
    of no length."""
    if not np.isnan(corners).any():
        return corners
    count = corners.shape[-1]
    at = np.where(np.isnan(corners), 0, np.arange(count))
    return np.take_along_axis(corners, np.maximum.accumulate(at, axis=-1), axis=-1)


def _axes_in_disguise(
    latitudes: Array, longitudes: Array
) -> tuple[Array, Array] | None:
    """Return the corners of a grid of latitudes and longitudes that is written with two dimensions
    each, as they are where it has one; None for other grids."""
    for turned in (False, True):
        north, east = (part.T if turned else part for part in (latitudes, longitudes))
        off = shortest_turn(east - east[:1])
        if np.ptp(north, axis=1).max() > _SAME or np.abs(off).max() > _SAME:
            continue
        bounds = [
            cell_bounds(Coordinate(role, Variable(role, (role,), InMemory(values))))
            for role, values in (
                (Role.LATITUDE, north[:, 0]),
                (Role.LONGITUDE, east[0]),
            )
        ]
        corners = _corners_of(*bounds)
        return tuple(np.swapaxes(part, 0, 1) for part in corners) if turned else corners  # type: ignore[return-value]
    return None


def _corners_of(rows: Array, columns: Array) -> tuple[Array, Array]:
    """Return the corners of all cells of rows and columns with these ends, shape (rows, columns,
    4)."""
    shape = len(rows), len(columns)
    low, high = (np.broadcast_to(part[:, None], shape) for part in rows.T)
    west, right = (np.broadcast_to(part, shape) for part in columns.T)
    return np.stack([low, low, high, high], -1), np.stack(
        [west, right, right, west], -1
    )


def _run_along_axes(latitudes: Array, longitudes: Array) -> bool:
    """Return whether all edges between corners run along parallels and meridians, as those of a
    grid of latitudes and longitudes do that is written with two dimensions each."""
    north = np.abs(np.roll(latitudes, -1, axis=-1) - latitudes)
    east = np.abs(shortest_turn(np.roll(longitudes, -1, axis=-1) - longitudes))
    return bool(np.nanmax(np.minimum(north, east)) <= _SAME)
