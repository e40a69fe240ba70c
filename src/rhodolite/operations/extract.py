"""Values at sites, or of every cell of a box, as series that stand for themselves."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rhodolite.arrays import Array, Engine, InMemory, LazyArray, Region
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.kernels.interpolation import nearest
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.ranges import LatitudeRange, LongitudeRange, format_latitude, format_longitude
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.remapped import Remapped, Weights
from rhodolite.operations.remapping import bilinear, nearest_cells
from rhodolite.operations.reshaping import changed, with_coordinate, without_axes
from rhodolite.operations.subset import Subset

if TYPE_CHECKING:
    pass

_SITE = "site"
_NAMED = 5
"""So many lines are named in a message."""
_KM_A_DEGREE = EARTH_RADIUS / 1000 * np.pi / 180


class SiteMethod(StrEnum):
    """How a site gets its value."""

    NEAREST = "nearest"
    BILINEAR = "bilinear"


class TableLayout(StrEnum):
    """How series lie in a table."""

    LONG = "long"
    WIDE = "wide"


@operation
@dataclass(frozen=True)
class Extract:
    """Series at the sites of a table, or of every cell of a box.

    The table has a header and columns of latitude and longitude under any usual name; all its other columns
    go along. A site takes the cell with the nearest centre, or what the four around it interpolate to;
    the distance to the nearest is written with it. A site that the grid does not reach, and one whose cell has no
    data, are named with their lines. Written as .csv there is one row for each site and time, or with
    `--layout wide` one row for each site and one column for each time; as .nc time series as CF has them.

    Examples
    --------
    >>> Extract(points="reservoirs.csv", layout="wide")  # doctest: +SKIP
    """

    points: str | None = parameter("a table of sites", example="SITES.csv")
    lat: LatitudeRange | None = parameter("every cell between latitudes, in place of sites", example="60N..62N")
    lon: LongitudeRange | None = parameter("every cell between longitudes, in place of sites", example="8E..10E")
    method: SiteMethod = parameter("how a site gets its value", default=SiteMethod.NEAREST)
    search: int | None = parameter(
        "take the nearest cell with data so many cells around, where a site's has none", example="2"
    )
    layout: TableLayout = parameter("how a table is laid out", default=TableLayout.LONG)

    def check(self) -> None:
        if self.points is not None and (self.lat is not None or self.lon is not None):
            raise UsageError("extract: --points names sites, --lat and --lon a box; give one or the other")
        if self.search is not None and not 1 <= self.search <= 50:
            raise UsageError(f"--search: '{self.search}' is no number of cells from 1 to 50")
        if self.search is not None and (self.points is None or self.method is SiteMethod.BILINEAR):
            raise UsageError("--search goes with --points and --method nearest")

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset of series along the dimension `site`.

        Raises
        ------
        DataError
            If there is no grid, the table cannot be read, or no site lies on the grid.
        """
        if self.points is None:
            part = Subset(lat=self.lat, lon=self.lon)(dataset)
            mesh = Mesh.of(part)
            return self._series(part, mesh, *_cells_as_sites(mesh))
        from rhodolite.formats.csv.reader import read_sites  # pandas takes long to import

        mesh = Mesh.of(dataset)
        described, lines = read_sites(Path(self.points))
        sites = _Sites(self.points, described, lines)
        find = nearest_cells if self.method is SiteMethod.NEAREST else bilinear
        weights = _with_rows(
            find(mesh, _as_cells(sites.latitudes[sites.placed], sites.longitudes[sites.placed])), sites.placed
        )
        weights = sites.checked(weights, mesh)
        along = [v for v in dataset.data_variables if v.numeric and set(mesh.dimensions) <= set(v.dimensions)]
        if along:
            weights = sites.on_data(weights, mesh, along[0], self.search)
        return self._series(dataset, mesh, weights, [*sites.described, sites.distance(weights, mesh)])

    def _series(self, dataset: Dataset, mesh: Mesh, weights: Weights, described: list[Variable]) -> Dataset:
        # A column of the table may be called like a variable of the data, or like one of its axes.
        taken = set(dataset.variables) - {"lat", "lon"}
        described = [v.with_(name=f"site_{v.name}") if v.name in taken else v for v in described]
        labels = [v.name for v in described]
        made: dict[str, list[Variable]] = {}
        for variable in dataset.data_variables:
            if set(mesh.dimensions) <= set(variable.dimensions):
                made[variable.name] = [_at_sites(variable, mesh, weights, labels)]
        if not made:
            raise DataError(f"{dataset.label}: no variable runs along {' and '.join(mesh.dimensions)}")
        result = without_axes(dataset, mesh.dimensions, made, described)
        attributes = (
            {**result.attributes, "featureType": "timeSeries"} if result.coordinate(Role.TIME) else (result.attributes)
        )
        return replace(result, attributes=attributes, wide_table=self.layout is TableLayout.WIDE)


def _at_sites(variable: Variable, mesh: Mesh, weights: Weights, labels: list[str]) -> Variable:
    axes = (variable.dimensions.index(mesh.dimensions[0]), variable.dimensions.index(mesh.dimensions[1]))
    kept = [name for name in variable.dimensions if name not in mesh.dimensions]
    data = AtSites(variable.floats(), axes, weights)
    result = changed(variable, "coordinates", "grid_mapping")
    result = result.with_(
        dimensions=(_SITE, *kept),
        data=data,
        missing=None,
        storage=Storage(dtype=variable.storage.dtype if variable.numeric else None),
    )
    for name in [*str(variable.attributes.get("coordinates", "")).split(), *labels]:
        result = with_coordinate(result, name)
    return result


class AtSites(LazyArray):
    """An array at sites: the axis of sites first, all axes but the horizontal ones after it."""

    def __init__(self, source: LazyArray, axes: tuple[int, int], weights: Weights) -> None:
        self._remapped = Remapped(source, axes, (weights.matrix.shape[0], 1), weights, 0.5)
        self._axes = axes
        self.dtype = source.dtype
        self.shape = self._first(self._remapped.shape)
        assert self._remapped.chunks is not None
        self.chunks = self._first(self._remapped.chunks)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._remapped,)

    def read(self, region: Region) -> Array:
        rest = list(region[1:])
        inner = [
            region[0] if axis == self._axes[0] else slice(0, 1) if axis == self._axes[1] else rest.pop(0)
            for axis in range(self._remapped.ndim)
        ]
        block = np.moveaxis(self._remapped.read(tuple(inner)), self._axes, (0, 1))
        return block[:, 0]

    def _first(self, sizes: tuple[int, ...]) -> tuple[int, ...]:
        return (sizes[self._axes[0]], *(n for axis, n in enumerate(sizes) if axis not in self._axes))


class _Sites:
    """The sites of a table, and what there is to say about them."""

    def __init__(self, path: str, described: list[Variable], lines: Array) -> None:
        self.path, self.described, self.line_numbers = path, described, lines
        by_name = {v.name: v.values() for v in described}
        self.latitudes, self.longitudes = (by_name[name].astype(np.float64) for name in ("lat", "lon"))
        self.placed = np.isfinite(self.latitudes) & np.isfinite(self.longitudes)
        self.names = next(v.values() for v in described if "cf_role" in v.attributes)

    def lines(self, numbers: Array) -> str:
        """Name sites with their lines."""
        named = ", ".join(f"{self.names[at]} (line {self.line_numbers[at]})" for at in numbers[:_NAMED])
        return named + (f" and {numbers.size - _NAMED:,} more" if numbers.size > _NAMED else "")

    def checked(self, weights: Weights, mesh: Mesh) -> Weights:
        """Name the sites that the grid does not reach.

        Raises
        ------
        DataError
            If none lies on it, or one would with latitude and longitude exchanged.
        """
        unplaced = ~self.placed
        if unplaced.any():
            warn(f"{self.path}: without a position, so without values: {self.lines(np.flatnonzero(unplaced))}")
        outside = np.flatnonzero((np.diff(weights.matrix.indptr) == 0) & ~unplaced)
        if not outside.size:
            return weights
        exchanged = _as_cells(self.longitudes[outside], self.latitudes[outside])
        fits = np.diff(nearest_cells(mesh, exchanged).matrix.indptr) > 0
        swapped = outside[fits & (np.abs(self.longitudes[outside]) <= 90)]
        if swapped.size:
            at = swapped[0]
            raise DataError(
                f"{self.path}: latitude and longitude are exchanged at {self.lines(swapped)}, which lies outside the "
                f"data as {format_latitude(self.latitudes[at])}, {format_longitude(self.longitudes[at])}"
            )
        centres = mesh.centres
        where = (
            f"{format_latitude(round(float(np.nanmin(centres[0])), 2))}.."
            f"{format_latitude(round(float(np.nanmax(centres[0])), 2))}, "
            f"{format_longitude(round(float(np.nanmin(centres[1])), 2))}.."
            f"{format_longitude(round(float(np.nanmax(centres[1])), 2))}"
        )
        if outside.size + unplaced.sum() == self.latitudes.size:
            raise DataError(f"{self.path}: no site lies on the grid ({where}): {self.lines(outside)}")
        warn(f"{self.path}: outside the data ({where}), so without values: {self.lines(outside)}")
        return weights

    def on_data(self, weights: Weights, mesh: Mesh, variable: Variable, search: int | None) -> Weights:
        """Name the sites whose cell has no data, or give them the nearest that has.

        A cell has none where the first and the last field have none.
        """
        from scipy import sparse

        present = _cells_with_data(variable, mesh)
        counts = weights.matrix @ present.astype(np.float64)
        empty = np.flatnonzero((counts < 0.5) & (np.diff(weights.matrix.indptr) > 0))
        if not empty.size:
            return weights
        if search is None:
            warn(
                f"{self.path}: the cells of {self.lines(empty)} have no data; --search 2 takes the nearest cell with "
                "data up to 2 cells away"
            )
            return weights
        latitudes, longitudes = (np.where(present, part.reshape(-1), np.nan) for part in mesh.centres)
        if not present.any():
            raise DataError(f"{variable.name} has no data at all in its first and last field")
        cells = weights.matrix[empty].tocsr().indices
        around = (2 * search + 1) ** 2
        found, apart = nearest(latitudes, longitudes, self.latitudes[empty], self.longitudes[empty], around)
        rows, columns = np.divmod(found, mesh.shape[1])
        own_rows, own_columns = np.divmod(cells[:, None], mesh.shape[1])
        across = np.abs(columns - own_columns)
        if mesh.goes_round:
            across = np.minimum(across, mesh.shape[1] - across)
        # Near a pole many narrow columns lie within the height of a row.
        low, high = mesh.reach
        height = (high - low) / mesh.shape[0] if mesh.regular else 0.0
        close = ((np.abs(rows - own_rows) <= search) & (across <= search)) | (apart <= search * height)
        helped = close.any(axis=1)
        first = close.argmax(axis=1)
        matrix = sparse.lil_array(weights.matrix)
        for at, cell in zip(empty[helped], found[helped, first[helped]], strict=True):
            matrix[[at], :] = 0.0
            matrix[at, cell] = 1.0
        if not helped.all():
            warn(f"{self.path}: no cell with data lies within {search} cells of {self.lines(empty[~helped])}")
        made = sparse.csr_array(matrix)
        made.eliminate_zeros()
        return Weights(made)

    def distance(self, weights: Weights, mesh: Mesh) -> Variable:
        """Return how far each site is from the centre of the cell that counts most for it."""
        matrix = weights.matrix
        cells = np.zeros(matrix.shape[0], dtype=np.intp)
        used = np.flatnonzero(np.diff(matrix.indptr) > 0)
        for at in used:
            part = slice(matrix.indptr[at], matrix.indptr[at + 1])
            cells[at] = matrix.indices[part][np.argmax(matrix.data[part])]
        north, east = (part.reshape(-1)[cells] for part in mesh.centres)
        far = np.full(cells.size, np.nan)
        far[used] = great_circle(north, east, self.latitudes, self.longitudes)[used] * _KM_A_DEGREE
        return Variable(
            "distance",
            (_SITE,),
            InMemory(np.round(far, 3)),
            {"long_name": "distance to the centre of the cell", "units": "km"},
        )


def _with_rows(weights: Weights, placed: Array) -> Weights:
    """Return weights with an empty row for each site that has no position."""
    from scipy import sparse

    if placed.all():
        return weights
    counts = np.zeros(placed.size, dtype=np.intp)
    counts[placed] = np.diff(weights.matrix.indptr)
    starts = np.concatenate([[0], np.cumsum(counts)])
    shape = (placed.size, weights.matrix.shape[1])
    return Weights(sparse.csr_array((weights.matrix.data, weights.matrix.indices, starts), shape=shape))


def _as_cells(latitudes: Array, longitudes: Array) -> Mesh:
    """Return places as cells in one column; only their centres mean anything."""
    north, east = latitudes[:, None], longitudes[:, None]
    return Mesh((_SITE, "one"), north, east, corners=(north[..., None], east[..., None]))


def _cells_with_data(variable: Variable, mesh: Mesh) -> Array:
    """Return which cells have a value in the first or the last field, shape (size,)."""
    axes = [variable.dimensions.index(name) for name in mesh.dimensions]
    data = variable.floats()
    engine = Engine()
    engine.prepare([data])
    present = np.zeros(mesh.size, dtype=bool)
    for last in (False, True):
        region = tuple(
            slice(0, n) if axis in axes else slice((n - 1) * last, (n - 1) * last + 1)
            for axis, n in enumerate(data.shape)
        )
        block = np.moveaxis(data.read(region), axes, (-2, -1))
        present |= ~np.isnan(block).reshape(-1, mesh.size).all(axis=0)
    return present


def _cells_as_sites(mesh: Mesh) -> tuple[Weights, list[Variable]]:
    """Return every cell as a site of its own, named by its position."""
    from scipy import sparse

    north, east = (part.reshape(-1) for part in mesh.centres)
    names = np.array(
        [f"{format_latitude(round(y, 4))} {format_longitude(round(x, 4))}" for y, x in zip(north, east, strict=True)],
        dtype=object,
    )
    described = [
        Variable("name", (_SITE,), InMemory(names), {"cf_role": "timeseries_id", "long_name": "name of the site"}),
        Variable("lat", (_SITE,), InMemory(north), {"standard_name": "latitude", "units": "degrees_north"}),
        Variable("lon", (_SITE,), InMemory(east), {"standard_name": "longitude", "units": "degrees_east"}),
    ]
    return Weights(sparse.csr_array(sparse.eye_array(mesh.size))), described
