"""What is gathered of groups of values along the first axis, in parts that can be merged."""

from __future__ import annotations

import itertools
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.unpacking import Unpacking

Array = NDArray[Any]
_FEW_CELLS = 1 << 13


@dataclass
class Gathered:
    """What has been gathered of the values in each group at each cell.

    Attributes
    ----------
    count : ndarray of int32, shape (groups, *cells)
        Number of values that are not missing.
    weight : ndarray of float64, shape (groups, *cells), or None
        Sum of their weights; None where every step weighs 1.
    parts : dict of str to ndarray, shape (..., groups, *cells)
        What the statistic needs besides, mostly float64 of the shape of the counts.
    """

    count: Array
    weight: Array | None
    parts: dict[str, Array] = field(default_factory=dict)

    @property
    def total_weight(self) -> Array:
        """Sum of the weights, shape (groups, *cells)."""
        return self.count if self.weight is None else self.weight

    def part(self, cells: slice) -> Gathered:
        """Return views of some cells, of shape (groups, cells), that can be added to."""
        return self._each(lambda values: values[..., cells])

    def shaped(self, shape: tuple[int, ...]) -> Gathered:
        """Return the same in another shape, from (groups, cells)."""
        return self._each(lambda values: values.reshape(*values.shape[:-2], *shape))

    def _each(self, change: Callable[[Array], Array]) -> Gathered:
        weight = None if self.weight is None else change(self.weight)
        parts = {name: change(values) for name, values in self.parts.items()}
        return Gathered(change(self.count), weight, parts)


class Statistic(ABC):
    """A statistic of the values in each group at each cell. Instances must be picklable.

    Gathering takes a block of shape (n, *cells) in which NaN marks missing values, the group of
    each step (negative where it is left out), the number of groups, and the weight of each step, if
    they differ.
    """

    names: ClassVar[tuple[str, ...]] = ()
    """Names of the parts, with the value that each starts from."""
    results: tuple[str, ...] = ("value",)

    def __repr__(self) -> str:
        # The same in every process, since it tells warnings apart.
        return type(self).__name__

    def start(
        self,
        shape: tuple[int, ...],
        *,
        weighted: bool = False,
        steps: int | None = None,  # noqa: ARG002
        dtype: np.dtype[Any] | None = None,  # noqa: ARG002
    ) -> Gathered:
        """Return what is gathered from no values, for shape (groups, *cells); of no more than so
        many `steps`, and of values of a type, if that is said."""
        parts = {name: _filled(shape, self.beginning(name)) for name in self.names}
        return Gathered(
            np.zeros(shape, np.int32), np.zeros(shape) if weighted else None, parts
        )

    def beginning(self, name: str) -> float:  # noqa: ARG002
        """Return the value that a part has before anything is gathered."""
        return 0.0

    def gather(
        self, block: Array, groups: Array, size: int, weights: Array | None = None
    ) -> Gathered:
        """Return what is gathered from a block."""
        gathered = self.start(
            (size, *block.shape[1:]), weighted=weights is not None, dtype=block.dtype
        )
        self.take_all(gathered, block, groups, weights)
        return gathered

    def take_all(
        self, gathered: Gathered, block: Array, groups: Array, weights: Array | None
    ) -> None:
        """Add a block, shape (n, *cells), whose steps belong to the groups given, to what is
        gathered."""
        self.take_stored(gathered, block, None, groups, weights)

    def take_stored(
        self,
        gathered: Gathered,
        numbers: Array,
        unpack: Unpacking | None,
        groups: Array,
        weights: Array | None,
    ) -> None:
        """Add a block of stored numbers, as `take_all` does the values that are made of them."""
        numbers, groups, weights = bring_in_order(numbers, groups, weights)
        for group, steps in runs_of_groups(groups):
            along = None if weights is None else weights[steps]
            if unpack is None:
                self.take(gathered, group, numbers[steps], along)
            else:
                self.take_numbers(gathered, group, numbers[steps], unpack, along)

    def take_numbers(
        self,
        gathered: Gathered,
        group: int,
        numbers: Array,
        unpack: Unpacking,
        weights: Array | None,
    ) -> None:
        """Add the values that are made of some stored numbers, as `take` does."""
        self.take(gathered, group, unpack(numbers), weights)

    def of_whole(
        self,
        numbers: Array,  # noqa: ARG002
        unpack: Unpacking | None,  # noqa: ARG002
    ) -> dict[str, Array] | None:
        """Return the statistic of all numbers of one group, shape (n, *cells), where none of them
        is missing and that is less work than to gather them; otherwise None."""
        return None

    @abstractmethod
    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """Add the values of some steps, shape (n, *cells), to what is gathered of their group."""

    def merge(
        self, into: Gathered, other: Gathered, groups: Array, cells: tuple[slice, ...]
    ) -> None:
        """Merge what was gathered of some groups and cells into that of all; changes `into`."""
        for row, group in enumerate(groups):
            at = (group, *cells)
            self.combine(into, at, other, row)
            into.count[at] += other.count[row]
            if into.weight is not None and other.weight is not None:
                into.weight[at] += other.weight[row]

    def combine(
        self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int
    ) -> None:
        """Merge the parts of one group, before the counts are."""
        for name in self.names:
            into.parts[name][at] += other.parts[name][row]

    @abstractmethod
    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """Return the statistic by the names in `results`, NaN where there are too few values.

        May change what was gathered, but not its counts.
        """

    @property
    def bytes_held(self) -> int:
        """What a group of a cell takes while it is gathered and finished."""
        return 8 + 8 * len(self.names) + 8 * (len(self.results) - 1)


def _filled(shape: tuple[int, ...], value: float) -> Array:
    # Zeros take no time before they are used.
    return np.full(shape, value) if value else np.zeros(shape)


def weighted_sum(values: Array, weights: Array | None) -> Array:
    """Return the sum over the first axis in float64."""
    if weights is None:
        return np.asarray(np.add.reduce(values, axis=0, dtype=np.float64))
    if len(weights) == 1 or (weights == weights[0]).all():
        return np.asarray(np.add.reduce(values, axis=0, dtype=np.float64) * weights[0])
    return np.asarray(np.einsum("t,t...->...", weights, values))


def count_present(
    gathered: Gathered, group: int, values: Array, weights: Array | None
) -> Array:
    """Return the number of values present, after adding their weights to those of the group."""
    return count_unless(gathered, group, len(values), np.isnan(values), weights)


def count_unless(
    gathered: Gathered,
    group: int,
    steps: int,
    missing: Array | None,
    weights: Array | None,
) -> Array:
    """Return the number of values of so many steps that are not missing, after adding their weights
    to those of the group."""
    if missing is None or not missing.any():
        if gathered.weight is not None and weights is not None:
            gathered.weight[group] += weights.sum()
        return np.asarray(steps, dtype=np.int32)
    present = ~missing
    if gathered.weight is not None and weights is not None:
        gathered.weight[group] += weighted_sum(present, weights)
    return np.asarray(np.add.reduce(present, axis=0, dtype=np.int32))


def bring_in_order(
    block: Array, groups: Array, weights: Array | None
) -> tuple[Array, Array, Array | None]:
    """Bring the steps of each group together where that is cheaper than many short runs."""
    changes = int(np.count_nonzero(np.diff(groups)))
    if block[:1].size > _FEW_CELLS or changes < 2 * np.unique(groups).size:
        return block, groups, weights
    order = np.argsort(groups, kind="stable")
    return block[order], groups[order], None if weights is None else weights[order]


def runs_of_groups(groups: Array) -> Iterator[tuple[int, slice]]:
    """Yield each stretch of steps of one group, those that are left out excepted."""
    if not len(groups):
        return
    edges = np.concatenate([[0], np.flatnonzero(np.diff(groups)) + 1, [len(groups)]])
    for start, stop in itertools.pairwise(edges):
        if groups[start] >= 0:
            yield int(groups[start]), slice(int(start), int(stop))
