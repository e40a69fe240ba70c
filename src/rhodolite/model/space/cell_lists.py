"""Cells of any shape in a list: each with a centre and three or more corners (CF 7.1)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region, WithoutAxis
from rhodolite.model.cf.named_variables import named_in
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

ROW = "row_of_cells"
"""The dimension of the one row that a list of cells is."""
_FEWEST_CORNERS = 3


def is_cell_list(dataset: Dataset) -> bool:
    """Return whether data lie on cells in a list, and not at sites: their positions have bounds of
    three corners or more."""
    return _list_bounds(dataset) is not None


def cell_dimension(dataset: Dataset) -> str | None:
    """Return the dimension along which cells are listed; None where there is no such list."""
    bounds = _list_bounds(dataset)
    return None if bounds is None else bounds[0].dimensions[0]


def _list_bounds(dataset: Dataset) -> tuple[Variable, Variable] | None:
    """Return the bounds of latitudes and longitudes of cells in a list."""
    if dataset.axes.sites is None:
        return None
    latitude, longitude = (dataset.variables[name] for name in dataset.axes.sites)
    named = [
        dataset.variables.get(str(variable.attributes.get("bounds", "")))
        for variable in (latitude, longitude)
    ]
    north, east = named
    if north is None or east is None or north.shape != east.shape:
        return None
    fits = len(north.shape) == 2 and north.shape[:1] == latitude.shape
    return (north, east) if fits and north.shape[1] >= _FEWEST_CORNERS else None


def as_one_row(dataset: Dataset) -> Dataset:
    """Return a dataset in which cells in a list are a grid of one row; others as they are.

    What is computed of the cells of a grid is so computed of those of a list.
    """
    bounds = _list_bounds(dataset)
    if bounds is None:
        return dataset
    cells = bounds[0].dimensions[0]
    helpers = {*(dataset.axes.sites or ()), *(variable.name for variable in bounds)}
    for variable in dataset.fields:
        helpers.update(named_in(variable, "cell_measures"))
    changed = []
    for variable in dataset.variables.values():
        on_cells = cells in variable.dimensions
        is_data = variable.name not in dataset.axes.auxiliary
        if on_cells and (is_data or variable.name in helpers):
            at = variable.dimensions.index(cells)
            dimensions = (*variable.dimensions[:at], ROW, *variable.dimensions[at:])
            chunks = variable.storage.chunks
            if chunks is not None:
                chunks = (*chunks[:at], 1, *chunks[at:])
            variable = variable.replace(
                dimensions=dimensions,
                data=OneRow(variable.data, at),
                storage=replace(variable.storage, chunks=chunks),
            )
        changed.append(variable)
    return dataset.with_variables(changed)


def as_list(dataset: Dataset) -> Dataset:
    """Return a dataset in which a grid of one row, as `as_one_row` makes it, is a list of cells;
    others as they are."""
    changed = []
    for variable in dataset.variables.values():
        if ROW in variable.dimensions:
            at = variable.dimensions.index(ROW)
            chunks = variable.storage.chunks
            if chunks is not None:
                chunks = (*chunks[:at], *chunks[at + 1 :])
            variable = variable.replace(
                dimensions=tuple(name for name in variable.dimensions if name != ROW),
                data=WithoutAxis(variable.data, at),
                storage=replace(variable.storage, chunks=chunks),
            )
        changed.append(variable)
    return dataset.with_variables(changed)


class OneRow(LazyArray):
    """Another array with one more axis of a single step.

    Parameters
    ----------
    source : LazyArray
    axis : int
        Where the axis is put.
    """

    def __init__(self, source: LazyArray, axis: int) -> None:
        self._source, self._axis = source, axis
        self.dtype = source.dtype
        self.shape = self._with_axis(source.shape)
        self.chunks = None if source.chunks is None else self._with_axis(source.chunks)

    def _with_axis(self, lengths: tuple[int, ...]) -> tuple[int, ...]:
        return (*lengths[: self._axis], 1, *lengths[self._axis :])

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        inner = (*region[: self._axis], *region[self._axis + 1 :])
        block = np.expand_dims(self._source.read(inner), self._axis)
        row = (*(slice(None),) * self._axis, region[self._axis])
        return np.asarray(block[row])
