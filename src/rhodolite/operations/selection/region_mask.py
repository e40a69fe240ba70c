"""Regions cut out of a grid: the smallest block of cells that holds them, the others missing."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.model.cf.vocabulary import COVERED_AREA
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import count_longitudes_on, take
from rhodolite.model.space.cell_lists import cell_dimension, is_cell_list
from rhodolite.model.space.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.cell_areas import (
    WHOLE_AREA,
    CellAreas,
    areas_of_cells,
    covered_parts,
)
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.selection.curvilinear import Positions, mask_cells
from rhodolite.operations.selection.indices import take_block
from rhodolite.regions.outlined_area import unite_outlines


def cut_regions(dataset: Dataset, regions: Regions, cells: CellChoice) -> Dataset:
    """Return the smallest block of cells that holds some regions, with all other cells missing.

    The part of each cell that counts goes along as its area (`cell_measures`), so that means over
    what is left are weighted by it. Of sites those inside are kept.

    Parameters
    ----------
    dataset : Dataset
    regions : Regions
    cells : CellChoice
        How cells on the edge are weighted.

    Raises
    ------
    DataError
        If the regions cover no cell, or the data lie on no grid.
    """
    if is_cell_list(dataset):
        return _listed_cells_within(dataset, regions, cells)
    if dataset.axes.sites:
        return _sites_within(dataset, regions)
    mesh = mesh_of(dataset)
    known = areas_of_cells(dataset, mesh)
    covered = _covered_areas(mesh, known, regions, cells)
    used_rows, used_columns = (
        np.asarray((covered.reshape(mesh.shape) > 0).any(axis=at)) for at in (1, 0)
    )
    rows = _from_first_to_last(used_rows)
    find_columns = _around if mesh.goes_round else _from_first_to_last
    columns = find_columns(used_columns)
    part = take_block(dataset, rows, columns)
    if mesh.goes_round and (np.diff(columns) < 0).any():
        part = count_longitudes_on(part)
    covered = covered.reshape(mesh.shape)[np.ix_(rows, columns)]
    return _with_covered_areas(part, covered, mesh.dimensions, regions, known.named)


def _covered_areas(
    mesh: Mesh, known: CellAreas, regions: Regions, cells: CellChoice
) -> Array:
    """Return which area of each cell some regions cover together, in m2 or as the file has areas,
    shape (cells,)."""
    outlines = regions.outlines
    weights = regions.weights(mesh, cells, outlines)  # refuses any that covers no cell
    if len(outlines) > 1:
        weights = regions.weights(mesh, cells, [unite_outlines(outlines)])
    fractions = covered_parts(np.asarray(weights.sum(axis=0)), mesh)
    whole = known.whole
    if known.named is None:
        whole = mesh.areas.reshape(-1) * EARTH_RADIUS**2
    return np.asarray(known.within(fractions) * whole)


def _listed_cells_within(
    dataset: Dataset, regions: Regions, cells: CellChoice
) -> Dataset:
    """Return the cells of a list that regions cover, without the others."""
    mesh = mesh_of(dataset)
    known = areas_of_cells(dataset, mesh)
    covered = _covered_areas(mesh, known, regions, cells)
    chosen = np.flatnonzero(covered)
    along = (str(cell_dimension(dataset)),)
    part = take(dataset, {along[0]: chosen})
    return _with_covered_areas(part, covered[chosen], along, regions, known.named)


def _with_covered_areas(
    part: Dataset,
    covered: Array,
    dimensions: tuple[str, ...],
    regions: Regions,
    named: Variable | None,
) -> Dataset:
    """Return data that are missing outside some regions, with the part of each cell that counts."""
    masked = [
        v if v.name in part.axes.auxiliary else _mask(v, covered > 0, dimensions)
        for v in part.variables.values()
    ]
    names = ", ".join(outline.name for outline in regions.outlines)
    about = {
        "standard_name": "cell_area",
        "long_name": f"area of the cell within {names}",
        "units": "m2",
    }
    if named is not None:
        about |= {"units": named.units or "m2", WHOLE_AREA: named.name}
    positions = part.axes.curvilinear or part.axes.sites
    if positions:
        about["coordinates"] = " ".join(positions)
    measure = Variable(COVERED_AREA, dimensions, InMemory(covered), about)
    return part.with_variables([*masked, measure])


def _mask(variable: Variable, inside: Array, dimensions: tuple[str, ...]) -> Variable:
    masked = mask_cells(variable, inside, dimensions)
    if masked is variable:
        return variable
    return masked.edit(cell_measures=f"area: {COVERED_AREA}")


def _sites_within(dataset: Dataset, regions: Regions) -> Dataset:
    positions = Positions.of(dataset)
    inside = np.zeros(positions.latitudes.size, dtype=bool)
    for outline in regions.outlines:
        inside |= outline.holds(positions.latitudes, positions.longitudes)
    if not inside.any():
        raise DataError(
            f"--region {regions}: no site lies there; they cover {positions.extent.words()}"
        )
    return take(dataset, {positions.dimensions[0]: np.flatnonzero(inside)})


def _from_first_to_last(used: Array) -> Array:
    places = np.flatnonzero(used)
    return np.arange(places[0], places[-1] + 1)


def _around(used: Array) -> Array:
    """Return the shortest stretch of columns that holds all that are used, which may cross the
    seam."""
    places = np.flatnonzero(used)
    gaps = np.diff(places, append=places[0] + used.size)
    widest = int(np.argmax(gaps))
    if gaps[widest] <= 1 or widest == places.size - 1:
        return np.arange(places[0], places[-1] + 1)
    first, last = places[widest + 1], places[widest]
    return np.arange(first, last + used.size + 1) % used.size
