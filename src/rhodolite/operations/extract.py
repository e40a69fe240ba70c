"""Values at sites, or of every cell of a box, as series that stand for themselves."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from rhodolite.arrays import InMemory, LazyArray
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.vocabulary import PLACING
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.cell_lists import as_one_row
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.space.range_text import LatitudeRange, LongitudeRange
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.sites import Sites
from rhodolite.operations.regridding.remapped_array import Weights
from rhodolite.operations.selection.curvilinear import cells_within
from rhodolite.operations.sites.placement import (
    SITE,
    cells_as_sites,
    check_data,
    closest_cells,
    distance_to_cells,
    heaviest_cells,
    place_sites,
)
from rhodolite.operations.sites.site_array import SiteArray
from rhodolite.operations.subset import Subset
from rhodolite.operations.variables.references import (
    drop_stale,
    list_coordinate,
    without_axes,
)


class SiteMethod(StrEnum):
    """How a site gets its value."""

    NEAREST = "nearest"
    BILINEAR = "bilinear"


class TableLayout(StrEnum):
    """How series lie in a table."""

    LONG = "long"
    WIDE = "wide"


@dataclass(frozen=True)
class Extract(Operation):
    """Series at the sites of a table, or of every cell of a box.

    The table needs a header, and columns of latitude and longitude under any usual name; all
    its other columns are kept. A site takes the value of the cell with the nearest centre, or
    is interpolated between the four nearest centres; the distance to the nearest centre is
    written as well. Sites outside the grid, and sites whose cell has no data, are listed with
    their lines. Classes, such as kinds of ground, are those of the nearest cell. A .csv output
    has one row per site and time, or with `--layout wide` one row
    per site and one column per time; a .nc output holds time series as defined by CF.

    Examples
    --------
    >>> Extract(points="reservoirs.csv", layout="wide")  # doctest: +SKIP
    """

    points: Sites | None = parameter("a table of sites", example="SITES.csv")
    lat: LatitudeRange | None = parameter(
        "every cell between latitudes, in place of sites", example="60N..62N"
    )
    lon: LongitudeRange | None = parameter(
        "every cell between longitudes, in place of sites", example="8E..10E"
    )
    method: SiteMethod = parameter(
        "how the value at a site is computed", default=SiteMethod.NEAREST
    )
    search: int | None = parameter(
        "where the cell of a site has no data, take the nearest with data up to N cells away",
        example="2",
    )
    layout: TableLayout = parameter("layout of a table", default=TableLayout.LONG)

    def check(self) -> None:
        if self.points is not None and (self.lat is not None or self.lon is not None):
            raise UsageError(
                "extract: --points names sites, --lat and --lon a box; give one or the other"
            )
        if self.search is not None and not 1 <= self.search <= 50:
            raise UsageError(
                f"--search: '{self.search}' is not a number of cells from 1 to 50"
            )
        if self.search is not None and (self.points is None or self._interpolates):
            raise UsageError("--search goes with --points and --method nearest")

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return self.method is SiteMethod.BILINEAR

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of series along the dimension `site`.

        Raises
        ------
        DataError
            If there is no grid, the table cannot be read, or no site lies on the grid.
        """
        if self.points is None:
            return self._take_box(dataset)
        dataset = as_one_row(dataset)
        mesh = mesh_of(dataset)
        weights = place_sites(self.points, mesh, interpolate=self._interpolates)
        cells: LazyArray = InMemory(heaviest_cells(weights))
        on_grid = [v for v in dataset.fields if self._takes(v) and _on_grid(v, mesh)]
        if on_grid:
            cells = check_data(self.points, mesh, weights, on_grid[0], self.search)
        closest = cells
        if self._interpolates:  # the cell that weighs most may not be the nearest
            closest = InMemory(closest_cells(self.points, mesh))
        distance = distance_to_cells(self.points, mesh, closest)
        described = [*(self.points.described or ()), distance]
        return self._put_at_sites(
            dataset, mesh, weights, described, cells if on_grid else None
        )

    def _take_box(self, dataset: Dataset) -> Dataset:
        part = as_one_row(Subset(lat=self.lat, lon=self.lon)(dataset))
        inside = None
        if part.axes.curvilinear:
            # The block of cells that holds the box has others outside of it.
            inside = cells_within(part, self.lat, self.lon)
        mesh = mesh_of(part)
        weights, described = cells_as_sites(mesh, inside)
        return self._put_at_sites(part, mesh, weights, described, None)

    def _takes(self, variable: Variable) -> bool:
        """Return whether sites have values of a variable; of classes those of a cell, no means."""
        return variable.numeric or (variable.classes and not self._interpolates)

    @property
    def _interpolates(self) -> bool:
        return self.method is SiteMethod.BILINEAR

    def _put_at_sites(
        self,
        dataset: Dataset,
        mesh: Mesh,
        weights: Weights,
        described: list[Variable],
        cells: LazyArray | None,
    ) -> Dataset:
        # A column of the table may be called like a variable of the data, or like one of its axes.
        taken = set(dataset.variables) - {"lat", "lon"}
        described = [
            v.replace(name=f"site_{v.name}") if v.name in taken else v
            for v in described
        ]
        labels = [v.name for v in described]
        sites: dict[str, list[Variable]] = {}
        left = []
        for variable in dataset.fields:
            if not _on_grid(variable, mesh):
                continue
            if not self._takes(variable):
                left.append(variable.name)
                continue
            axes = _axes_of(variable, mesh)
            moved = self.search is not None
            data = SiteArray(variable.floats(), axes, weights, cells, moved)
            sites[variable.name] = [_describe_series(variable, mesh, data, labels)]
        if left:
            why = (
                "there is no mean of classes"
                if self._interpolates
                else "they hold words"
            )
            warn(f"left out, since {why}: {', '.join(left)}")
        if not sites:
            raise DataError(
                f"{dataset.label}: no variable of numbers runs along "
                f"{' and '.join(mesh.dimensions)}"
            )
        result = without_axes(dataset, mesh.dimensions, sites, described)
        result = replace(result, asked_wide=self.layout is TableLayout.WIDE)
        if result.coordinate(Role.TIME) is None:
            return result
        return replace(
            result, attributes={**result.attributes, "featureType": "timeSeries"}
        )


def _on_grid(variable: Variable, mesh: Mesh) -> bool:
    return set(mesh.dimensions) <= set(variable.dimensions)


def _axes_of(variable: Variable, mesh: Mesh) -> tuple[int, int]:
    rows, columns = mesh.dimensions
    return variable.dimensions.index(rows), variable.dimensions.index(columns)


def _describe_series(
    variable: Variable, mesh: Mesh, data: SiteArray, labels: list[str]
) -> Variable:
    """Return a variable at sites, which lists what is known of them as its coordinates."""
    remaining = [name for name in variable.dimensions if name not in mesh.dimensions]
    result = drop_stale(variable, *PLACING)
    result = result.with_floats(data, (SITE, *remaining))
    for name in [*str(variable.attributes.get("coordinates", "")).split(), *labels]:
        result = list_coordinate(result, name)
    return result
