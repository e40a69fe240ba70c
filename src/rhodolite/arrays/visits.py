"""Blocks in the order of groups: all that a group needs is read in one visit, and kept meanwhile.

The departures of the maps of 1 January of all years need their normal, which needs the same maps.
Where these are written one after another, each map is decoded once, and no normals are kept.
"""

from __future__ import annotations

import functools
import itertools
import math
from collections.abc import Callable, Hashable, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TYPE_CHECKING, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays.blocks import iterate_blocks
from rhodolite.arrays.lazy import Array, LazyArray, Region, region_shape
from rhodolite.kernels.unpacking import Unpacking

if TYPE_CHECKING:
    from rhodolite.arrays.reduction import Reduction

T = TypeVar("T")
Visit = tuple[Region, ...]
"""Blocks that are read one after another."""

_SHARE_OF_A_VISIT = 3
"""What is held by a visit may take this part of the memory, so that there can be a few at once."""
_MAPS_BETWEEN = 3
"""Values in double precision of one step that are held besides: a normal, a block, a departure."""
_FEWEST_VISITS = 8
"""Fewer would leave workers without work."""
_kept: ContextVar[dict[Hashable, Array] | None] = ContextVar(
    "kept in this visit", default=None
)


@dataclass(frozen=True, eq=False)
class GroupsOfBlocks:
    """Which steps of an array are read together at least cost.

    Parameters
    ----------
    axis : int
    groups : sequence of ndarray of int
        Steps along the axis; each is in one group.
    source : LazyArray
        What is read once for each step, and kept as it is stored.
    reductions : sequence of Reduction
        What each group needs the results of, which are computed during its visit.
    """

    axis: int
    groups: Sequence[NDArray[np.intp]]
    source: LazyArray
    reductions: Sequence[Reduction]


@dataclass(frozen=True, eq=False)
class Visits:
    """How an array is written group by group.

    Parameters
    ----------
    each : list of tuple of Region
        The blocks of one visit after the other.
    block : tuple of int
        Shape of all that a visit reads.
    reductions : sequence of Reduction
        Whose results are computed on the way.
    source : LazyArray
        What they are computed from, which has to be readable before.
    held : int
        Bytes that a visit holds: numbers as they are stored, and as they are going to be, in single
        precision at least.
    """

    each: list[Visit]
    block: tuple[int, ...]
    reductions: Sequence[Reduction]
    source: LazyArray
    held: int


def find_visits(
    array: LazyArray, unit: tuple[int, ...], block: tuple[int, ...], memory: int
) -> Visits | None:
    """Return the visits by which an array can be written in units of a shape, None where that
    would hold too much, or saves nothing.

    Parameters
    ----------
    array : LazyArray
    unit : tuple of int
        Shape of the pieces that are written.
    block : tuple of int
        Shape of the blocks that would be read otherwise.
    memory : int
        Bytes allowed.
    """
    groups = array.groups_of_blocks
    if groups is None or unit[groups.axis] != 1 or len(groups.groups) < _FEWEST_VISITS:
        return None
    if any(
        reduction.results is not None or reduction.by_group is None
        for reduction in groups.reductions
    ):
        return None
    before, after = slice(0, groups.axis), slice(groups.axis + 1, None)
    steps = max(group.size for group in groups.groups)
    stored = groups.source.as_stored()[0].dtype.itemsize
    cells = math.prod(block[before] + block[after])
    bytes_of_visit = cells * (steps * (stored + max(stored, 4)) + _MAPS_BETWEEN * 8)
    if bytes_of_visit > memory // _SHARE_OF_A_VISIT:
        return None
    places = iterate_blocks(
        array.shape[before] + array.shape[after], block[before] + block[after]
    )
    each = [
        tuple(
            (*place[before], slice(int(step), int(step) + 1), *place[groups.axis :])
            for step in group
        )
        for group, place in itertools.product(groups.groups, list(places))
    ]
    shape = (*block[before], steps, *block[after])
    return Visits(each, shape, groups.reductions, groups.source, bytes_of_visit)


@dataclass
class InOneVisit(Generic[T]):
    """A task for the blocks of a visit, made of one for each."""

    task: Callable[[Region], T]

    def __call__(self, visit: Visit) -> list[T]:
        token = _kept.set({})
        try:
            return [self.task(region) for region in visit]
        finally:
            _kept.reset(token)


def keep_during_visit(key: Hashable, compute: Callable[[], Array]) -> Array:
    """Return an array that is computed once during a visit, and must not be changed."""
    visit = _kept.get()
    if visit is None:
        return compute()
    if key not in visit:
        visit[key] = compute()
    return visit[key]


class KeptDuringVisit(LazyArray):
    """Another array, each step of which is read once during a visit.

    Parameters
    ----------
    source : LazyArray
    axis : int
        Along which the steps lie.
    """

    def __init__(self, source: LazyArray, axis: int, key: int | None = None) -> None:
        self.source, self._axis = source, axis
        self._key = id(self) if key is None else key
        self.shape, self.dtype, self.chunks = source.shape, source.dtype, source.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return (self.source,)

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        stored, unpack = self.source.as_stored()
        if unpack is None:
            return self, None
        return KeptDuringVisit(stored, self._axis, self._key), unpack

    def read(self, region: Region) -> Array:
        if _kept.get() is None:
            return self.source.read(region)
        steps, before = region[self._axis], (slice(None),) * self._axis
        regions = []
        for step in range(steps.start, steps.stop):
            single = (
                *region[: self._axis],
                slice(step, step + 1),
                *region[self._axis + 1 :],
            )
            key = (
                self._key,
                self.dtype.str,
                tuple((part.start, part.stop) for part in single),
            )
            regions.append(
                keep_during_visit(key, functools.partial(self.source.read, single))
            )
        if len(regions) == 1:
            # What is kept is not copied for those who only look at it, and kept from the others.
            only = regions[0].view()
            only.flags.writeable = False
            return only
        out = np.empty(region_shape(region), self.dtype)
        for at, values in enumerate(regions):
            out[(*before, slice(at, at + 1))] = values
        return out
