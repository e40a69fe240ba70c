"""Files that say the same in other words, brought into the words of the first: names, order,
direction, units.

Nothing that is brought into line loses anything. What would lose something stays as it is, and is
refused when the files are joined, with the verb that repairs it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from rhodolite.arrays import Transposed
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.named_variables import rename_in
from rhodolite.model.cf.vocabulary import (
    CALENDARS_LIKE_TODAYS,
)
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take, turn_longitudes
from rhodolite.model.space.precision import slack
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable


def conform(dataset: Dataset, first: Dataset) -> Dataset:
    """Return a dataset in the words of another where that loses nothing.

    Parameters
    ----------
    dataset : Dataset
    first : Dataset
        The first file, whose words count.
    """
    for role in Role:
        ours, theirs = first.coordinate(role), dataset.coordinate(role)
        if ours is not None and theirs is not None:
            dataset = _named_alike(dataset, theirs, ours)
    for role in (Role.LATITUDE, Role.LONGITUDE, Role.LEVEL):
        ours, theirs = first.coordinate(role), dataset.coordinate(role)
        if (
            ours is not None
            and theirs is not None
            and ours.values.size == theirs.values.size
        ):
            dataset = _in_the_order_of(dataset, theirs, ours)
    return dataset.with_variables(
        _conform_variable(v, first.variables.get(v.name))
        for v in dataset.variables.values()
    )


def same_units(first: str | None, second: str | None) -> bool:
    """Return whether two texts are the same units: `m/s` and `m s-1`, `K` and `kelvin`."""
    if first == second:
        return True
    if not first or not second or not convertible(first, second):
        return False
    return all(
        abs(float(convert(value, first, second)) - value) <= 1e-12 * (1 + value)
        for value in (0.0, 1.0, 1000.0)
    )


def same_calendars(first: Dataset, second: Dataset) -> bool:
    """Return whether dates mean the same in both, as they do after 1582 in the two Gregorian
    calendars.

    Parameters
    ----------
    first : Dataset
        The first file, whose words count.
    second : Dataset
    """
    axes = first.need_time(), second.need_time()
    calendars = {axis.calendar for axis in axes}
    if len(calendars) == 1:
        return True
    return calendars <= set(CALENDARS_LIKE_TODAYS) and all(
        int(axis.years.min()) > 1582 for axis in axes
    )


def _named_alike(dataset: Dataset, theirs: Coordinate, ours: Coordinate) -> Dataset:
    """Return a dataset whose coordinate, its dimension and bounds are called as in another."""
    names = _new_names(theirs, ours)
    taken = dataset.variables.keys() | dataset.lengths.keys()
    if not names or any(new in taken for new in names.values()):
        return dataset
    renamed = [_rename(variable, names) for variable in dataset.variables.values()]
    unlimited = frozenset(names.get(name, name) for name in dataset.unlimited)
    return dataset.with_variables(renamed, unlimited=unlimited)


def _new_names(theirs: Coordinate, ours: Coordinate) -> dict[str, str]:
    """Return what a coordinate, its dimension, bounds and their dimension become, where that is
    something else."""
    pairs = [(theirs.name, ours.name)]
    if theirs.dimension and ours.dimension:
        pairs.append((theirs.dimension, ours.dimension))
    their_bounds, our_bounds = theirs.bounds_variable, ours.bounds_variable
    if their_bounds is not None and our_bounds is not None:
        pairs.append((their_bounds.name, our_bounds.name))
        pairs.append((their_bounds.dimensions[-1], our_bounds.dimensions[-1]))
    return {old: new for old, new in pairs if old != new}


def _rename(variable: Variable, names: Mapping[str, str]) -> Variable:
    """Return a variable under its new name, along dimensions and with references of new names."""
    return variable.replace(
        attributes=rename_in(variable.attributes, names),
        name=names.get(variable.name, variable.name),
        dimensions=tuple(names.get(d, d) for d in variable.dimensions),
    )


def _in_the_order_of(dataset: Dataset, theirs: Coordinate, ours: Coordinate) -> Dataset:
    """Return a dataset whose rows, columns or levels run as in another, longitudes counted from the
    same side."""
    near = max(slack(ours.values, ours.variable.data.dtype), theirs.slack)
    here, there = ours.values, theirs.values
    if theirs.dimension is None or np.allclose(here, there, rtol=0, atol=near):
        return dataset
    turns = np.zeros(there.size)
    if ours.role is Role.LONGITUDE:
        order = np.array(
            [int(np.argmin(np.abs(shortest_turn(there - value)))) for value in here]
        )
        turns = np.round((here - there[order]) / 360.0) * 360.0
    else:
        order = np.arange(there.size)[::-1]
    if np.unique(order).size < order.size or not np.allclose(
        here, there[order] + turns, rtol=0, atol=near
    ):
        return dataset
    ordered = take(dataset, {theirs.dimension: order})
    return turn_longitudes(ordered, turns) if turns.any() else ordered


def _conform_variable(variable: Variable, like: Variable | None) -> Variable:
    """Return a variable with its dimensions in the order of another, and units written like its."""
    if like is None:
        return variable
    if variable.units != like.units and same_units(variable.units, like.units):
        variable = variable.edit(units=like.units)
    if variable.dimensions != like.dimensions and set(variable.dimensions) == set(
        like.dimensions
    ):
        order = tuple(variable.dimensions.index(name) for name in like.dimensions)
        data = Transposed(variable.data, order)
        chunks = variable.storage.chunks
        moved = None if chunks is None else tuple(chunks[axis] for axis in order)
        storage = replace(variable.storage, chunks=moved)
        variable = variable.replace(
            dimensions=like.dimensions, data=data, storage=storage
        )
    return variable
