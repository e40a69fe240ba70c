"""Areas as people name them, and how much of each cell lies in them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, ClassVar, Self

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.parts import take, turned
from rhodolite.model.ranges import format_latitude, format_longitude
from rhodolite.model.variable import Variable
from rhodolite.operations.positions import MaskedArray, Positions
from rhodolite.regions.outline import Outline, find_outlines, united

if TYPE_CHECKING:
    from scipy import sparse

COVERED_AREA = "covered_area"


class CellChoice(StrEnum):
    """Which cells belong to an outlined area, and with which part of them."""

    FRACTION = "fraction"
    CENTRE = "centre"
    TOUCHED = "touched"


@dataclass(frozen=True)
class Areas:
    """Outlined areas: `Norway,Sweden`, `land`, `sea`, `basin.geojson`, `basins.shp#Skarn`."""

    names: tuple[str, ...]

    repeats: ClassVar[bool] = True

    @classmethod
    def parse(cls, texts: str | Sequence[str]) -> Self:
        given = [texts] if isinstance(texts, str) else list(texts)
        names = [name.strip() for text in given for name in text.split(",")]
        if not all(names):
            raise ValueError(f"'{','.join(given)}' names no area; write a country, land, sea, or an outline FILE")
        return cls(tuple(names))

    def texts(self) -> list[str]:
        return list(self.names)

    def __str__(self) -> str:
        return ",".join(self.names)

    def outlines(self) -> list[Outline]:
        """Return the areas, those of a file with several features one by one.

        Raises
        ------
        DataError
            If there is none of a name.
        """
        return [outline for name in self.names for outline in find_outlines(name)]

    def weights(self, mesh: Mesh, cells: CellChoice, outlines: Sequence[Outline] | None = None) -> sparse.csr_array:
        """Return the area (steradian) with which each cell counts in each area, shape (areas, cells).

        Raises
        ------
        DataError
            If an area covers no cell.
        """
        from scipy import sparse

        outlines = self.outlines() if outlines is None else outlines
        whole = mesh.areas.reshape(-1)
        if cells is CellChoice.CENTRE:
            north, east = (part.reshape(-1) for part in mesh.centres)
            rows = [sparse.csr_array(np.where(one.holds(north, east), whole, 0.0)[None, :]) for one in outlines]
            found = sparse.csr_array(sparse.vstack(rows, format="csr"))
        else:
            found = mesh.without_slivers(mesh.covered_areas(outlines))
            if cells is CellChoice.TOUCHED:
                found.data = whole[found.indices]
        found.eliminate_zeros()
        for outline, count in zip(outlines, np.diff(found.indptr), strict=True):
            if not count:
                raise DataError(_misses(mesh, outline, cells))
        return found


def _misses(mesh: Mesh, outline: Outline, cells: CellChoice) -> str:
    import shapely

    if cells is CellChoice.CENTRE and mesh.covered_areas([outline]).nnz:
        return f"--region: {outline.name} holds the centre of no cell; add --cells fraction or --cells touched"
    west, south, east, north = shapely.total_bounds(outline.shapes)
    latitudes, longitudes = mesh.centres
    places = [
        f"{format_latitude(round(a, 2))}..{format_latitude(round(b, 2))}, "
        f"{format_longitude(round(c, 2))}..{format_longitude(round(d, 2))}"
        for a, b, c, d in (
            (south, north, west, east),
            (np.nanmin(latitudes), np.nanmax(latitudes), np.nanmin(longitudes), np.nanmax(longitudes)),
        )
    ]
    return f"--region: {outline.name} ({places[0]}) covers no cell of the data ({places[1]})"


def within_areas(dataset: Dataset, areas: Areas, cells: CellChoice) -> Dataset:
    """Return the smallest block of cells that holds some areas, with all other cells missing.

    The part of each cell that counts goes along as its area (`cell_measures`), so that means over what is
    left weigh by it. Of sites those inside are kept.

    Raises
    ------
    DataError
        If the areas cover no cell, or the data lie on no grid.
    """
    if dataset.axes.sites:
        return _sites_within(dataset, areas)
    mesh = Mesh.of(dataset)
    outlines = areas.outlines()
    weights = areas.weights(mesh, cells, outlines)  # refuses any that covers no cell
    if len(outlines) > 1:
        weights = areas.weights(mesh, cells, [united(outlines)])
    whole = mesh.areas.reshape(-1)
    covered = np.minimum(np.asarray(weights.sum(axis=0)).reshape(-1), whole).reshape(mesh.shape)
    rows = _from_first_to_last(covered.any(axis=1))
    columns = _around(covered.any(axis=0)) if mesh.goes_round else _from_first_to_last(covered.any(axis=0))
    part = take(dataset, dict(zip(mesh.dimensions, (rows, columns), strict=True)))
    if mesh.goes_round and (np.diff(columns) < 0).any():
        part = _turned_on(part)
    covered = covered[np.ix_(rows, columns)]
    made = [_masked(v, covered > 0, part, mesh.dimensions) for v in part.variables.values()]
    names = ", ".join(outline.name for outline in outlines)
    about = {"standard_name": "cell_area", "long_name": f"area of the cell within {names}", "units": "m2"}
    if dataset.axes.curvilinear:
        about["coordinates"] = " ".join(dataset.axes.curvilinear)
    measure = Variable(COVERED_AREA, mesh.dimensions, InMemory(covered * EARTH_RADIUS**2), about)
    return part.with_variables([*made, measure])


def _masked(variable: Variable, inside: Array, dataset: Dataset, dimensions: tuple[str, str]) -> Variable:
    if variable.name in dataset.axes.auxiliary or not set(dimensions) <= set(variable.dimensions):
        return variable
    if not variable.numeric and variable.data.dtype.kind not in "iu":
        return variable
    data = MaskedArray(variable.floats(), inside, variable.dimensions, dimensions)
    return variable.with_(data=data, missing=None).without(cell_measures=f"area: {COVERED_AREA}")


def _sites_within(dataset: Dataset, areas: Areas) -> Dataset:
    positions = Positions.of(dataset)
    inside = np.zeros(positions.latitudes.size, dtype=bool)
    for outline in areas.outlines():
        inside |= outline.holds(positions.latitudes, positions.longitudes)
    if not inside.any():
        raise DataError(f"--region {areas}: no site lies there; they cover {positions.words()}")
    return take(dataset, {positions.dimensions[0]: np.flatnonzero(inside)})


def _from_first_to_last(used: Array) -> Array:
    found = np.flatnonzero(used)
    return np.arange(found[0], found[-1] + 1)


def _around(used: Array) -> Array:
    """Return the shortest stretch of columns that holds all that are used, which may cross the seam."""
    found = np.flatnonzero(used)
    gaps = np.diff(found, append=found[0] + used.size)
    widest = int(np.argmax(gaps))
    if gaps[widest] <= 1 or widest == found.size - 1:
        return np.arange(found[0], found[-1] + 1)
    first, last = found[widest + 1], found[widest]
    return np.arange(first, last + used.size + 1) % used.size


def _turned_on(dataset: Dataset) -> Dataset:
    """Return a dataset whose longitudes increase, also across the seam."""
    values = dataset.need(Role.LONGITUDE).values
    return turned(dataset, np.round((np.unwrap(values, period=360.0) - values) / 360.0) * 360.0)
