"""The areas of cells: those that a file names, or those of the grid; and the part of each that
counts where a region was cut out before."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.cf.named_variables import pairs_in
from rhodolite.model.cf.vocabulary import COVERED_AREA
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.variable import Variable

WHOLE_AREA = "area_of_whole_cell"
"""Attribute of covered areas that names the areas of whole cells, where the file has such."""


@dataclass(frozen=True)
class CellAreas:
    """How large the cells of a grid are.

    Attributes
    ----------
    areas : ndarray of float64, shape (cells,)
        By which cells count, of the part that counts, in the order of the mesh; in any one unit.
    shares : ndarray of float64, shape (cells,)
        The part of each cell that counts, from 0 to 1.
    named : Variable, optional
        What the file calls the areas of whole cells.
    """

    areas: Array
    shares: Array
    named: Variable | None

    @property
    def whole(self) -> Array:
        """The areas of whole cells; 0 where nothing counts."""
        counts = self.shares > 0
        none = np.zeros(self.areas.size)
        return np.divide(self.areas, self.shares, out=none, where=counts)

    def within(self, fractions: Array, cells: Array | slice = slice(None)) -> Array:
        """Return the part of cells that counts after another choice, of which the larger of two
        regions takes nothing away."""
        return np.minimum(fractions, self.shares[cells])


def areas_of_cells(
    dataset: Dataset, mesh: Mesh, variables: Iterable[Variable] | None = None
) -> CellAreas:
    """Return the areas of the cells of a mesh.

    Parameters
    ----------
    dataset : Dataset
    mesh : Mesh
    variables : iterable of Variable, optional
        Of which the first that names areas decides; all fields of the dataset unless given.
    """
    geometric = mesh.areas.reshape(-1)
    for variable in dataset.fields if variables is None else variables:
        measure = cell_measure(dataset, variable)
        if measure is None or set(measure.dimensions) != set(mesh.dimensions):
            continue
        areas = _in_order_of(mesh, measure)
        if measure.name != COVERED_AREA:
            return CellAreas(areas, np.where(areas > 0, 1.0, 0.0), measure)
        named = dataset.variables.get(str(measure.attributes.get(WHOLE_AREA, "")))
        whole = geometric * EARTH_RADIUS**2
        if named is not None and set(named.dimensions) == set(mesh.dimensions):
            whole = _in_order_of(mesh, named)
        shares = np.divide(areas, whole, out=np.zeros(mesh.size), where=whole > 0)
        return CellAreas(areas, np.clip(shares, 0.0, 1.0), named)
    return CellAreas(geometric, np.ones(mesh.size), None)


def covered_parts(
    covered: Array, mesh: Mesh, cells: Array | slice = slice(None)
) -> Array:
    """Return which part of each cell an area covers, from 0 to 1.

    Parameters
    ----------
    covered : ndarray of float64, shape (n,)
        What of the cells lies in it, in steradians.
    mesh : Mesh
    cells : ndarray of int, shape (n,), optional
        Which cells these are; all of them by default.
    """
    geometric = mesh.areas.reshape(-1)[cells]
    none = np.zeros(geometric.size)
    return np.divide(covered, geometric, out=none, where=geometric > 0)


def cell_measure(dataset: Dataset, variable: Variable) -> Variable | None:
    """Return the variable of cell areas that a variable names, where it is in the dataset and
    fits.
    """
    named = pairs_in(variable, "cell_measures").get("area", "")
    measure = dataset.variables.get(named)
    if (
        measure is None
        or not set(measure.dimensions) <= set(variable.dimensions)
        or measure.data.ndim == 0
    ):
        return None
    return measure


def _in_order_of(mesh: Mesh, measure: Variable) -> Array:
    """Return areas in the order of the cells of a mesh, 0 where they are missing."""
    values = np.nan_to_num(measure.values().astype(np.float64))
    return (values if measure.dimensions == mesh.dimensions else values.T).reshape(-1)
