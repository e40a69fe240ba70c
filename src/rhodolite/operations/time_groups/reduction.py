"""Statistics of groups of time steps: merged block by block, or from whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Accumulator, Array, LazyArray, Reduction, Region, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.grouped_statistics import Count, Gathered, Statistic
from rhodolite.operations.parameters.statistic import Measure

Integers = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Groups:
    """Steps of time in groups, and how much of a group is needed.

    Attributes
    ----------
    label : str
        What is computed, for warnings, such as ``tas, 1991..2020``.
    noun : str
        What the results are called, such as ``normals``.
    steps : ndarray of int, shape (n,)
        Group of each step; -1 where it is left out.
    size : int
        Number of groups.
    weights : ndarray of float64, shape (n,), or None
        Lengths of the steps, where they differ.
    full : ndarray of float64, shape (size,)
        Weight of a group from which nothing is missing.
    coverage : float
        Share of that weight that a result needs.
    told : ndarray of bool, shape (size,), optional
        Groups that are known to be incomplete, and are not counted again.
    """

    label: str
    noun: str
    steps: Integers
    size: int
    weights: Array | None
    full: Array
    coverage: float
    told: NDArray[np.bool_] | None = None

    def part(self, rows: slice) -> Groups:
        """Return some of the groups; their steps are not changed."""
        told = None if self.told is None else self.told[rows]
        return replace(self, full=self.full[rows], size=rows.stop - rows.start, told=told)

    def share(self, gathered: Gathered) -> Array:
        """Return the share of each group that is there, shape (size, *cells)."""
        full = self.full.reshape(-1, *(1,) * (gathered.count.ndim - 1))
        return np.divide(gathered.total_weight, full)

    def blank(self, results: dict[str, Array], gathered: Gathered) -> int:
        """Set results from too few values to NaN, and return how many that were not missing
        anyway."""
        short = self.share(gathered) < self.coverage - 1e-9
        for values in results.values():
            values[short] = np.nan
        lost = short & (gathered.count > 0)
        return int((lost if self.told is None else lost[~self.told]).sum())

    def report(self, lost: int, of: int) -> None:
        """Warn of results that are missing since their groups are incomplete."""
        if lost:
            warn(
                "{label}: {lost:,} of {of:,} {noun} are missing, since too few values are there; "
                "--min-coverage changes how many are needed",
                label=self.label,
                noun=self.noun,
                lost=lost,
                of=of,
            )


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
    """

    groups: Groups
    statistic: Statistic
    axis: int
    cells: tuple[int, ...]
    coverage: bool = False
    _gathered: Gathered | None = None
    _held: Integers | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _gathered=None, _held=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        steps = self.groups.steps[region[self.axis]]
        held, within = np.unique(steps, return_inverse=True)
        left_out = int((held < 0).any())
        weights = None if self.groups.weights is None else self.groups.weights[region[self.axis]]
        block = np.moveaxis(block, self.axis, 0)
        self._gathered = self.statistic.gather(
            block, within - left_out, held.size - left_out, weights
        )
        self._held = held[left_out:]
        self._region = region[: self.axis] + region[self.axis + 1 :]

    def merge(self, other: Self) -> None:
        assert other._gathered is not None
        assert other._held is not None
        self._gathered = self._gathered or self._empty()
        self.statistic.merge(self._gathered, other._gathered, other._held, other._region)

    def finish(self) -> dict[str, Array]:
        gathered = self._gathered or self._empty()
        results = self.statistic.finish(gathered)
        self.groups.report(self.groups.blank(results, gathered), gathered.count.size)
        return {**results, "coverage": self.groups.share(gathered)} if self.coverage else results

    def _empty(self) -> Gathered:
        return self.statistic.start(
            (self.groups.size, *self.cells), weighted=self.groups.weights is not None
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
        names = self.measure.results if isinstance(self.measure, Statistic) else ("value",)
        made = dict.fromkeys(names, ((self.groups.size,), self.dtype))
        return (
            {**made, "coverage": ((self.groups.size,), np.dtype("f8"))} if self.coverage else made
        )

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        results, gathered = grouped_measure(
            block, self.groups.steps, self.groups, self.measure, self.groups.weights
        )
        lost = self.groups.blank(results, gathered)
        if self.coverage:
            results["coverage"] = self.groups.share(gathered)
        return results, Counter(lost=lost, of=gathered.count.size)

    def report(self, counts: Counter[str]) -> None:
        self.groups.report(counts["lost"], counts["of"])


def grouped_measure(
    block: Array,
    steps: Integers,
    groups: Groups,
    measure: Measure | Statistic,
    weights: Array | None,
) -> tuple[dict[str, Array], Gathered]:
    """Return a measure of each group of a block that holds all their values, and the counts behind
    it.

    Parameters
    ----------
    block : ndarray
        Values, shape (n, *cells).
    steps : ndarray of int
    groups : Groups
    measure : Measure or Statistic
        The statistic.
    weights : ndarray, optional
        Weights of the steps.
    """
    if isinstance(measure, Statistic):
        gathered = measure.gather(block, steps, groups.size, weights)
        return measure.finish(gathered), gathered
    values = np.full((groups.size, *block.shape[1:]), np.nan)
    for group in range(groups.size):
        members = np.flatnonzero(steps == group)
        if members.size:
            in_a_row = members[-1] - members[0] + 1 == members.size
            values[group] = measure.of_all(
                block[members[0] : members[-1] + 1] if in_a_row else block[members]
            )
    gathered = Count().gather(block, steps, groups.size, weights)
    values[gathered.count == 0] = np.nan
    return {"value": values}, gathered


def grouped_reduction(
    source: LazyArray,
    groups: Groups,
    measure: Measure | Statistic,
    axis: int,
    *,
    weighted: bool = False,
    coverage: bool = False,
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
    """
    cells = source.shape[:axis] + source.shape[axis + 1 :]
    name = "value"
    if isinstance(measure, Measure) and measure.merges:
        measure, name = measure.statistic(weighted=weighted)
    series = GroupedSeries(groups, measure, axis, np.dtype("f8"), coverage)
    if not isinstance(measure, Statistic):
        return Reduction(source, series=series), name
    merged = GroupedStatistic(groups, measure, axis, cells, coverage)
    return Reduction(
        source, merged, series, groups.size * int(np.prod(cells)) * measure.bytes_held
    ), name
