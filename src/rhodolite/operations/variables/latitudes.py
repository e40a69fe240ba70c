"""The latitude of every cell, however it is given."""

from __future__ import annotations

from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable


def latitudes_of(dataset: Dataset) -> Variable | None:
    """Return the variable of latitudes: an axis, one of two dimensions, or that of sites; None
    where there is none."""
    axis = dataset.coordinate(Role.LATITUDE)
    if axis is not None and axis.variable.units != "degrees":
        return axis.variable
    of_cells = dataset.axes.curvilinear or dataset.axes.sites
    if of_cells is not None:
        return dataset.variables[of_cells[0]]
    return None if axis is None else axis.variable
