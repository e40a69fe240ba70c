"""Steps of time in groups: which step is in which, and how much of a group is needed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import IN_CACHE, Array, Unpacking
from rhodolite.errors import warn
from rhodolite.kernels.grouped_statistics import Count, Gathered, Statistic
from rhodolite.kernels.order_statistics import find_missing
from rhodolite.operations.parameters.statistic import Measure

Integers = NDArray[np.int64]
_FEWEST_CELLS = 64
"""Fewer cells than these at once cost more in calls than the cache gains."""


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
    breaks : ndarray of bool, shape (n,), optional
        Whether others are left out before a step, so that no run of values goes on there.
    """

    label: str
    noun: str
    steps: Integers
    size: int
    weights: Array | None
    full: Array
    coverage: float
    told: NDArray[np.bool_] | None = None
    breaks: NDArray[np.bool_] | None = None

    def part(self, rows: slice) -> Groups:
        """Return some of the groups; their steps are not changed."""
        of_rows = None if self.told is None else self.told[rows]
        return replace(
            self, full=self.full[rows], size=rows.stop - rows.start, told=of_rows
        )

    def share(self, gathered: Gathered) -> Array:
        """Return the share of each group that is there, shape (size, *cells)."""
        full = self.full.reshape(-1, *(1,) * (gathered.count.ndim - 1))
        return np.divide(gathered.total_weight, full)

    def blank(self, results: dict[str, Array], gathered: Gathered) -> int:
        """Set results from too few values to NaN, and return how many that were not missing
        anyway."""
        weight = gathered.total_weight
        if not weight.size:
            return 0
        # Where the counts of all cells are one number, it is not looked at for each.
        cells = tuple(slice(0, None if stride else 1) for stride in weight.strides[1:])
        least = weight[(slice(None), *cells)].min(axis=tuple(range(1, weight.ndim)))
        if (least / self.full >= self.coverage - 1e-9).all():
            return 0
        short = self.share(gathered) < self.coverage - 1e-9
        for values in results.values():
            values[short] = np.nan
        lost = short & (gathered.count > 0)
        return int((lost if self.told is None else lost[~self.told]).sum())

    def report(self, lost: int, of: int, measure: Measure | Statistic) -> None:
        """Warn of results of a measure that are missing since their groups are incomplete: some
        more `of` all that there are."""
        if lost:
            warn(
                "{label}: {lost:,} of {of} {noun} are missing, since too few values are there; "
                "--min-coverage changes how many are needed",
                label=self.label,
                noun=self.noun,
                lost=lost,
                of=f"{of:,}",
                measure=repr(measure),
            )


def rows_of_groups(steps: Integers, size: int) -> list[NDArray[np.intp]]:
    """Return where the steps of each group are, in order.

    Parameters
    ----------
    steps : ndarray of int
        Group of each; negative where it has none.
    size : int
        Number of groups.
    """
    order = np.argsort(steps, kind="stable")
    ends = np.searchsorted(steps[order], np.arange(size + 1))
    return np.split(order, ends)[1:-1]


def rows_at_once(steps: Integers) -> int:
    """Return how many rows, of steps and of groups, are worked on in turn at the same cells: those
    of the longest stretch of one group, or all of them where a group comes back.

    Parameters
    ----------
    steps : ndarray of int, shape (n,)
        Group of each.

    Examples
    --------
    >>> rows_at_once(np.array([0, 0, 0, 1])), rows_at_once(np.array([0, 1, 0]))
    (4, 5)
    """
    edges = np.flatnonzero(np.diff(steps, prepend=np.nan, append=np.nan))
    groups = np.unique(steps).size
    if edges.size - 1 > groups:
        return steps.size + groups
    return int(np.diff(edges).max(initial=0)) + 1


def cache_slices(cells: int, rows: int) -> Iterator[slice]:
    """Yield stretches of cells of which so many rows fit into a processor's cache."""
    step = max(_FEWEST_CELLS, IN_CACHE // (8 * max(rows, 1)))
    for start in range(0, cells, step):
        yield slice(start, min(start + step, cells))


def grouped_measure(
    block: Array,
    steps: Integers,
    groups: Groups,
    measure: Measure | Statistic,
    weights: Array | None,
    unpack: Unpacking | None = None,
    breaks: NDArray[np.bool_] | None = None,
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
    unpack : Unpacking, optional
        What makes values of the block, if it holds stored numbers.
    breaks : ndarray of bool, shape (n,), optional
        See `Groups`; of these steps.
    """
    if isinstance(measure, Statistic):
        values = block if unpack is None else unpack(block)
        gathered = measure.gather(values, steps, groups.size, weights)
        return measure.finish(gathered), gathered
    if unpack is not None and not unpack.keeps_order:
        block, unpack = unpack(block), None
    missing = find_missing(block, unpack)
    if not measure.is_run or breaks is None:
        breaks = np.zeros(len(block), dtype=bool)
    values = np.full((groups.size, *block.shape[1:]), np.nan)
    for group, rows in _rows_to_read(steps, groups.size):
        values[group] = _of_stretches(
            measure, block[rows], breaks[rows], unpack, whole=missing is None
        )
    if missing is None:
        return {"value": values}, _gathered_of_all(
            block.shape[1:], steps, groups.size, weights
        )
    gathered = Count().gather(
        np.where(missing, np.nan, 0.0), steps, groups.size, weights
    )
    values[gathered.count == 0] = np.nan
    return {"value": values}, gathered


def _rows_to_read(
    steps: Integers, size: int
) -> Iterator[tuple[int, slice | NDArray[np.intp]]]:
    """Yield groups with where their steps are: a slice, which copies nothing, where these stand in
    a row."""
    if size == 1 and (steps == 0).all():
        yield 0, slice(None)
        return
    for group, members in enumerate(rows_of_groups(steps, size)):
        if members.size:
            in_a_row = members[-1] - members[0] + 1 == members.size
            run = slice(members[0], members[-1] + 1)
            yield group, run if in_a_row else members


def _of_stretches(
    measure: Measure,
    block: Array,
    breaks: NDArray[np.bool_],
    unpack: Unpacking | None,
    *,
    whole: bool,
) -> Array:
    """Return a measure of a group: of runs the longest within one of the stretches between
    breaks."""
    stretches = np.split(block, np.flatnonzero(breaks[1:]) + 1)
    values = [measure.of_all(part, unpack, whole=whole) for part in stretches]
    return values[0] if len(values) == 1 else np.asarray(np.max(values, axis=0))


def _gathered_of_all(
    cells: tuple[int, ...], steps: Integers, size: int, weights: Array | None
) -> Gathered:
    """Return what is counted of groups of which no value is missing."""
    present, shape = steps >= 0, (size, *(1,) * len(cells))
    numbers = steps[present]
    count = np.bincount(numbers, minlength=size).astype(np.int32).reshape(shape)
    weight = None
    if weights is not None:
        summed = np.bincount(numbers, weights[present], minlength=size).reshape(shape)
        weight = np.broadcast_to(summed, (size, *cells))
    return Gathered(np.broadcast_to(count, (size, *cells)), weight)
