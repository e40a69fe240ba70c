"""Parts of a dataset: the cells at some indices, and longitudes counted from another side."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, InMemory, Selected
from rhodolite.model.axes import Role, is_in_order
from rhodolite.model.dataset import Dataset

Indices = NDArray[np.intp]


def take(dataset: Dataset, picks: dict[str, Indices]) -> Dataset:
    """Return a dataset with only the cells at these indices along the named dimensions.

    Parameters
    ----------
    dataset : Dataset
    picks : mapping of str to ndarray of int
        Indices along each dimension that is cut.
    """
    variables = []
    for variable in dataset.variables.values():
        along = [picks.get(dimension) for dimension in variable.dimensions]
        if any(pick is not None for pick in along):
            variable = variable.replace(data=Selected(variable.data, along))
        variables.append(variable)
    return dataset.with_variables(variables)


def count_longitudes_on(dataset: Dataset) -> Dataset:
    """Return a dataset whose longitudes go on where they begin anew on the way east or west, as
    coordinates have to (CF 5): 179, -180 and -179 are 179, 180 and 181."""
    coordinate = dataset.coordinate(Role.LONGITUDE)
    if coordinate is None or is_in_order(coordinate.values):
        return dataset
    onward = np.unwrap(coordinate.values, period=360.0)
    if not is_in_order(onward):
        return dataset
    turns = np.round((onward - coordinate.values) / 360.0) * 360.0
    return turn_longitudes(dataset, turns)


def put_times_in_order(dataset: Dataset) -> Dataset:
    """Return a dataset whose times follow one another, as they do in pictures."""
    coordinate, axis = dataset.coordinate(Role.TIME), dataset.time
    if coordinate is None or coordinate.dimension is None or axis is None:
        return dataset
    if np.array_equal(axis.order, np.arange(len(axis))):
        return dataset
    return take(dataset, {coordinate.dimension: axis.order})


def turn_longitudes(dataset: Dataset, turns: Array) -> Dataset:
    """Add multiples of 360 degrees to longitudes and their bounds.

    Parameters
    ----------
    dataset : Dataset
    turns : ndarray
        Degrees to add to each longitude, multiples of 360.
    """
    coordinate = dataset.need(Role.LONGITUDE)
    if not turns.any():
        return dataset
    variables = dict(dataset.variables)
    dtype = coordinate.variable.data.dtype
    values = (coordinate.values + turns).astype(dtype)
    variables[coordinate.name] = coordinate.variable.replace(data=InMemory(values))
    bounds = coordinate.bounds_variable
    if bounds is not None and coordinate.bounds is not None:
        turned = (coordinate.bounds + turns[:, None]).astype(bounds.data.dtype)
        variables[bounds.name] = bounds.replace(data=InMemory(turned))
    return dataset.with_variables(variables.values())
