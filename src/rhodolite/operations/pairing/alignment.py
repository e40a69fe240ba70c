"""A variable of one dataset brought to the cells and times of another, to be calculated with."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.alike_positions import Indices
from rhodolite.model.space.places import order_names
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.variable import Variable
from rhodolite.operations.pairing.cells import dimensions_in, in_line, in_order
from rhodolite.operations.pairing.times import MatchedTimes

_NO_VALUE = np.zeros(())


def align(dataset: Dataset, other: Dataset, its: Variable) -> Variable:
    """Return a variable of another dataset with the dimensions of one, its cells in their order.

    Unlike in a comparison, nothing is left out: times have to be the same. A variable that lacks
    an axis, such as a mean over it, goes with all cells along it.

    Parameters
    ----------
    dataset, other : Dataset
    its : Variable
        Of the other.

    Raises
    ------
    DataError
        If cells, times or members are others; the message says where, and what makes them alike.
    """
    same = dimensions_in(dataset, other, its)
    ours = {theirs: name for name, theirs in same.items() if name in dataset.lengths}
    unknown = [name for name in its.dimensions if name not in ours]
    if unknown:
        raise DataError(
            f"{its.name} runs along {', '.join(unknown)}, which {dataset.label} has not; write "
            "what is larger first, or take a mean or one place along it"
        )
    its = _with_times_of(dataset, other, its)
    shape = tuple(dataset.lengths[ours[name]] for name in its.dimensions)
    alike = its.replace(
        dimensions=tuple(ours[name] for name in its.dimensions),
        data=InMemory(np.broadcast_to(_NO_VALUE, shape)),
    )
    moved = in_line(dataset, alike, other, its, Role.TIME, units=False)
    dimensions = tuple(ours.get(name, name) for name in moved.dimensions)
    return moved.replace(dimensions=dimensions)


def _with_times_of(dataset: Dataset, other: Dataset, its: Variable) -> Variable:
    """Return a variable with its times in the order of ours, by what these stand for and not by
    their stamps.

    Raises
    ------
    DataError
        If it runs along other times.
    """
    first, second = dataset.coordinate(Role.TIME), other.coordinate(Role.TIME)
    if second is None or second.dimension not in its.dimensions or first is None:
        return its
    order = _order_times(dataset, other)
    if order is None:
        ours, theirs = dataset.need_time(), other.need_time()
        raise DataError(
            f"{its.name} runs along {len(theirs):,} times from {theirs.span} and not along the "
            f"{len(ours):,} from {ours.span} of {dataset.label}; take the same times of both "
            "first, with subset, or anomaly for departures from normals"
        )
    return in_order(its, str(second.dimension), order)


def _order_times(dataset: Dataset, other: Dataset) -> Indices | None:
    """Return the times of another dataset in the order of one; None where they are others."""
    ours, theirs = dataset.need_time(), other.need_time()
    if ours.climatological or theirs.climatological:
        return order_names(time_labels(ours), time_labels(theirs))
    if len(ours) != len(theirs):
        return None
    matched = MatchedTimes.of(dataset, other)
    if np.array_equal(matched.ours, matched.theirs):
        return np.arange(len(ours))
    here, there = matched.pairs(0)
    return there[np.argsort(here)] if here.size == len(ours) else None
