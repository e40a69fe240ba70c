"""Weights of regridding as a dataset, to be written and used again."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable
from rhodolite.operations.regridding.remapped_array import Weights
from rhodolite.operations.regridding.target_grid import coordinates_like

if TYPE_CHECKING:
    from scipy import sparse

_FIELDS = ("new_cell", "old_cell", "share")
_SLOPE_FIELDS = ("slope_new_cell", "slope_old_cell", "slope_share")


@dataclass(frozen=True, eq=False)
class StoredWeights:
    """What a file of weights holds."""

    weights: Weights
    mesh: Mesh
    described: list[Variable]
    method: str


def describe_weights(
    source: Mesh, target: Mesh, described: list[Variable], weights: Weights, method: str
) -> Dataset:
    """Return weights, the grid that they lead to, and the centres of the grid that they are for.

    Parameters
    ----------
    source : Mesh
        Cells of the old grid.
    target : Mesh
        Cells of the new grid.
    described : list of Variable
        Variables that describe the grid.
    weights : Weights
    method : str
        Regridding method.
    """
    north, east = source.centres
    covered = np.asarray(weights.matrix.sum(axis=1)).reshape(target.shape)
    old = {"long_name": "centres of the old cells"}
    variables = [*described, *_entries(weights.matrix, _FIELDS)]
    if weights.correction is not None:
        variables += _entries(weights.correction, _SLOPE_FIELDS)
    variables += [
        Variable(
            "old_latitude",
            ("old_row", "old_column"),
            InMemory(north),
            {**old, "units": "degrees"},
        ),
        Variable(
            "old_longitude",
            ("old_row", "old_column"),
            InMemory(east),
            {**old, "units": "degrees"},
        ),
        Variable(
            "part_of_cell",
            target.dimensions,
            InMemory(covered),
            {"long_name": "part of each new cell that old cells cover", "units": "1"},
        ),
    ]
    about = {
        "title": "weights of regridding",
        "method": method,
        "comment": "value of a new cell = sum of share times value of the old cells; cells are "
        "counted from 0, "
        "row by row",
    }
    return Dataset({v.name: v for v in variables}, about)


def read_weights(dataset: Dataset, source: Mesh) -> StoredWeights:
    """Return stored weights, for data on the grid that they were made for.

    Raises
    ------
    DataError
        If the dataset holds no weights, or those of another grid.
    """
    needed = {*_FIELDS, "old_latitude", "old_longitude", "part_of_cell"}
    if not needed <= dataset.variables.keys() or "method" not in dataset.attributes:
        raise DataError(
            f"{dataset.label}: this file holds no regridding weights; regrid --to 1.0 "
            "--save-weights FILE.nc writes them"
        )
    centres = [
        dataset.variables[name].values() for name in ("old_latitude", "old_longitude")
    ]
    if centres[0].shape != source.shape:
        sizes = " and ".join(f"{a} x {b}" for a, b in (source.shape, centres[0].shape))
        raise DataError(
            f"{dataset.label}: the weights are for another grid ({sizes} cells); compute new ones "
            "with --to"
        )
    apart = (
        np.abs(centres[0] - source.centres[0]),
        np.abs(shortest_turn(centres[1] - source.centres[1])),
    )
    if max(np.nanmax(part) for part in apart) > 1e-4:
        raise DataError(
            f"{dataset.label}: the weights are for a grid of the same size that lies elsewhere; "
            "compute new ones with --to"
        )
    target = mesh_of(dataset.restrict(["part_of_cell"]))
    shape = (target.size, source.size)
    correction = (
        _matrix(dataset, _SLOPE_FIELDS, shape)
        if _SLOPE_FIELDS[0] in dataset.variables
        else None
    )
    return StoredWeights(
        Weights(_matrix(dataset, _FIELDS, shape), correction),
        target,
        coordinates_like(dataset.restrict(["part_of_cell"]), target),
        str(dataset.attributes["method"]),
    )


def _entries(matrix: sparse.csr_array, names: tuple[str, str, str]) -> list[Variable]:
    new = np.repeat(np.arange(matrix.shape[0]), np.diff(matrix.indptr))
    dimension = f"{names[2]}_entry"
    values: tuple[Array, ...] = (
        new.astype(np.int32),
        matrix.indices.astype(np.int32),
        matrix.data,
    )
    words = (
        "number of the new cell",
        "number of the old cell",
        "what the new cell takes of the old",
    )
    return [
        Variable(name, (dimension,), InMemory(part), {"long_name": text, "units": "1"})
        for name, part, text in zip(names, values, words, strict=True)
    ]


def _matrix(
    dataset: Dataset, names: tuple[str, str, str], shape: tuple[int, int]
) -> sparse.csr_array:
    from scipy import sparse

    new, old, share = (dataset.variables[name].values() for name in names)
    if new.size and (
        new.min() < 0 or new.max() >= shape[0] or old.min() < 0 or old.max() >= shape[1]
    ):
        raise DataError(
            f"{dataset.label}: the weights name cells that neither grid has"
        )
    return sparse.csr_array((share.astype(np.float64), (new, old)), shape=shape)
