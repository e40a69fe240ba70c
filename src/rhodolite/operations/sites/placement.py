"""Sites on a grid: the cells that each takes its value from, and what is wrong with its
position."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from rhodolite.arrays import (
    Accumulator,
    Array,
    InMemory,
    LazyArray,
    Mapped,
    Reduction,
    Region,
    Selected,
)
from rhodolite.errors import DataError, warn
from rhodolite.kernels.interpolation import nearest
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.space.extent import Extent
from rhodolite.model.space.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.space.range_text import (
    format_latitude,
    format_longitude,
    within_a_turn,
)
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.sites import Sites
from rhodolite.operations.regridding.remapped_array import Weights
from rhodolite.operations.regridding.weights import bilinear, nearest_cells

SITE = "site"
_KM_PER_DEGREE = EARTH_RADIUS / 1000 * np.pi / 180
_HALF = 0.5
"""Share of a site's weight that has to lie in cells with data."""


def place_sites(sites: Sites, mesh: Mesh, *, interpolate: bool) -> Weights:
    """Return the weights of the cells for each site, and warn of sites that the grid does not
    reach.

    Parameters
    ----------
    sites : Sites
    mesh : Mesh
    interpolate : bool
        Whether a site takes the four cells around it, and not the nearest alone.

    Raises
    ------
    DataError
        If no site lies on the grid, or one would with latitude and longitude exchanged.
    """
    north, east = sites.latitudes, sites.longitudes
    placed = np.isfinite(north) & np.isfinite(east)
    if not placed.any():
        raise DataError(
            f"{sites}: no site has a position; they need a latitude and a longitude"
        )
    find = bilinear if interpolate else nearest_cells
    weights = _spread_rows(find(mesh, cells_at(north[placed], east[placed])), placed)
    if not placed.all():
        unplaced = sites.name_lines(np.flatnonzero(~placed))
        warn(f"{sites}: without a position, so without values: {unplaced}")
    outside = np.flatnonzero((np.diff(weights.matrix.indptr) == 0) & placed)
    if outside.size:
        _name_those_outside(
            sites, mesh, outside, lost=outside.size + int((~placed).sum())
        )
    return weights


def closest_cells(sites: Sites, mesh: Mesh) -> Array:
    """Return the number of the cell with the nearest centre for each site; -1 where there is
    none."""
    placed = np.isfinite(sites.latitudes) & np.isfinite(sites.longitudes)
    places = cells_at(sites.latitudes[placed], sites.longitudes[placed])
    return heaviest_cells(_spread_rows(nearest_cells(mesh, places), placed))


def _name_those_outside(sites: Sites, mesh: Mesh, outside: Array, lost: int) -> None:
    """Warn of sites that lie outside the grid, or refuse them where none is left."""
    north, east = sites.latitudes, sites.longitudes
    fits = (
        np.diff(
            nearest_cells(mesh, cells_at(east[outside], north[outside])).matrix.indptr
        )
        > 0
    )
    swapped = outside[fits & (np.abs(east[outside]) <= 90)]
    if swapped.size:
        at = swapped[0]
        where = f"{format_latitude(north[at])}, {format_longitude(east[at])}"
        raise DataError(
            f"{sites}: latitude and longitude are exchanged at {sites.name_lines(swapped)}, which "
            f"lies outside the data as {where}"
        )
    where = Extent.of(*mesh.centres).words()
    named = sites.name_lines(outside)
    if lost == north.size:
        raise DataError(f"{sites}: no site lies on the grid ({where}): {named}")
    warn(f"{sites}: outside the data ({where}), so without values: {named}")


def check_data(
    sites: Sites, mesh: Mesh, weights: Weights, variable: Variable, search: int | None
) -> LazyArray:
    """Return the cell that counts most for each site, shape (sites,), found as the data are read.

    A cell has no data where the first and the last field have none. Sites on such cells are named
    in a warning, or take the nearest cell with data where there is one within `search` cells.

    Parameters
    ----------
    sites : Sites
    mesh : Mesh
        Cells of the grid.
    weights : Weights
    variable : Variable
    search : int, optional
        Number of cells around within which data are looked for.
    """
    axes = tuple(variable.dimensions.index(name) for name in mesh.dimensions)
    source = variable.floats()
    picks: list[NDArray[np.intp] | None] = [
        None if axis in axes else np.unique([0, n - 1])
        for axis, n in enumerate(source.shape)
    ]
    ends = Selected(source, picks)
    work = _DataAtSites(sites, mesh, weights, variable.name, search, (axes[0], axes[1]))
    return Reduction(ends, work).output("cell", (weights.matrix.shape[0],), np.int64)


@dataclass
class _DataAtSites(Accumulator):
    """Which cells hold data, and from it the cell of each site; -1 where a site has none."""

    sites: Sites
    mesh: Mesh
    weights: Weights
    name: str
    search: int | None
    axes: tuple[int, int]
    present: Array | None = None

    def start(self) -> Self:
        return replace(self, present=np.zeros(self.mesh.shape, dtype=bool))

    def add(self, block: Array, region: Region) -> None:
        assert self.present is not None
        rest = tuple(axis for axis in range(block.ndim) if axis not in self.axes)
        present = (~np.isnan(block)).any(axis=rest)
        present = present if self.axes[0] < self.axes[1] else present.T
        self.present[region[self.axes[0]], region[self.axes[1]]] |= present

    def merge(self, other: Self) -> None:
        assert self.present is not None
        assert other.present is not None
        self.present |= other.present

    def finish(self) -> dict[str, Array]:
        assert self.present is not None
        present = self.present.reshape(-1)
        cells = heaviest_cells(self.weights)
        shares = self.weights.matrix @ present.astype(np.float64)
        empty = np.flatnonzero((shares < _HALF) & (cells >= 0))
        if empty.size and self.search is None:
            warn(
                f"{self.sites}: the cells of {self.sites.name_lines(empty)} have no data; --search "
                "2 takes the nearest cell with data up to 2 cells away"
            )
        elif empty.size:
            cells = self._move(cells, empty, present)
        return {"cell": cells}

    def _move(self, cells: Array, empty: Array, present: Array) -> Array:
        """Return the cells with those of some sites replaced by the nearest with data."""
        if not present.any():
            raise DataError(
                f"{self.name} has no data at all in its first and last field"
            )
        assert self.search is not None
        latitudes, longitudes = (
            np.where(present, part.reshape(-1), np.nan) for part in self.mesh.centres
        )
        north, east = self.sites.latitudes[empty], self.sites.longitudes[empty]
        around = (2 * self.search + 1) ** 2
        nearest_cells_of, apart = nearest(latitudes, longitudes, north, east, around)
        close = self._within_search(cells[empty], nearest_cells_of, apart)
        helped = close.any(axis=1)
        first = close.argmax(axis=1)
        cells = cells.copy()
        cells[empty[helped]] = nearest_cells_of[helped, first[helped]]
        if not helped.all():
            left = self.sites.name_lines(empty[~helped])
            warn(
                f"{self.sites}: no cell with data lies within {self.search} cells of {left}"
            )
        return cells

    def _within_search(self, own: Array, nearest: Array, apart: Array) -> Array:
        """Return which of the cells found are near enough, shape (sites, cells)."""
        assert self.search is not None
        width = self.mesh.shape[1]
        if self.mesh.shape[0] == 1 and not self.mesh.regular:
            # Cells in a list have no rows to be counted: as far as so many of the site's own.
            own_widths = np.degrees(np.sqrt(self.mesh.areas.reshape(-1)[own]))
            return np.asarray(apart <= (self.search + _HALF) * own_widths[:, None])
        rows, columns = np.divmod(nearest, width)
        own_rows, own_columns = np.divmod(own[:, None], width)
        across = np.abs(columns - own_columns)
        if self.mesh.goes_round:
            across = np.minimum(across, width - across)
        # Near a pole many narrow columns lie within the height of a row.
        low, high = self.mesh.reach
        height = (high - low) / self.mesh.shape[0] if self.mesh.regular else 0.0
        beside = (np.abs(rows - own_rows) <= self.search) & (across <= self.search)
        return np.asarray(beside | (apart <= self.search * height))


def heaviest_cells(weights: Weights) -> Array:
    """Return the number of the cell that counts most for each site; -1 where there is none."""
    matrix = weights.matrix
    cells = np.full(matrix.shape[0], -1, dtype=np.int64)
    for at in np.flatnonzero(np.diff(matrix.indptr) > 0):
        part = slice(matrix.indptr[at], matrix.indptr[at + 1])
        cells[at] = matrix.indices[part][np.argmax(matrix.data[part])]
    return cells


def distance_to_cells(sites: Sites, mesh: Mesh, cells: LazyArray) -> Variable:
    """Return how far each site is from the centre of its cell, in km.

    Parameters
    ----------
    sites : Sites
    mesh : Mesh
        Cells of the grid.
    cells : LazyArray
        Number of the cell of each site, shape (sites,).
    """
    north, east = (part.reshape(-1) for part in mesh.centres)
    measure = _Distance(sites.latitudes, sites.longitudes, north, east)
    return Variable(
        "distance",
        (SITE,),
        Mapped(cells, measure, np.float64),
        {"long_name": "distance to the centre of the cell", "units": "km"},
    )


@dataclass(frozen=True, eq=False)
class _Distance:
    latitudes: Array
    longitudes: Array
    north: Array
    east: Array

    def __call__(self, cells: Array) -> Array:
        apart = great_circle(
            self.north[cells], self.east[cells], self.latitudes, self.longitudes
        )
        return np.where(cells >= 0, np.round(apart * _KM_PER_DEGREE, 3), np.nan)


def cells_at(latitudes: Array, longitudes: Array) -> Mesh:
    """Return places as cells in one column; only their centres mean anything.

    Parameters
    ----------
    latitudes : ndarray
        Degrees north.
    longitudes : ndarray
        Degrees east.
    """
    north, east = latitudes[:, None], longitudes[:, None]
    return Mesh((SITE, "one"), north, east, corners=(north[..., None], east[..., None]))


def cells_as_sites(
    mesh: Mesh, inside: NDArray[np.bool_] | None = None
) -> tuple[Weights, list[Variable]]:
    """Return every cell, or those `inside`, as a site of its own, named by its position."""
    chosen = np.arange(mesh.size) if inside is None else np.flatnonzero(inside)
    north, east = (part.reshape(-1)[chosen] for part in mesh.centres)
    east = within_a_turn(east)  # beyond which a block across the seam counts on
    names = np.array(
        [
            f"{format_latitude(round(y, 4))} {format_longitude(round(x, 4))}"
            for y, x in zip(north, east, strict=True)
        ],
        dtype=object,
    )
    columns: Mapping[str, tuple[Array, dict[str, Any]]] = {
        "name": (names, {"cf_role": "timeseries_id", "long_name": "name of the site"}),
        "lat": (north, {"standard_name": "latitude", "units": "degrees_north"}),
        "lon": (east, {"standard_name": "longitude", "units": "degrees_east"}),
    }
    described = [
        Variable(name, (SITE,), InMemory(values), about)
        for name, (values, about) in columns.items()
    ]
    entries = (np.ones(chosen.size), (np.arange(chosen.size), chosen))
    shape = (chosen.size, mesh.size)
    return Weights(sparse.csr_array(entries, shape=shape)), described


def _spread_rows(weights: Weights, placed: Array) -> Weights:
    """Return weights with an empty row for each site that has no position."""
    if placed.all():
        return weights
    counts = np.zeros(placed.size, dtype=np.intp)
    counts[placed] = np.diff(weights.matrix.indptr)
    starts = np.concatenate([[0], np.cumsum(counts)])
    shape = (placed.size, weights.matrix.shape[1])
    return Weights(
        sparse.csr_array(
            (weights.matrix.data, weights.matrix.indices, starts), shape=shape
        )
    )
