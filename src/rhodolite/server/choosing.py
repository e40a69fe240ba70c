"""Which cells and levels a request means: by the same rules as on the command line."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import eastward_from
from rhodolite.model.axes import Role
from rhodolite.model.space.extent import find_ends
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.space.range_text import LatitudeRange, Levels, LongitudeRange
from rhodolite.operations.axis_reduction.cell_areas import covered_parts
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.selection.curvilinear import cells_within
from rhodolite.operations.selection.indices import (
    latitude_indices,
    longitude_indices,
)
from rhodolite.operations.selection.level_indices import level_indices
from rhodolite.server.layers import Layer
from rhodolite.server.limits import Refused

Cells = tuple[Array, Array, Array | None]
"""Rows, columns, and the part of each cell of these that counts; None for all of it."""


def cells_in_box(
    layer: Layer, west: float, south: float, east: float, north: float
) -> Cells:
    """Return the cells whose centres lie in a box, as `subset` chooses them.

    Raises
    ------
    Refused
        If there is none.
    """
    dataset = layer.served.dataset
    lat, lon = LatitudeRange(south, north), LongitudeRange(west, east)
    try:
        if layer.grid.regular:
            rows = latitude_indices(dataset.need(Role.LATITUDE), lat)
            columns, _ = longitude_indices(dataset.need(Role.LONGITUDE), lon)
            return rows, columns, None
        inside = cells_within(dataset, lat, lon)
    except DataError:
        raise Refused(404, "no cell has its centre in this box") from None
    return _block(layer, inside.astype(np.float64))


def areas_of(layer: Layer, rows: Array, columns: Array, parts: Array | None) -> Array:
    """Return how much each cell counts in a mean over an area, shape (rows, columns): by the areas
    that the file names, or those of the grid, as in `summarise`.

    Parameters
    ----------
    layer : Layer
    rows, columns : ndarray of int
    parts : ndarray of float64, shape (rows, columns), optional
        The part of each cell that was asked for; all of it unless given.
    """
    known, cells = layer.cell_areas
    chosen = cells[np.ix_(rows, columns)]
    if parts is None:
        return np.asarray(known.areas[chosen])
    return np.asarray(known.within(parts, chosen) * known.whole[chosen])


def cells_in_area(layer: Layer, polygon: Any, *, parts_of_cells: bool) -> Cells:
    """Return the cells in an area: those whose centres lie in it, or all that it touches, with the
    part of each that it covers, as in means over a region.

    Parameters
    ----------
    layer : Layer
    polygon : shapely geometry
        In degrees east and north.
    parts_of_cells : bool
        Whether parts of cells count.

    Raises
    ------
    Refused
        If there is none.
    """
    mesh = mesh_of(layer.served.dataset)
    shapes = shapely.get_parts(shapely.normalize(polygon))
    region = Regions.of(shapely.MultiPolygon(list(shapes)))
    choice = CellChoice.FRACTION if parts_of_cells else CellChoice.CENTRE
    try:
        covered = region.weights(mesh, choice).toarray().reshape(-1)
    except DataError:
        what = "lies in" if parts_of_cells else "has its centre in"
        raise Refused(404, f"no cell {what} this area") from None
    return _block(layer, covered_parts(covered, mesh).reshape(mesh.shape))


def _block(layer: Layer, covered: Array) -> Cells:
    """Return the smallest block of rows and columns that holds all cells that count."""
    rows, columns = (np.flatnonzero(covered.any(axis=axis)) for axis in (1, 0))
    if layer.grid.regular:
        # Eastward, so that an area across the seam of the data is in one piece.
        longitudes = layer.served.dataset.need(Role.LONGITUDE).values[columns]
        west, _ = find_ends(longitudes)
        eastward = eastward_from(west, longitudes)
        columns = columns[np.argsort(eastward, kind="stable")]
    else:
        rows, columns = (
            np.arange(part.min(), part.max() + 1) for part in (rows, columns)
        )
    return rows, columns, covered[np.ix_(rows, columns)]


def levels_named(layer: Layer, text: str | None) -> Array:
    """Return the levels that a request names: one, several with commas, or a range with a slash.

    Raises
    ------
    Refused
        If a level is not there, or the text is none.
    """
    if layer.levels is None:
        return np.zeros(1, int)
    if not text:
        return np.arange(layer.levels.size)
    low, slash, high = text.partition("/")
    try:
        ends = sorted([float(low), float(high)]) if slash else []
        wanted = f"{ends[0]!r}..{ends[1]!r}" if slash else text
        for number in () if slash else text.split(","):
            float(number)
        return level_indices(
            layer.served.dataset.need(Role.LEVEL), Levels.parse(wanted)
        )
    except DataError as error:
        raise Refused(404, str(error).removeprefix("--level ")) from None
    except ValueError:
        raise Refused(
            400, "z is a level, several with commas, or two with a slash"
        ) from None
