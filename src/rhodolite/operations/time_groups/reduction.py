"""Statistics of groups of time steps: merged block by block, or from whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    LazyArray,
    Reduction,
    Region,
    SeriesKernel,
    Unpacking,
)
from rhodolite.kernels.grouped_statistics import Gathered, Statistic, Tail
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.group_results import (
    GroupResults,
    reads_each_chunk_once,
)
from rhodolite.operations.time_groups.groups import (
    Groups,
    Integers,
    cache_slices,
    grouped_measure,
    rows_at_once,
)

_LARGE_GROUP = 64 << 20
"""Bytes of stored numbers of a group, all of which are held to find a percentile; of more, only
those that matter are."""
_MOST_KEPT = 128
"""Outermost values; of more, whole series are sorted as fast, by way of a scratch file."""


@dataclass
class GroupedStatistic(Accumulator):
    """A statistic of each group at each cell, from blocks in any split.

    Parameters
    ----------
    groups : Groups
    statistic : Statistic
    axis : int
        Where time lies in the source.
    cells : tuple of int
        Shape of the source without time.
    coverage : bool
        Whether the share of each group that is there is a result too.
    origin : tuple of int
        Where the cells begin, in an accumulator of a part of the source.
    """

    groups: Groups
    statistic: Statistic
    axis: int
    cells: tuple[int, ...]
    coverage: bool = False
    origin: tuple[int, ...] = ()
    in_pieces: ClassVar[bool] = True
    _gathered: Gathered | None = None
    _held: Integers | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _gathered=None, _held=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        self.add_stored(block, None, region)

    def add_stored(
        self, numbers: Array, unpack: Unpacking | None, region: Region
    ) -> None:
        """See `Accumulator.add_stored`."""
        steps = self.groups.steps[region[self.axis]]
        steps_present, within = np.unique(steps, return_inverse=True)
        left_out = int((steps_present < 0).any())
        weights = (
            None
            if self.groups.weights is None
            else self.groups.weights[region[self.axis]]
        )
        moved = np.moveaxis(numbers, self.axis, 0)
        flat, rows = moved.reshape(len(moved), -1), steps_present.size - left_out
        gathered = self.statistic.start(
            (rows, flat.shape[1]),
            weighted=weights is not None,
            steps=len(flat),
            dtype=flat.dtype if unpack is None else None,
        )
        for part in cache_slices(flat.shape[1], rows_at_once(within)):
            self.statistic.take_stored(
                gathered.part(part), flat[:, part], unpack, within - left_out, weights
            )
        self._gathered = gathered.shaped((rows, *moved.shape[1:]))
        self._held = steps_present[left_out:]
        self._region = region[: self.axis] + region[self.axis + 1 :]

    def merge(self, other: Self) -> None:
        assert other._gathered is not None
        assert other._held is not None
        if self._gathered is None:
            self._gathered = self._empty()
            self._held, self._region = np.arange(self.groups.size), self._own_region()
        begin = [part.start for part in self._region]
        place = tuple(
            slice(part.start - start, part.stop - start)
            for part, start in zip(other._region, begin, strict=True)
        )
        self.statistic.merge(self._gathered, other._gathered, other._held, place)

    def restricted(self, region: Region) -> Self:
        """See `Accumulator.restricted`."""
        part = region[: self.axis] + region[self.axis + 1 :]
        origin = tuple(piece.start for piece in part)
        cells = tuple(piece.stop - piece.start for piece in part)
        return replace(self.start(), origin=origin, cells=cells)

    def _own_region(self) -> Region:
        origin = self.origin or (0,) * len(self.cells)
        return tuple(
            slice(n, n + size) for n, size in zip(origin, self.cells, strict=True)
        )

    def finish(self) -> dict[str, Array]:
        gathered = self._gathered or self._empty()
        results = self.statistic.finish(gathered)
        self.groups.report(
            self.groups.blank(results, gathered), gathered.count.size, self.statistic
        )
        return (
            {**results, "coverage": self.groups.share(gathered)}
            if self.coverage
            else results
        )

    def _empty(self) -> Gathered:
        # Single precision, so that what is for other values alone comes with these.
        return self.statistic.start(
            (self.groups.size, *self.cells),
            weighted=self.groups.weights is not None,
            dtype=np.dtype(np.float32),
        )


@dataclass
class GroupedSeries(SeriesKernel):
    """A measure of each group at each cell, from whole series. Parameters as for
    `GroupedStatistic`."""

    groups: Groups
    measure: Measure | Statistic
    axis: int
    dtype: np.dtype[Any]
    coverage: bool = False

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        names = (
            self.measure.results if isinstance(self.measure, Statistic) else ("value",)
        )
        described = dict.fromkeys(names, ((self.groups.size,), self.dtype))
        return (
            {**described, "coverage": ((self.groups.size,), np.dtype("f8"))}
            if self.coverage
            else described
        )

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        return self.of_stored(block, None)

    def of_stored(
        self, numbers: Array, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Counter[str]]:
        """See `SeriesKernel.of_stored`; some cells after the other, and percentiles among the
        numbers as they are."""
        groups, cells = self.groups, numbers.shape[1:]
        flat = numbers.reshape(len(numbers), -1)
        size, lost = flat.shape[1], 0
        out = {
            name: np.empty((groups.size, size), dtype)
            for name, (_, dtype) in self.outputs().items()
        }
        rows = len(flat) + groups.size
        if isinstance(self.measure, Measure):
            # The values of one group are put in order together, and no others with them.
            rows = int(np.bincount(groups.steps[groups.steps >= 0]).max(initial=1))
        for part in cache_slices(size, rows):
            results, gathered = grouped_measure(
                flat[:, part],
                groups.steps,
                groups,
                self.measure,
                groups.weights,
                unpack,
                groups.breaks,
            )
            lost += groups.blank(results, gathered)
            if self.coverage:
                results["coverage"] = groups.share(gathered)
            for name, values in results.items():
                out[name][:, part] = values
        shaped = {
            name: values.reshape(groups.size, *cells) for name, values in out.items()
        }
        return shaped, Counter(lost=lost, of=groups.size * size)

    def report(self, counts: Counter[str]) -> None:
        self.groups.report(counts["lost"], counts["of"], self.measure)


def tail_of(source: LazyArray, groups: Groups, measure: Measure) -> Tail | None:
    """Return what computes a percentile of each group from blocks in any split; None for other
    measures, and where too many values would be kept.
    """
    steps = groups.steps[groups.steps >= 0]
    if measure.share is None or not steps.size:
        return None
    stored, unpack = source.as_stored()
    in_order = unpack if unpack is not None and unpack.keeps_order else None
    kind = (source if in_order is None else stored).dtype.str
    tail = Tail(measure.share, int(np.bincount(steps).max()), kind, in_order)
    return tail if tail.kept <= _MOST_KEPT else None


def kernel_of(
    measure: Measure | Statistic, *, weighted: bool = False
) -> tuple[Measure | Statistic, str]:
    """Return the kernel of a measure whose parts can be merged, others as they are, and the name
    of the result.

    Parameters
    ----------
    measure : Measure or Statistic
    weighted : bool
        Whether a sum multiplies values by the weights of their steps.
    """
    if isinstance(measure, Measure) and measure.merges:
        return measure.statistic(weighted=weighted)
    return measure, "value"


def grouped_reduction(
    source: LazyArray,
    groups: Groups,
    measure: Measure | Statistic,
    axis: int,
    *,
    weighted: bool = False,
    coverage: bool = False,
    read_once: bool = False,
) -> tuple[Reduction, str]:
    """Return the pass that computes a measure of each group, and the name of its result.

    `weighted` says whether a sum multiplies values by the weights of their steps.

    Parameters
    ----------
    source : LazyArray
    groups : Groups
    measure : Measure or Statistic
        The statistic.
    axis : int
    weighted : bool
        Whether steps are weighted by their length.
    coverage : bool
        Whether the coverage is wanted as well.
    read_once : bool
        Whether the result is written or drawn as it is, and not read again for every step.
    """
    cells = source.shape[:axis] + source.shape[axis + 1 :]
    measure, name = kernel_of(measure, weighted=weighted)
    series = GroupedSeries(groups, measure, axis, np.dtype("f8"), coverage)
    parts = (
        measure if isinstance(measure, Statistic) else tail_of(source, groups, measure)
    )
    by_group = None
    if reads_each_chunk_once(source, groups, axis):
        by_group = GroupResults(source, groups, measure, axis, coverage=coverage)
        if by_group.largest_group > _LARGE_GROUP and parts is not None:
            by_group = GroupResults(source, groups, parts, axis, coverage=coverage)
    merged, state = None, 0
    if parts is not None:
        merged = GroupedStatistic(groups, parts, axis, cells, coverage)
        state = groups.size * int(np.prod(cells)) * parts.bytes_held
    rather_series = not isinstance(measure, Statistic)
    return Reduction(
        source, merged, series, state, by_group, read_once, rather_series
    ), name
