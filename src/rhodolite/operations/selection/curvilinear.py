"""Choosing by position where latitude and longitude are not axes: two-dimensional grids, and
sites."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.extent import NARROW_GAP, Extent
from rhodolite.model.space.precision import rounding
from rhodolite.model.space.range_text import (
    LatitudeRange,
    LongitudeRange,
    Position,
)
from rhodolite.model.variable import Variable
from rhodolite.operations.selection.indices import take_block
from rhodolite.operations.selection.longitude_ranges import find_way


@dataclass(frozen=True, eq=False)
class Positions:
    """Where the cells of a two-dimensional grid, or sites, lie, in degrees; one number for each.

    `slack` says by how much one may miss a limit and still be meant.
    """

    latitudes: Array
    longitudes: Array
    dimensions: tuple[str, ...]
    slack: float = 1e-6

    @classmethod
    def of(cls, dataset: Dataset) -> Positions:
        names = dataset.axes.curvilinear or dataset.axes.sites
        assert names is not None
        latitude, longitude = (dataset.variables[name] for name in names)
        north, east = dataset.positions
        near = [
            rounding(part.reshape(-1), v.data.dtype)
            for part, v in ((north, latitude), (east, longitude))
        ]
        return cls(north, east, latitude.dimensions, max(1e-6, *near))

    @property
    def extent(self) -> Extent:
        """From where to where they lie."""
        return Extent.of(self.latitudes, self.longitudes)


def within(
    dataset: Dataset, lat: LatitudeRange | None, lon: LongitudeRange | None
) -> Dataset:
    """Return the sites in both ranges, or the smallest block of cells that holds all whose centres
    are.

    Cells of the block whose centres lie outside become missing, since a block of such a grid
    rarely has the edges that were asked for.

    Raises
    ------
    DataError
        If nothing lies there.
    """
    single = lat is not None and lat.south == lat.north is not None
    if single or (lon is not None and lon.west == lon.east is not None):
        raise DataError(
            "latitude and longitude are not axes of these data, so a single one cannot be chosen; "
            "give a range, or one place with --at"
        )
    positions = Positions.of(dataset)
    inside = cells_within(dataset, lat, lon)
    if inside.ndim == 1:
        return take(dataset, {positions.dimensions[0]: np.flatnonzero(inside)})
    used = [np.flatnonzero(inside.any(axis=1 - axis)) for axis in (0, 1)]
    rows, columns = (np.arange(part[0], part[-1] + 1) for part in used)
    part = take_block(dataset, rows, columns)
    inside = inside[np.ix_(rows, columns)]
    if inside.all():
        return part
    return part.with_variables(
        v
        if v.name in part.axes.auxiliary
        else mask_cells(v, inside, positions.dimensions)
        for v in part.variables.values()
    )


def cells_within(
    dataset: Dataset, lat: LatitudeRange | None, lon: LongitudeRange | None
) -> NDArray[np.bool_]:
    """Return which cells or sites have their centres in both ranges, of the shape of the positions.

    Raises
    ------
    DataError
        If none has.
    """
    positions = Positions.of(dataset)
    inside = _inside(positions, lat, lon)
    if not inside.any():
        asked = [
            f"--{name} {wish}"
            for name, wish in (("lat", lat), ("lon", lon))
            if wish is not None
        ]
        raise DataError(
            f"{' '.join(asked)}: none lies there; the data cover {positions.extent.words()}"
        )
    return inside


def _inside(
    positions: Positions, lat: LatitudeRange | None, lon: LongitudeRange | None
) -> NDArray[np.bool_]:
    inside = np.isfinite(positions.latitudes) & np.isfinite(positions.longitudes)
    if lat is not None:
        low = -np.inf if lat.south is None else lat.south
        high = np.inf if lat.north is None else lat.north
        inside &= (positions.latitudes >= low - positions.slack) & (
            positions.latitudes <= high + positions.slack
        )
    return inside if lon is None else inside & _between(positions, lon)


def at(dataset: Dataset, place: Position) -> Dataset:
    """Return the site, or the one cell, that is nearest to a position.

    Raises
    ------
    DataError
        If a position lies farther from a cell than the cells' centres lie from each other.
    """
    if dataset.axes.curvilinear:
        row, column = cell_nearest(dataset, place)
        return take_block(dataset, np.array([row]), np.array([column]))
    positions = Positions.of(dataset)
    nearest = int(np.nanargmin(_distances(positions, place)))
    return take(dataset, {positions.dimensions[0]: np.array([nearest])})


def cell_nearest(dataset: Dataset, place: Position) -> tuple[int, int]:
    """Return row and column of the cell of a two-dimensional grid that is nearest to a position.

    Raises
    ------
    DataError
        If the position lies farther from it than the cells' centres lie from each other.
    """
    positions = Positions.of(dataset)
    distances = _distances(positions, place)
    row, column = map(int, np.unravel_index(np.nanargmin(distances), distances.shape))
    if distances[row, column] > _reach(positions, row, column):
        raise DataError(
            f"--at {place}: lies outside the data, which cover {positions.extent.words()}"
        )
    return row, column


def _distances(positions: Positions, place: Position) -> Array:
    return great_circle(
        positions.latitudes, positions.longitudes, place.latitude, place.longitude
    )


def _between(positions: Positions, wanted: LongitudeRange) -> NDArray[np.bool_]:
    longitudes, near = positions.longitudes, positions.slack
    first, last = positions.extent.eastward
    round_the_globe = last - first > 360.0 - NARROW_GAP
    west, width = find_way(wanted, longitudes, goes_round=round_the_globe)
    beyond = np.mod(longitudes - west + near, 360.0)
    return np.asarray(beyond <= width + 2 * near)


def _reach(positions: Positions, row: int, column: int) -> float:
    """Return the largest distance from a cell's centre to those of its neighbours, in degrees of
    arc."""
    rows = slice(max(row - 1, 0), row + 2)
    columns = slice(max(column - 1, 0), column + 2)
    here = positions.latitudes[row, column], positions.longitudes[row, column]
    around = great_circle(
        positions.latitudes[rows, columns], positions.longitudes[rows, columns], *here
    )
    return float(np.nanmax(around)) or 1.0


def mask_cells(
    variable: Variable, inside: NDArray[np.bool_], dimensions: tuple[str, ...]
) -> Variable:
    """Return a variable that is missing in cells that are not inside; what holds no numbers, or
    does not run along all `dimensions` of the cells, as it is."""
    along = set(dimensions) <= set(variable.dimensions)
    if not along or not (variable.numeric or variable.classes):
        return variable
    values = MaskedArray(variable.floats(), inside, variable.dimensions, dimensions)
    return variable.with_floats(values)


class MaskedArray(LazyArray):
    """An array of numbers that are missing where a mask over one or two of its dimensions is
    false."""

    def __init__(
        self,
        source: LazyArray,
        inside: NDArray[np.bool_],
        dimensions: tuple[str, ...],
        masked: tuple[str, ...],
    ) -> None:
        axes = tuple(dimensions.index(name) for name in masked)
        self._source = source
        self._inside = inside if axes[0] <= axes[-1] else inside.T
        self._axes = tuple(sorted(axes))
        self.shape, self.dtype, self.chunks = source.shape, source.dtype, source.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        values = self._source.read(region)
        inside = self._inside[tuple(region[axis] for axis in self._axes)]
        shape = [n if axis in self._axes else 1 for axis, n in enumerate(values.shape)]
        return np.where(inside.reshape(shape), values, self.dtype.type(np.nan))
