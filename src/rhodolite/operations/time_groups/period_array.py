"""Statistics of periods, computed when they are read: each block takes in the steps of its own
periods."""

from __future__ import annotations

import itertools

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.kernels.grouped_statistics import Gathered, Statistic
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.groups import Groups, grouped_measure

_PIECE = 16 << 20
"""Bytes of float64 that are read at once of a period whose statistic can be merged."""


class PeriodArray(LazyArray):
    """A measure of each period, where periods follow each other in time.

    Parameters
    ----------
    source : LazyArray
    groups : Groups
        In which the periods of the steps never decrease.
    measure : Measure
    axis : int
        Where time lies in the source and in the result.
    weighted : bool
        Whether a sum multiplies values by the lengths of their steps.
    coverage : bool
        Whether the share of each period that is there is wanted, and not the measure.
    """

    def __init__(
        self,
        source: LazyArray,
        groups: Groups,
        measure: Measure,
        axis: int,
        *,
        weighted: bool,
        coverage: bool,
    ) -> None:
        self._source = source
        self._groups = groups
        self._measure: Measure | Statistic = measure
        self._name = "value"
        if measure.merges:
            self._measure, self._name = measure.statistic(weighted=weighted)
        self._axis = axis
        self._coverage = coverage
        self._starts = np.searchsorted(groups.steps, np.arange(groups.size + 1))
        self.shape = tuple(groups.size if at == axis else n for at, n in enumerate(source.shape))
        self.dtype = np.dtype("f8")
        if source.chunks is not None:
            steps = max(1, source.shape[axis] // groups.size)
            self.chunks = tuple(
                max(1, c // steps) if at == axis else c for at, c in enumerate(source.chunks)
            )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        share = self._source.decoded_share
        # What merges is read piece by piece; for the rest a block holds all steps of a period.
        return (
            share
            if isinstance(self._measure, Statistic)
            else share * float(np.diff(self._starts).max())
        )

    def read(self, region: Region) -> Array:
        rows = region[self._axis]
        if rows.stop == rows.start:
            return np.empty([part.stop - part.start for part in region])
        if isinstance(self._measure, Statistic):
            results, gathered = self._merged(self._measure, region)
        else:
            results, gathered = self._row_by_row(self._measure, region)
        groups = self._groups.part(rows)
        if self._coverage:
            return np.moveaxis(groups.share(gathered), 0, self._axis)
        groups.report(groups.blank(results, gathered), gathered.count.size)
        return np.moveaxis(results[self._name], 0, self._axis)

    def _merged(self, statistic: Statistic, region: Region) -> tuple[dict[str, Array], Gathered]:
        rows, cells = region[self._axis], region[: self._axis] + region[self._axis + 1 :]
        shape = tuple(part.stop - part.start for part in cells)
        gathered = statistic.start(
            (rows.stop - rows.start, *shape), weighted=self._groups.weights is not None
        )
        for steps in self._pieces(rows, int(np.prod(shape))):
            weights = None if self._groups.weights is None else self._groups.weights[steps]
            numbers = self._groups.steps[steps] - rows.start
            statistic.take_all(gathered, self._block(region, steps), numbers, weights)
        return statistic.finish(gathered), gathered

    def _row_by_row(self, measure: Measure, region: Region) -> tuple[dict[str, Array], Gathered]:
        rows = region[self._axis]
        steps = slice(int(self._starts[rows.start]), int(self._starts[rows.stop]))
        weights = None if self._groups.weights is None else self._groups.weights[steps]
        groups = self._groups.part(rows)
        return grouped_measure(
            self._block(region, steps),
            self._groups.steps[steps] - rows.start,
            groups,
            measure,
            weights,
        )

    def _block(self, region: Region, steps: slice) -> Array:
        inner = (*region[: self._axis], steps, *region[self._axis + 1 :])
        return np.moveaxis(self._source.read(inner), self._axis, 0)

    def _pieces(self, rows: slice, cells: int) -> list[slice]:
        """Return stretches of steps that are small enough to hold, and end where chunks do."""
        first, last = int(self._starts[rows.start]), int(self._starts[rows.stop])
        chunk = self._source.chunks[self._axis] if self._source.chunks is not None else 1
        length = max(1, _PIECE // (8 * max(cells, 1)))
        length = max(length // chunk, 1) * chunk
        edges = [first, *range((first // length + 1) * length, last, length), last]
        return [slice(start, stop) for start, stop in itertools.pairwise(edges)]
