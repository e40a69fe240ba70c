"""Where the cells of a dataset lie: from positions to indices, for maps, clicks and boxes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.great_circles import unit_vectors
from rhodolite.kernels.sphere import eastward_from
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import cell_edges
from rhodolite.model.space.range_text import Position
from rhodolite.operations.selection.curvilinear import Positions, cell_nearest
from rhodolite.operations.selection.indices import position_indices

_BEYOND = 1.5
"""Of the spacing of cells: farther from a centre than this nothing is a cell of a grid without
edges."""


@dataclass(frozen=True, eq=False)
class Grid:
    """The horizontal cells of a dataset.

    Parameters
    ----------
    dataset : Dataset
    """

    dataset: Dataset

    @property
    def regular(self) -> bool:
        """Whether rows are latitudes and columns longitudes."""
        roles = self.dataset.axes.by_role
        return Role.LATITUDE in roles and Role.LONGITUDE in roles

    @property
    def there(self) -> bool:
        """Whether there are cells at all."""
        return self.regular or self.dataset.axes.curvilinear is not None

    @cached_property
    def dimensions(self) -> tuple[str, str]:
        """Of rows and columns."""
        if self.regular:
            latitude, longitude = (
                self.dataset.need(role) for role in (Role.LATITUDE, Role.LONGITUDE)
            )
            return str(latitude.dimension), str(longitude.dimension)
        first, second = self._positions.dimensions[-2:]
        return first, second

    @cached_property
    def extent(self) -> tuple[float, float, float, float]:
        """West, south, east and north, with the cells' edges where these are known."""
        if self.regular:
            rows, columns = self._edges
            return (
                float(columns.min()),
                float(rows.min()),
                float(columns.max()),
                float(rows.max()),
            )
        extent = self._positions.extent
        west, east = extent.eastward
        return west, extent.south, east, extent.north

    def rows(self, latitudes: Array) -> Array:
        """Return the row of each latitude of a regular grid; -1 where there is none."""
        return _cells(self._edges[0], latitudes)

    def columns(self, longitudes: Array) -> Array:
        """Return the column of each longitude of a regular grid; -1 where there is none."""
        edges = self._edges[1]
        west = edges.min()
        return _cells(edges, eastward_from(west, np.asarray(longitudes)))

    def nearest(self, latitudes: Array, longitudes: Array) -> Array:
        """Return the flat index of the nearest cell of a two-dimensional grid to each position; -1
        where it is far."""
        vectors = unit_vectors(
            np.asarray(latitudes).ravel(), np.asarray(longitudes).ravel()
        )
        tree, reach = self._tree
        distances, nearest_cells = tree.query(vectors, distance_upper_bound=reach)
        cells = self._held
        inside = np.isfinite(distances)
        return np.where(inside, cells[np.where(inside, nearest_cells, 0)], -1)

    def cell_at(self, latitude: float, longitude: float) -> tuple[int, int] | None:
        """Return row and column of the cell that holds a position; None where there is none."""
        find = position_indices if self.regular else cell_nearest
        try:
            return find(self.dataset, Position(latitude, longitude))
        except DataError:
            return None

    def positions(self, rows: Array, columns: Array) -> tuple[Array, Array]:
        """Return latitudes and longitudes of cells of a two-dimensional grid."""
        at = np.ix_(rows, columns)
        return self._positions.latitudes[at], self._positions.longitudes[at]

    def centre(self, row: int, column: int) -> tuple[float, float]:
        """Return latitude and longitude of a cell."""
        if self.regular:
            return (
                float(self.dataset.need(Role.LATITUDE).values[row]),
                float(self.dataset.need(Role.LONGITUDE).values[column]),
            )
        return (
            float(self._positions.latitudes[row, column]),
            float(self._positions.longitudes[row, column]),
        )

    @cached_property
    def _edges(self) -> tuple[Array, Array]:
        rows, columns = (
            cell_edges(self.dataset.need(role))
            for role in (Role.LATITUDE, Role.LONGITUDE)
        )
        return rows, columns

    @cached_property
    def _positions(self) -> Positions:
        return Positions.of(self.dataset)

    @cached_property
    def _held(self) -> Array:
        flat = self._positions.latitudes.ravel() + self._positions.longitudes.ravel()
        return np.flatnonzero(np.isfinite(flat))

    @cached_property
    def _tree(self) -> tuple[Any, float]:
        from scipy.spatial import cKDTree

        cells = self._held
        vectors = unit_vectors(
            self._positions.latitudes.ravel()[cells],
            self._positions.longitudes.ravel()[cells],
        )
        tree = cKDTree(vectors)
        some = vectors[:: max(1, len(vectors) // 1000)]
        spacing = np.sort(
            tree.query(some, k=min(2, len(vectors)))[0].reshape(len(some), -1)
        )[:, -1]
        return tree, _BEYOND * float(spacing.max())


def _cells(edges: Array, values: Array) -> Array:
    """Return between which edges values lie, which ascend or descend; -1 beyond them."""
    rising = edges[-1] >= edges[0]
    ordered = edges if rising else edges[::-1]
    places = np.searchsorted(ordered, values, side="right") - 1
    last = ordered.size - 2
    places = np.where((places == last + 1) & (values <= ordered[-1]), last, places)
    inside = (places >= 0) & (places <= last)
    places = places if rising else last - places
    return np.where(inside, places, -1)
