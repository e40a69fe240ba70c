"""Many files that are described like the first, put one after another at once.

Files are compared one by one where they might differ. Where thousands of them share all that was
said in the first, there is nothing to compare but their times.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Concatenated, InMemory, read_small
from rhodolite.formats.alike import whole_if_exact
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.actual_range import without_old_ranges
from rhodolite.model.cf.common_attributes import common_attributes
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable


def join_like_the_first(datasets: Sequence[Dataset]) -> Dataset | None:
    """Return datasets one after another in time; None where they have to be compared one by one.

    Parameters
    ----------
    datasets : sequence of Dataset
        As they were read; more than one.
    """
    first = datasets[0]
    time = first.coordinate(Role.TIME)
    if time is None or time.dimension is None:
        return None
    alike = _Alike(first, time.dimension)
    if not all(alike(dataset) for dataset in datasets[1:]):
        return None
    numbers = [_floats(dataset, time.name) for dataset in datasets]
    order = _order_in_time(numbers)
    if order is None:
        return None
    datasets, numbers = [datasets[at] for at in order], [numbers[at] for at in order]
    variables = [
        _end_to_end(variable, datasets, time, numbers)
        for variable in first.variables.values()
    ]
    files = tuple(file for dataset in datasets for file in dataset.files)
    attributes = common_attributes(datasets)
    whole = datasets[0].with_variables(variables, files=files, attributes=attributes)
    return without_old_ranges(datasets, whole)


def _order_in_time(numbers: list[Array]) -> list[int] | None:
    """Return the order in which times follow each other; None where one has none or they
    overlap."""
    if not all(part.size and np.isfinite(part).all() for part in numbers):
        return None
    order = sorted(range(len(numbers)), key=lambda at: numbers[at][0])
    follow = all(
        numbers[before].max() < numbers[after].min()
        for before, after in pairwise(order)
    )
    return order if follow else None


def _end_to_end(
    variable: Variable,
    datasets: Sequence[Dataset],
    time: Coordinate,
    numbers: list[Array],
) -> Variable:
    name, along = variable.name, str(time.dimension)
    if name == time.name:
        return variable.replace(
            data=InMemory(whole_if_exact(np.concatenate(numbers), variable))
        )
    if time.bounds_variable is not None and name == time.bounds_variable.name:
        parts = [_floats(dataset, name) for dataset in datasets]
        return variable.replace(data=InMemory(np.concatenate(parts)))
    if along not in variable.dimensions:
        return variable
    arrays = [dataset.variables[name].data for dataset in datasets]
    return variable.replace(data=Concatenated(arrays, variable.dimensions.index(along)))


def _floats(dataset: Dataset, name: str) -> Array:
    return read_small(dataset.variables[name].floats()).astype(np.float64, copy=False)


class _Alike:
    """Whether a dataset differs from the first in nothing but values along time.

    Tables that files share are compared once, and all that were found to be the same are known by
    their identity then; they are kept, so that no other can take their place.
    """

    def __init__(self, first: Dataset, along: str) -> None:
        self._first = first
        self._along = along
        self._same: dict[tuple[int, int], tuple[bool, Any, Any]] = {}

    def __call__(self, dataset: Dataset) -> bool:
        ours, theirs = self._first.variables, dataset.variables
        return (
            ours.keys() == theirs.keys()
            and self._first.unlimited == dataset.unlimited
            and all(self._variable(mine, theirs[name]) for name, mine in ours.items())
        )

    def _variable(self, mine: Variable, other: Variable) -> bool:
        if (
            mine.dimensions != other.dimensions
            or mine.missing != other.missing
            or mine.data.dtype != other.data.dtype
            or not self._tables(mine.attributes, other.attributes)
            or not self._storages(mine, other)
        ):
            return False
        if self._along not in mine.dimensions:
            return mine.data is other.data
        at = mine.dimensions.index(self._along)
        lengths = [shape[:at] + shape[at + 1 :] for shape in (mine.shape, other.shape)]
        return lengths[0] == lengths[1]

    def _storages(self, mine: Variable, other: Variable) -> bool:
        storage, two = mine.storage, other.storage
        if storage is two:
            return True
        plain = (
            replace(storage, chunks=None, limits={}),
            replace(two, chunks=None, limits={}),
        )
        return repr(plain[0]) == repr(plain[1]) and self._tables(
            storage.limits, two.limits
        )

    def _tables(self, first: Mapping[str, Any], second: Mapping[str, Any]) -> bool:
        if first is second:
            return True
        known = self._same.get((id(first), id(second)))
        if known is None:
            same = first.keys() == second.keys() and all(
                _equal(first[key], second[key]) for key in first
            )
            known = self._same[id(first), id(second)] = (same, first, second)
        return known[0]


def _equal(first: Any, second: Any) -> bool:
    if type(first) is not type(second):
        return False
    if isinstance(first, np.ndarray):
        return first.dtype == second.dtype and np.array_equal(first, second)
    return bool(first == second)
