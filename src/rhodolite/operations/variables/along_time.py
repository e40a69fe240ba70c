"""Variables along time: which they are, where their axis lies, and what takes their place."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import FirstAxisMoved, InMemory, LazyArray
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable


def time_axis_of(dataset: Dataset, variable: Variable) -> int:
    """Return which axis of a variable is time."""
    return variable.dimensions.index(str(dataset.need(Role.TIME).dimension))


def variables_along_time(dataset: Dataset) -> tuple[list[Variable], list[Variable]]:
    """Return the variables to calculate with, and those that time does not touch.

    Data that run along time but are not numbers (text, classes) are left out, with a warning.
    """
    coordinate = dataset.need(Role.TIME)
    along_time, others = [], []
    for variable in dataset.variables.values():
        if coordinate.dimension not in variable.dimensions:
            others.append(variable)
        elif variable.name in dataset.axes.auxiliary:
            continue
        elif variable.numeric:
            along_time.append(variable)
        else:
            warn(
                f"{variable.name} holds "
                f"{'text' if variable.data.dtype.kind not in 'fiu' else 'classes'}, not "
                "quantities, and is left out"
            )
    if not along_time:
        raise DataError(
            f"{dataset.label}: no variable runs along time ({coordinate.name})"
        )
    return along_time, others


def put_in_place(
    dataset: Dataset, results: dict[str, list[Variable]]
) -> list[Variable]:
    """Return a dataset's variables with those along time replaced by what was made of them.

    Parameters
    ----------
    dataset : Dataset
    results : mapping of str to list[Variable]
        What takes the place of each variable, by its name.
    """
    time = dataset.need(Role.TIME).dimension
    left_out = {v.name for v in dataset.fields if time in v.dimensions}
    return [
        replaced
        for name, variable in dataset.variables.items()
        if name in results or name not in left_out
        for replaced in results.get(name, [variable])
    ]


def whole_period(coordinate: Coordinate, axis: TimeAxis) -> list[Variable]:
    """Return a single time, in the middle of the period, with bounds from its beginning to its
    end."""
    ends = axis.ends
    name = f"{coordinate.name}_bnds"
    about: dict[str, Any] = dict(
        coordinate.variable.edit("climatology", bounds=name).attributes
    )
    return [
        Variable(coordinate.name, (), InMemory(np.float64(ends.mean())), about),
        Variable(name, ("bnds",), InMemory(ends)),
    ]


def put_time_back(array: LazyArray, along: int) -> LazyArray:
    """Return results that have time first with it where it was."""
    return array if along == 0 else FirstAxisMoved(array, along)
