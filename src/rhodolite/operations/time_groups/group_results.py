"""Statistics of groups of steps, computed for some groups when they are read.

Where groups are neighbours in time (periods), the steps of those that are read come in one; where
they are not (phases of a cycle), group by group: the maps of 1 January of all years, then those of
2 January. Either way each chunk is decoded once, if it holds no steps of two groups, and no more
than some maps are held, whatever the number of groups.
"""

from __future__ import annotations

import itertools
import math
import threading
from collections.abc import Iterator

import numpy as np
from numpy.typing import DTypeLike

from rhodolite.arrays import Array, LazyArray, OnDemand, Region
from rhodolite.kernels.grouped_statistics import Gathered, Statistic, Tail
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.groups import (
    Groups,
    cache_slices,
    grouped_measure,
)

_PIECE = 16 << 20
"""Stored bytes that are read at once of groups whose statistic can be merged."""


class GroupResults(OnDemand):
    """A measure of each group at each cell, and the share of each group that is there.

    Parameters
    ----------
    source : LazyArray
    groups : Groups
    measure : Measure or Statistic
    axis : int
        Where time lies in the source; in the results groups come first.
    coverage : bool
        Whether the share of each group that is there is a result too.
    reports : bool
        Whether it is said how many results are missing.
    """

    def __init__(
        self,
        source: LazyArray,
        groups: Groups,
        measure: Measure | Statistic,
        axis: int,
        *,
        coverage: bool,
        reports: bool = True,
    ) -> None:
        self.source = source
        self.shape = (groups.size, *source.shape[:axis], *source.shape[axis + 1 :])
        names = measure.results if isinstance(measure, Statistic) else ("value",)
        self.names = (*names, "coverage") if coverage else names
        self._stored, self._unpack = source.as_stored()
        self._groups = groups
        self._measure = measure
        self._axis = axis
        self._reports = reports
        order = np.argsort(groups.steps, kind="stable")
        edges = np.searchsorted(groups.steps[order], np.arange(groups.size + 1))
        self._members = [order[a:b] for a, b in itertools.pairwise(edges)]
        self._in_a_row = bool((np.diff(order[edges[0] :]) == 1).all())
        self.chunks = self._cheapest()
        self._last = threading.local()

    def _cheapest(self) -> tuple[int, ...]:
        chunks = self.source.chunks or (1,) * self.source.ndim
        length = max(1, self.source.shape[self._axis] // max(self._groups.size, 1))
        rows = max(1, chunks[self._axis] // length) if self._in_a_row else 1
        return (rows, *chunks[: self._axis], *chunks[self._axis + 1 :])

    def __getstate__(self) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != "_last"}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state, _last=threading.local())

    @property
    def largest_group(self) -> int:
        """Bytes of the stored numbers of the largest group at the cells of a block."""
        steps = max((members.size for members in self._members), default=0)
        return steps * math.prod(self.chunks[1:]) * self._stored.dtype.itemsize

    @property
    def held_share(self) -> float:
        """How many values are held for each that is read."""
        if isinstance(self._measure, Tail):
            share = self._measure.bytes_held / 8
        elif isinstance(self._measure, Statistic):
            share = 1.0
        else:
            share = self.largest_group / max(8 * math.prod(self.chunks[1:]), 1)
        return self.source.decoded_share * max(1.0, share)

    def read(self, region: Region, dtype: DTypeLike = np.float64) -> dict[str, Array]:
        """Return the results by name for some groups and cells."""
        if len(self.names) == 1:
            return self._compute(region, dtype)
        # Of several results of one reduction each asks for the same block in turn, and may change
        # what it gets.
        key = tuple((part.start, part.stop) for part in region)
        if getattr(self._last, "key", None) != key:
            self._last.key, self._last.found = key, self._compute(region, np.float64)
        return {name: values.astype(dtype) for name, values in self._last.found.items()}

    def _compute(self, region: Region, dtype: DTypeLike) -> dict[str, Array]:
        rows, cells = region[0], region[1:]
        shape = tuple(part.stop - part.start for part in cells)
        count, size = rows.stop - rows.start, int(np.prod(shape))
        out = {name: np.empty((count, size), dtype) for name in self.names}
        lost = 0
        for sitting in self._sittings(rows):
            groups = self._groups.part(sitting)
            at = slice(sitting.start - rows.start, sitting.stop - rows.start)
            for part, results, gathered in self._results(sitting, groups, cells, size):
                lost += groups.blank(results, gathered)
                if "coverage" in out:
                    results["coverage"] = groups.share(gathered)
                for name, values in results.items():
                    out[name][at, part] = values
        if self._reports:
            self._groups.report(lost, int(np.prod(self.shape)), self._measure)
        return {name: values.reshape(count, *shape) for name, values in out.items()}

    def _sittings(self, rows: slice) -> list[slice]:
        """Return which groups are worked on together."""
        if self._in_a_row:
            return [rows] if rows.stop > rows.start else []
        return [slice(row, row + 1) for row in range(rows.start, rows.stop)]

    def _results(
        self, sitting: slice, groups: Groups, cells: Region, size: int
    ) -> Iterator[tuple[slice, dict[str, Array], Gathered]]:
        """Yield, for some cells after the other, the results of groups that are worked on
        together, and what was gathered for them."""
        members = np.concatenate(self._members[sitting])
        pieces = self._pieces(members, size)
        longest = max(piece.size for piece in pieces)
        alone = groups.size == 1 and len(pieces) == 1 and self._groups.weights is None
        results: dict[int, Gathered] = {}
        for piece in pieces:
            numbers = self._read(piece, cells).reshape(piece.size, size)
            weights = (
                None if self._groups.weights is None else self._groups.weights[piece]
            )
            rows = self._groups.steps[piece] - sitting.start
            for part in cache_slices(size, longest + groups.size):
                block = numbers[:, part]
                if not isinstance(self._measure, Statistic):
                    yield part, *self._measured(block, rows, groups, piece)
                    continue
                if alone and (complete := self._result_of_whole(block)):
                    yield part, *complete
                    continue
                gathered = results.pop(part.start, None)
                if gathered is None:
                    gathered = self._started(block, groups.size, weights is not None)
                self._measure.take_stored(gathered, block, self._unpack, rows, weights)
                if piece is pieces[-1]:
                    yield part, self._measure.finish(gathered), gathered
                else:
                    results[part.start] = gathered

    def _measured(
        self, block: Array, rows: Array, groups: Groups, piece: Array
    ) -> tuple[dict[str, Array], Gathered]:
        weights, breaks = (
            None if known is None else known[piece]
            for known in (groups.weights, groups.breaks)
        )
        return grouped_measure(
            block, rows, groups, self._measure, weights, self._unpack, breaks
        )

    def _result_of_whole(
        self, block: Array
    ) -> tuple[dict[str, Array], Gathered] | None:
        """Return the result of a group that is in one block without a gap; None where the statistic
        has no quicker way for it."""
        assert isinstance(self._measure, Statistic)
        results = self._measure.of_whole(block, self._unpack)
        if not results:
            return None
        count = np.broadcast_to(np.int32(len(block)), (1, block.shape[1]))
        return {n: v[None] for n, v in results.items()}, Gathered(count, None)

    def _started(self, block: Array, groups: int, weighted: bool) -> Gathered:
        """Return an empty accumulator for the cells of a block."""
        assert isinstance(self._measure, Statistic)
        return self._measure.start(
            (groups, block.shape[1]),
            weighted=weighted,
            dtype=block.dtype if self._unpack is None else None,
        )

    def _pieces(self, members: Array, cells: int) -> list[Array]:
        """Return steps in stretches that are small enough to hold, and end where chunks do."""
        if not isinstance(self._measure, Statistic):
            return [members]
        length = max(1, _PIECE // (self._stored.dtype.itemsize * max(cells, 1)))
        if members.size <= length:
            return [members]
        if not self._in_a_row:
            return np.split(members, range(length, members.size, length))
        chunk = self.source.chunks[self._axis] if self.source.chunks is not None else 1
        length = max(length // chunk, 1) * chunk
        first = int(members[0])
        edges = range((first // length + 1) * length, first + members.size, length)
        return np.split(members, [edge - first for edge in edges])

    def _read(self, steps: Array, cells: Region) -> Array:
        """Return the stored numbers of some steps, time first; those in a row are read at once."""
        edges = [0, *(np.flatnonzero(np.diff(steps) != 1) + 1), steps.size]
        runs = [
            (start, stop) for start, stop in itertools.pairwise(edges) if stop > start
        ]
        if len(runs) == 1:
            return self._run(steps, cells)
        shape = tuple(part.stop - part.start for part in cells)
        out = np.empty((steps.size, *shape), self._stored.dtype)
        for start, stop in runs:
            out[start:stop] = self._run(steps[start:stop], cells)
        return out

    def _run(self, steps: Array, cells: Region) -> Array:
        """Return the stored numbers of steps in a row, time first."""
        run = slice(int(steps[0]), int(steps[-1]) + 1)
        inner = (*cells[: self._axis], run, *cells[self._axis :])
        return np.moveaxis(self._stored.read(inner), self._axis, 0)


def reads_each_chunk_once(source: LazyArray, groups: Groups, axis: int) -> bool:
    """Return whether no chunk of an array holds steps of two groups.

    Parameters
    ----------
    source : LazyArray
    groups : Groups
    axis : int
        Where time lies in the source.
    """
    if source.chunks is None or not groups.steps.size:
        return False
    length = max(1, source.chunks[axis])
    if length == 1:
        return True
    present = groups.steps >= 0
    pairs = np.stack([np.flatnonzero(present) // length, groups.steps[present]])
    return bool(np.unique(pairs, axis=1).shape[1] == np.unique(pairs[0]).size)
