"""A variable in other units."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Aligned, Elementwise, InMemory, LazyArray, Mapped
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import change_units, standard_name_after
from rhodolite.model.variable import Variable

_BY_DENSITY = "converted with 1000 kg m-3, the density of water"


def in_units(dataset: Dataset, variable: Variable, units: str) -> Variable:
    """Return a variable in other units, with a standard name only where it is still true.

    Parameters
    ----------
    dataset : Dataset
        With the time axis, by whose months and years amounts for these count.
    variable : Variable
    units : str
        UDUNITS units.

    Raises
    ------
    DataError
        If its own cannot be converted to them.
    """
    change = change_units(variable, units, _axis_of(dataset, variable))
    source: LazyArray = variable.floats()
    data = source
    if change.days is not None:
        time = dataset.need(Role.TIME).dimension
        along = () if time is None else (time,)
        values = change.days.reshape(-1 if along else ())
        days = Aligned(InMemory(values), along, variable.dimensions, variable.shape)
        data = Mapped(Elementwise([data, days], np.multiply), np.asarray, "f8")
    data = Mapped(data, change.plain, data.dtype)
    changed = variable.derive(data).edit(units=units)
    standard_name = standard_name_after(variable, change.plain)
    if standard_name is None:
        changed = changed.edit("standard_name")
    else:
        changed = changed.edit(standard_name=standard_name)
    if not change.plain.by_density:
        return changed
    remarks = (variable.attributes.get("comment"), _BY_DENSITY)
    return changed.edit(comment="; ".join(str(text) for text in remarks if text))


def _axis_of(dataset: Dataset, variable: Variable) -> TimeAxis | None:
    """Return the times that a variable runs along, or the one that it is of; None where there are
    none."""
    time = dataset.coordinate(Role.TIME)
    if time is None:
        return None
    if time.dimension is None:
        return dataset.time if time.bounds is not None else None
    return dataset.need_time() if time.dimension in variable.dimensions else None
