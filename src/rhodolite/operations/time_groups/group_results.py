"""Statistics of groups of steps, computed group by group when they are read.

Where chunks hold single steps, all that a group needs can be read by itself: the maps of 1 January
of all years, then those of 2 January. Each chunk is decoded once, and no more than one map of each
result is held, whatever the number of groups.
"""

from __future__ import annotations

import itertools
import threading

import numpy as np

from rhodolite.arrays import Array, LazyArray, OnDemand, Region
from rhodolite.kernels.grouped_statistics import Gathered, Statistic
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.groups import Groups, grouped_measure

_PIECE = 32 << 20
"""Bytes of float64 that are read at once of a group whose statistic can be merged."""


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
    """

    def __init__(
        self,
        source: LazyArray,
        groups: Groups,
        measure: Measure | Statistic,
        axis: int,
        *,
        coverage: bool,
    ) -> None:
        self.source = source
        self.shape = (groups.size, *source.shape[:axis], *source.shape[axis + 1 :])
        names = measure.results if isinstance(measure, Statistic) else ("value",)
        self.names = (*names, "coverage") if coverage else names
        chunks = source.chunks or (1,) * source.ndim
        self.chunks = (1, *chunks[:axis], *chunks[axis + 1 :])
        self._groups = groups
        self._measure = measure
        self._axis = axis
        order = np.argsort(groups.steps, kind="stable")
        edges = np.searchsorted(groups.steps[order], np.arange(groups.size + 1))
        self._members = [order[a:b] for a, b in itertools.pairwise(edges)]
        self._last = threading.local()

    def __getstate__(self) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != "_last"}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state, _last=threading.local())

    @property
    def largest(self) -> int:
        """How many steps the largest group has."""
        return max((members.size for members in self._members), default=0)

    @property
    def held_share(self) -> float:
        """How many values are held for each that is read."""
        merges = isinstance(self._measure, Statistic)
        width = self.source.dtype.itemsize / 8
        return self.source.decoded_share * (1.0 if merges else max(1.0, self.largest * width))

    def read(self, region: Region) -> dict[str, Array]:
        """Return the results by name for some groups and cells."""
        if len(self.names) == 1:
            return self._compute(region)
        # Of several results of one reduction each asks for the same block in turn, and may change
        # what it gets.
        key = tuple((part.start, part.stop) for part in region)
        if getattr(self._last, "key", None) != key:
            self._last.key, self._last.found = key, self._compute(region)
        return {name: values.copy() for name, values in self._last.found.items()}

    def _compute(self, region: Region) -> dict[str, Array]:
        rows, cells = region[0], region[1:]
        shape = tuple(part.stop - part.start for part in cells)
        out = {name: np.empty((rows.stop - rows.start, *shape)) for name in self.names}
        lost, of = 0, 0
        for row, group in enumerate(range(rows.start, rows.stop)):
            results, gathered = self._one(group, cells, shape)
            groups = self._groups.part(slice(group, group + 1))
            lost += groups.blank(results, gathered)
            of += gathered.count.size
            if "coverage" in out:
                results["coverage"] = groups.share(gathered)
            for name, values in results.items():
                out[name][row] = values[0]
        self._groups.report(lost, of)
        return out

    def _one(
        self, group: int, cells: Region, shape: tuple[int, ...]
    ) -> tuple[dict[str, Array], Gathered]:
        """Return the results of one group, and what was gathered for them."""
        members, weights = self._members[group], self._groups.weights
        if not isinstance(self._measure, Statistic):
            block = self._values(members, cells, shape)
            along = None if weights is None else weights[members]
            alone = self._groups.part(slice(group, group + 1))
            steps = np.zeros(members.size, np.int64)
            return grouped_measure(block, steps, alone, self._measure, along)
        gathered = self._measure.start((1, *shape), weighted=weights is not None)
        length = max(1, _PIECE // (8 * max(int(np.prod(shape)), 1)))
        for start in range(0, members.size, length):
            steps = members[start : start + length]
            along = None if weights is None else weights[steps]
            self._measure.take(gathered, 0, self._values(steps, cells, shape), along)
        return self._measure.finish(gathered), gathered

    def _values(self, steps: Array, cells: Region, shape: tuple[int, ...]) -> Array:
        """Return the values of some steps, time first; those in a row are read at once."""
        edges = [0, *(np.flatnonzero(np.diff(steps) != 1) + 1), steps.size]
        runs = [(start, stop) for start, stop in itertools.pairwise(edges) if stop > start]
        if len(runs) == 1:
            return self._run(steps, cells)
        out = np.empty((steps.size, *shape), self.source.dtype)
        for start, stop in runs:
            out[start:stop] = self._run(steps[start:stop], cells)
        return out

    def _run(self, steps: Array, cells: Region) -> Array:
        """Return the values of steps in a row, time first."""
        run = slice(int(steps[0]), int(steps[-1]) + 1)
        inner = (*cells[: self._axis], run, *cells[self._axis :])
        return np.moveaxis(self.source.read(inner), self._axis, 0)


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
    held = groups.steps >= 0
    pairs = np.stack([np.flatnonzero(held) // length, groups.steps[held]])
    return bool(np.unique(pairs, axis=1).shape[1] == np.unique(pairs[0]).size)
