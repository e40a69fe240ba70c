"""Which member of one ensemble goes with which of another."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, Broadcast, Selected
from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension
from rhodolite.model.labels import labels_along
from rhodolite.model.variable import Variable

_MOST_NAMED = 6


def with_members_of(
    dataset: Dataset, variable: Variable, other: Dataset, its: Variable
) -> Variable:
    """Return the other variable with its members in the order of the first, matched by name; one
    without members goes with each.

    Parameters
    ----------
    dataset, other : Dataset
    variable, its : Variable
        Of the first dataset, and of the other.

    Raises
    ------
    DataError
        If they are of other members, or the first has none.
    """
    ours, theirs = find_member_dimension(dataset), find_member_dimension(other)
    has_ours, has_theirs = ours in variable.dimensions, theirs in its.dimensions
    if not has_ours and not has_theirs:
        return its
    if theirs is None or not has_theirs:
        assert ours is not None
        dimensions = (ours, *its.dimensions)
        shape = (dataset.lengths[ours], *its.shape)
        repeated = Broadcast(its.data, its.dimensions, dimensions, shape)
        return its.replace(data=repeated, dimensions=dimensions)
    there = labels_along(other, theirs)
    if ours is None or not has_ours:
        raise DataError(
            f"{its.name} is of {len(there)} members in {other.label} ({_shown(there)}), and "
            f"{dataset.label} is of one; name the files of all members with --members, or take "
            "the mean of the others first, with summarise --over ensemble"
        )
    order = _same_members(dataset, labels_along(dataset, ours), other, there)
    picks = [order if name == theirs else None for name in its.dimensions]
    renamed = tuple(ours if name == theirs else name for name in its.dimensions)
    return its.replace(data=Selected(its.data, picks), dimensions=renamed)


def _same_members(
    dataset: Dataset, here: list[str], other: Dataset, there: list[str]
) -> Array:
    """Return where the members of one dataset stand in the other."""
    if sorted(here) != sorted(there) or len(set(here)) < len(here):
        raise DataError(
            f"{dataset.label} has the members {_shown(here)}, and {other.label} {_shown(there)}; "
            "members are matched by their names, so both need the same"
        )
    return np.array([there.index(name) for name in here])


def _shown(names: list[str]) -> str:
    rest = len(names) - _MOST_NAMED
    return ", ".join(names[:_MOST_NAMED]) + (f" and {rest} more" if rest > 0 else "")
