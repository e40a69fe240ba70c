"""Amounts of whole steps as rates."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from rhodolite.arrays import Aligned, Elementwise, InMemory, Mapped
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.cf.cell_methods import read_cell_methods
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.variable import Variable
from rhodolite.operations.time_groups.totals import name_of_rate
from rhodolite.operations.variables.along_time import time_axis_of


def can_be_rate(variable: Variable, units: str) -> bool:
    """Return whether units are those of a rate, of which a variable could be the amount.

    Parameters
    ----------
    variable : Variable
    units : str
        UDUNITS units.
    """
    if not variable.units or not variable.numeric:
        return False
    return can_be_in(variable.edit(units=f"{variable.units} day-1"), units)


def rates_of_steps(dataset: Dataset, variable: Variable) -> Variable:
    """Return the amounts of steps divided by the days of these.

    Parameters
    ----------
    dataset : Dataset
        With the time axis.
    variable : Variable
        Amounts, each of a whole step.

    Raises
    ------
    DataError
        If the lengths of the steps are not known, or it does not run along time.
    """
    axis, time = dataset.need_time(), dataset.need(Role.TIME)
    if axis.lengths is None:
        raise DataError(
            f"the steps of {axis.name} are not even and have no bounds, so it is not known over "
            f"how long {variable.name} is an amount"
        )
    time_axis_of(dataset, variable)
    days = Aligned(
        InMemory(axis.lengths),
        (str(time.dimension),),
        variable.dimensions,
        variable.shape,
    )
    source = variable.floats()
    data = Mapped(Elementwise([source, days], np.divide), np.asarray, "f8")
    rate = variable.derive(data)
    methods = " ".join(
        str(replace(method, method="mean"))
        if method.method == "sum" and method.is_over("time", time.name)
        else str(method)
        for method in read_cell_methods(variable.attributes)
    )
    methods = methods or f"{time.name}: mean"
    name = name_of_rate(str(variable.attributes.get("standard_name", "")))
    rate = rate.edit(units=f"{variable.units} day-1", cell_methods=methods)
    return rate.edit("standard_name") if name is None else rate.edit(standard_name=name)
