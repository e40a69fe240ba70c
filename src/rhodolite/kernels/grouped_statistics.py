"""Statistics of groups of values along the first axis, from parts that can be merged."""

from __future__ import annotations

import itertools
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import first_values, moments, shares, vanishes
from rhodolite.kernels.thresholds import beyond
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
    parts : dict of str to ndarray of float64, shape (groups, *cells)
        What the statistic needs besides.
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
        return self._each(lambda held: held[:, cells])

    def shaped(self, shape: tuple[int, ...]) -> Gathered:
        """Return the same with the cells in another shape."""
        return self._each(lambda held: held.reshape(shape))

    def _each(self, change: Callable[[Array], Array]) -> Gathered:
        weight = None if self.weight is None else change(self.weight)
        parts = {name: change(held) for name, held in self.parts.items()}
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

    def start(self, shape: tuple[int, ...], *, weighted: bool = False) -> Gathered:
        """Return what is gathered from no values, for shape (groups, *cells)."""
        parts = {name: np.full(shape, self.beginning(name)) for name in self.names}
        return Gathered(np.zeros(shape, np.int32), np.zeros(shape) if weighted else None, parts)

    def beginning(self, name: str) -> float:  # noqa: ARG002
        """Return the value that a part has before anything is gathered."""
        return 0.0

    def gather(
        self, block: Array, groups: Array, size: int, weights: Array | None = None
    ) -> Gathered:
        """Return what is gathered from a block."""
        gathered = self.start((size, *block.shape[1:]), weighted=weights is not None)
        self.take_all(gathered, block, groups, weights)
        return gathered

    def take_all(
        self, gathered: Gathered, block: Array, groups: Array, weights: Array | None
    ) -> None:
        """Add a block, shape (n, *cells), whose steps belong to the groups given, to what is
        gathered."""
        block, groups, weights = _in_order(block, groups, weights)
        for group, steps in _runs(groups):
            along = None if weights is None else weights[steps]
            self.take(gathered, group, block[steps], along)

    def take_stored(
        self,
        gathered: Gathered,
        numbers: Array,
        unpack: Unpacking | None,
        groups: Array,
        weights: Array | None,
    ) -> None:
        """Add a block of stored numbers, as `take_all` does the values that are made of them."""
        block = numbers if unpack is None else unpack(numbers)
        self.take_all(gathered, block, groups, weights)

    def of_whole(
        self,
        numbers: Array,  # noqa: ARG002
        unpack: Unpacking | None,  # noqa: ARG002
    ) -> dict[str, Array] | None:
        """Return the statistic of all numbers of one group, shape (n, *cells), where none of them
        is missing and that is less work than to gather them; otherwise None."""
        return None

    @abstractmethod
    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
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

    def combine(self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int) -> None:
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


class Count(Statistic):
    """Number of values that are not missing."""

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        present = _count(gathered, group, values, weights)
        gathered.count[group] += present

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"value": gathered.count.astype(np.float64)}


@dataclass(frozen=True)
class Total(Statistic):
    """Sum of values, or of values times the weights of their steps."""

    weighted: bool = False
    names: ClassVar[tuple[str, ...]] = ("total",)

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        total = gathered.parts["total"]
        factors = weights if self.weighted else None
        added = _sum(values, factors)
        if np.isfinite(added).all():
            gathered.count[group] += len(values)
            if gathered.weight is not None and weights is not None:
                gathered.weight[group] += weights.sum()
        else:
            gathered.count[group] += _count(gathered, group, values, weights)
            added = _sum(np.where(np.isnan(values), 0, values), factors)
        total[group] += added

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"value": np.where(gathered.count > 0, gathered.parts["total"], np.nan)}


@dataclass(frozen=True)
class Mean(Total):
    """Mean of values, by the weights of their steps.

    Sums of float32 are exact enough in float64 for equal values to have exactly their mean. Of
    float64 the differences from the first value of each group are summed, which has the same
    effect.
    """

    weighted: bool = True
    names: ClassVar[tuple[str, ...]] = ("total", "origin")

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        if values.dtype.itemsize > 4:
            new = gathered.count[group] == 0
            if new.any():
                origin = gathered.parts["origin"][group]
                gathered.parts["origin"][group] = np.where(new, first_values(values), origin)
            values = values - gathered.parts["origin"][group]
        super().take(gathered, group, values, weights)

    def take_stored(
        self,
        gathered: Gathered,
        numbers: Array,
        unpack: Unpacking | None,
        groups: Array,
        weights: Array | None,
    ) -> None:
        """See `Statistic.take_stored`; small integers are summed as they are, which is exact."""
        summed = unpack is not None and weights is None and numbers.dtype.itemsize <= 2
        scale = unpack.scale_of(numbers) if unpack is not None and summed else None
        if scale is None or unpack is None:
            super().take_stored(gathered, numbers, unpack, groups, weights)
            return
        numbers, groups, _ = _in_order(numbers, groups, None)
        for group, steps in _runs(groups):
            self._take_integers(gathered, group, numbers[steps], unpack, scale)

    def of_whole(self, numbers: Array, unpack: Unpacking | None) -> dict[str, Array] | None:
        """See `Statistic.of_whole`."""
        small = unpack is not None and numbers.dtype.itemsize <= 2 and len(numbers)
        scale = unpack.scale_of(numbers) if unpack is not None and small else None
        if scale is None or unpack is None:
            return None
        mean = _sum_of_differences(numbers) * scale
        mean /= len(numbers)
        mean += unpack(numbers[:1])[0]
        return {"value": mean}

    def _take_integers(
        self, gathered: Gathered, group: int, numbers: Array, unpack: Unpacking, scale: float
    ) -> None:
        """Add integers of which none is missing to what is gathered of their group, as the sum of
        their differences from the first."""
        first, added = unpack(numbers[:1])[0], _sum_of_differences(numbers) * scale
        count, origin = gathered.count[group, ...], gathered.parts["origin"][group, ...]
        if count.any():
            origin[...] = np.where(count == 0, first, origin)
            added += len(numbers) * (first - origin)
        else:
            origin[...] = first
        gathered.parts["total"][group] += added
        count += len(numbers)

    def combine(self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int) -> None:
        """See `Statistic.combine`."""
        origin, theirs = into.parts["origin"][at], other.parts["origin"][row]
        origin = np.where(into.count[at] == 0, theirs, origin)
        into.parts["origin"][at] = origin
        into.parts["total"][at] += other.parts["total"][row] + other.total_weight[row] * (
            theirs - origin
        )

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        total, weight = gathered.parts["total"], gathered.total_weight
        with np.errstate(invalid="ignore", divide="ignore"):
            total /= weight
        total += gathered.parts["origin"]
        if weight.size and weight.min() <= 0:
            total[weight <= 0] = np.nan
        return {"value": total}


@dataclass(frozen=True)
class Exceedance(Total):
    """Number of values above, or below, a threshold."""

    threshold: float = 0.0
    below: bool = False
    dtype: str = "f8"

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        gathered.count[group] += _count(gathered, group, values, weights)
        hits = beyond(values, self.threshold, self.dtype, below=self.below)
        gathered.parts["total"][group] += np.add.reduce(hits, axis=0, dtype=np.float64)


_KEPT = {"low": np.fmin, "high": np.fmax}


class Lowest(Statistic):
    """Minimum value."""

    names: ClassVar[tuple[str, ...]] = ("low",)
    results = ("low",)

    def beginning(self, name: str) -> float:  # noqa: ARG002
        """See `Statistic.beginning`."""
        return np.nan

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        gathered.count[group] += _count(gathered, group, values, weights)
        for name in self.names:
            part, keep = gathered.parts[name][group, ...], _KEPT[name]
            keep(part, keep.reduce(values, axis=0), out=part)

    def take_stored(
        self,
        gathered: Gathered,
        numbers: Array,
        unpack: Unpacking | None,
        groups: Array,
        weights: Array | None,
    ) -> None:
        """See `Statistic.take_stored`; the extreme is looked for among the numbers."""
        if unpack is None or not unpack.keeps_order(numbers):
            super().take_stored(gathered, numbers, unpack, groups, weights)
            return
        numbers, groups, weights = _in_order(numbers, groups, weights)
        for group, steps in _runs(groups):
            along = None if weights is None else weights[steps]
            gathered.count[group] += _count(gathered, group, numbers[steps], along)
            for name in self.names:
                part, keep = gathered.parts[name][group, ...], _KEPT[name]
                keep(part, unpack(keep.reduce(numbers[steps], axis=0)), out=part)

    def combine(self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int) -> None:
        """See `Statistic.combine`."""
        for name in self.names:
            into.parts[name][at] = _KEPT[name](into.parts[name][at], other.parts[name][row])

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {name: gathered.parts[name] for name in self.names}


class Highest(Lowest):
    """Maximum value."""

    names: ClassVar[tuple[str, ...]] = ("high",)
    results = ("high",)


class Range(Lowest):
    """How far minimum and maximum are apart."""

    names: ClassVar[tuple[str, ...]] = ("low", "high")
    results = ("range",)

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"range": gathered.parts["high"] - gathered.parts["low"]}


class Spread(Statistic):
    """Mean, variance and standard deviation.

    Notes
    -----
    Deviations about the mean of each block, and the pairwise update of Chan, Golub and LeVeque
    1983, The American Statistician 37, 242-247, equations 2.1. The variance has divisor n - 1; with
    weights w it is sum(w d^2) / (sum(w) (n - 1) / n).
    """

    names: ClassVar[tuple[str, ...]] = ("mean", "squares")
    results = ("mean", "variance", "deviation")

    def take(self, gathered: Gathered, group: int, values: Array, weights: Array | None) -> None:
        """See `Statistic.take`."""
        count, weight, mean, squares = moments(values, weights)
        self._merge(gathered, group, weight, mean, squares)
        gathered.count[group] += count.astype(np.int32)
        if gathered.weight is not None:
            gathered.weight[group] += weight

    def combine(self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int) -> None:
        """See `Statistic.combine`."""
        self._merge(
            into, at, other.total_weight[row], other.parts["mean"][row], other.parts["squares"][row]
        )

    def _merge(self, into: Gathered, at: Any, weight: Array, mean: Array, squares: Array) -> None:
        share, between = shares(into.total_weight[at], weight)
        shift = mean - into.parts["mean"][at]
        into.parts["squares"][at] += squares + shift * shift * between
        into.parts["mean"][at] += shift * share

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        count = gathered.count
        squares, weight = gathered.parts["squares"], gathered.total_weight
        squares = np.where(vanishes(squares, weight, gathered.parts["mean"]), 0.0, squares)
        freedom = weight * (np.maximum(count - 1, 1) / np.maximum(count, 1))
        variance = np.divide(squares, freedom, out=np.full(count.shape, np.nan), where=count > 1)
        mean = np.where(count > 0, gathered.parts["mean"], np.nan)
        return {"mean": mean, "variance": variance, "deviation": np.sqrt(variance)}


def _sum_of_differences(numbers: Array) -> Array:
    """Return the sum along the first axis of the differences of integers of 16 bits or fewer from
    the first, which is exact."""
    # Differences are below 2^16, so that 2^15 of them fit into 32 bits.
    wide = np.int32 if len(numbers) < 1 << 15 else np.int64
    total = np.add.reduce(numbers, axis=0, dtype=wide)
    total -= len(numbers) * numbers[0].astype(wide)
    return np.asarray(total)


def _sum(values: Array, weights: Array | None) -> Array:
    """Return the sum over the first axis in float64."""
    if weights is None:
        return np.asarray(np.add.reduce(values, axis=0, dtype=np.float64))
    if len(weights) == 1 or (weights == weights[0]).all():
        return np.asarray(np.add.reduce(values, axis=0, dtype=np.float64) * weights[0])
    return np.asarray(np.einsum("t,t...->...", weights, values))


def _count(gathered: Gathered, group: int, values: Array, weights: Array | None) -> Array:
    """Return the number of values present, after adding their weights to those of the group."""
    missing = np.isnan(values)
    if not missing.any():
        if gathered.weight is not None and weights is not None:
            gathered.weight[group] += weights.sum()
        return np.asarray(len(values), dtype=np.int32)
    present = ~missing
    if gathered.weight is not None and weights is not None:
        gathered.weight[group] += _sum(present, weights)
    return np.asarray(np.add.reduce(present, axis=0, dtype=np.int32))


def _in_order(
    block: Array, groups: Array, weights: Array | None
) -> tuple[Array, Array, Array | None]:
    """Bring the steps of each group together where that is cheaper than many short runs."""
    changes = int(np.count_nonzero(np.diff(groups)))
    if block[:1].size > _FEW_CELLS or changes < 2 * np.unique(groups).size:
        return block, groups, weights
    order = np.argsort(groups, kind="stable")
    return block[order], groups[order], None if weights is None else weights[order]


def _runs(groups: Array) -> Iterator[tuple[int, slice]]:
    """Yield each stretch of steps of one group, those that are left out excepted."""
    if not len(groups):
        return
    edges = np.concatenate([[0], np.flatnonzero(np.diff(groups)) + 1, [len(groups)]])
    for start, stop in itertools.pairwise(edges):
        if groups[start] >= 0:
            yield int(groups[start]), slice(int(start), int(stop))
