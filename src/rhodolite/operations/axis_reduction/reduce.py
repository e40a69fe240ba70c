"""Axes collapsed into groups of cells: areas, bands, or one for all. As a pass over the data, or
block by block."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

import numpy as np

from rhodolite.arrays import (
    IN_CACHE,
    Accumulator,
    Array,
    FirstAxisMoved,
    Flattened,
    LazyArray,
    Reduction,
    Region,
    SeriesKernel,
    Unpacking,
    whole,
)
from rhodolite.kernels.weighted_statistics import (
    Parts,
    finish,
    gather,
    gather_stored,
    merge,
    weighted_percentile,
)
from rhodolite.operations.parameters.statistic import Measure

_BYTES_HELD = 24
"""What the parts of most statistics take at each cell."""
_PIECE = 16 << 20
"""Bytes of float64 of the source that are worked on at once."""


@dataclass(frozen=True, eq=False)
class CellGroup:
    """Cells of the collapsed axes, flattened in the order of these axes, and their weights, all
    above zero."""

    cells: Array
    weights: Array

    @classmethod
    def of(cls, weights: Array) -> CellGroup:
        """Return the group of cells with a weight above zero; `weights` has one for each cell."""
        cells = np.flatnonzero(weights > 0)
        return cls(cells, weights[cells])

    def transposed(self, rows: int, columns: int) -> CellGroup:
        """Return the group for cells that are stored column by column, in place of row by row."""
        row, column = np.divmod(self.cells, columns)
        cells = column * rows + row
        order = np.argsort(cells)
        return CellGroup(cells[order], self.weights[order])


@dataclass(frozen=True, eq=False)
class AxisReduction:
    """What is made of some axes of an array.

    Attributes
    ----------
    axes : tuple of int
        Ascending.
    lengths : tuple of int
        Of these axes.
    groups : sequence of CellGroup
    measure : Measure
    coverage : float
        Share of the weight of a group that has to be there.
    grouped : bool
        Whether the result has an axis of groups; otherwise there is one group.
    """

    axes: tuple[int, ...]
    lengths: tuple[int, ...]
    groups: Sequence[CellGroup]
    measure: Measure
    coverage: float
    grouped: bool

    def kept(self, shape: Sequence[Any]) -> tuple[Any, ...]:
        """Return the entries of a shape or region that belong to axes that stay."""
        return tuple(n for axis, n in enumerate(shape) if axis not in self.axes)

    def shape(self, source: tuple[int, ...]) -> tuple[int, ...]:
        """Return the shape of the result, the axis of groups in the place of the first axis that
        goes."""
        lengths = list(self.kept(source))
        if self.grouped:
            lengths.insert(self.axes[0], len(self.groups))
        return tuple(lengths)

    def place(self, results: Array) -> Array:
        """Return results of shape (groups, *kept) in the shape of the result."""
        return np.moveaxis(results, 0, self.axes[0]) if self.grouped else results[0]

    def flat(self, block: Array) -> Array:
        """Return a block as shape (kept, cells)."""
        moved = np.moveaxis(
            block, self.axes, range(block.ndim - len(self.axes), block.ndim)
        )
        cells = int(np.prod([block.shape[axis] for axis in self.axes]))
        return moved.reshape(-1, cells)

    def results(self, flat: Array) -> Array:
        """Return the results for values of all cells, shape (kept, cells): shape (groups, kept)."""
        by_group = []
        for group in self.groups:
            values = flat if group.cells.size == flat.shape[1] else flat[:, group.cells]
            if self.measure.share is not None:
                percentiles = weighted_percentile(
                    values, group.weights, self.measure.share
                )
                parts = gather(values, group.weights, "count")
            else:
                parts = gather(values, group.weights, self.measure.kind)
                percentiles = finish(parts, self.measure.kind)
            by_group.append(self._blank(percentiles, parts, group))
        return np.stack(by_group)

    def finish(self, parts: Sequence[Parts]) -> Array:
        """Return the results for the parts of each group."""
        return np.stack(
            [
                self._blank(finish(part, self.measure.kind), part, group)
                for part, group in zip(parts, self.groups, strict=True)
            ]
        )

    def _blank(self, values: Array, parts: Parts, group: CellGroup) -> Array:
        if self.coverage > 0:
            values = np.where(
                parts["weight"] < self.coverage * group.weights.sum() - 1e-12,
                np.nan,
                values,
            )
        return values


def reduce_axes(source: LazyArray, work: AxisReduction, *, pull: bool) -> LazyArray:
    """Return the result as a lazy array: `pull` computes it as it is read, otherwise in one pass
    beforehand.

    Parameters
    ----------
    source : LazyArray
    work : AxisReduction
        Which axes, which weights, which statistic.
    pull : bool
        Whether it is computed as it is read, and not in a pass beforehand.
    """
    if pull:
        return AxisReducedArray(source, work)
    shape = work.shape(source.shape)
    if work.measure.share is None:
        state = len(work.groups) * int(np.prod(work.kept(source.shape))) * _BYTES_HELD
        reduction = Reduction(
            source, AxisReductionSums(work, source.shape), state=state
        )
    else:
        reduction = Reduction(
            Flattened(source, work.axes), series=AxisReductionSeries(work)
        )
    if not work.grouped:
        return reduction.output("value", shape)
    array = reduction.output("value", (len(work.groups), *work.kept(source.shape)))
    return array if work.axes[0] == 0 else FirstAxisMoved(array, work.axes[0])


@dataclass
class AxisReductionSums(Accumulator):
    """The parts of a statistic of each group, from blocks in any split."""

    work: AxisReduction
    shape: tuple[int, ...]
    in_pieces: ClassVar[bool] = True
    _parts: list[Parts] | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _parts=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        self.add_stored(block, None, region)

    def add_stored(
        self, numbers: Array, unpack: Unpacking | None, region: Region
    ) -> None:
        """See `Accumulator.add_stored`."""
        flat = self.work.flat(numbers)
        inner = [
            np.arange(region[axis].start, region[axis].stop) for axis in self.work.axes
        ]
        places = np.ravel_multi_index(np.ix_(*inner), self.work.lengths).reshape(-1)
        self._region = self.work.kept(region)
        region_shape = tuple(part.stop - part.start for part in self._region)
        self._parts = []
        for group in self.work.groups:
            cells, weights = _present(group, places, int(np.prod(self.work.lengths)))
            parts = self._gather(flat, cells, weights, unpack)
            self._parts.append(
                {name: part.reshape(region_shape) for name, part in parts.items()}
            )

    def _gather(
        self, flat: Array, cells: Array, weights: Array, unpack: Unpacking | None
    ) -> Parts:
        """Return the parts of one group from numbers of shape (kept, cells), some of them after
        the others."""
        kind, at_once = self.work.measure.kind, IN_CACHE // 8
        all_of = cells.size == flat.shape[1]
        rows = max(1, at_once // max(cells.size, 1))
        columns = max(1, at_once // min(rows, max(len(flat), 1)))
        parts: list[Parts] = []
        for row in range(0, max(len(flat), 1), rows):
            pieces = []
            for column in range(0, max(cells.size, 1), columns):
                some = slice(column, column + columns)
                numbers = flat[row : row + rows, some if all_of else cells[some]]
                pieces.append(gather_stored(numbers, unpack, weights[some], kind))
            parts.append(_merged(pieces))
        if len(parts) == 1:
            return parts[0]
        return {
            name: np.concatenate([part[name] for part in parts]) for name in parts[0]
        }

    def merge(self, other: Self) -> None:
        assert other._parts is not None
        if self._parts is None:
            shape = self.work.kept(self.shape)
            self._parts = [
                {
                    name: np.full(shape, np.nan if name in ("low", "high") else 0.0)
                    for name in parts
                }
                for parts in other._parts
            ]
            self._region = whole(shape)
        at: Any = (*other._region, ...)  # views, also of results without axes
        for ours, theirs in zip(self._parts, other._parts, strict=True):
            merge({name: part[at] for name, part in ours.items()}, theirs)

    def finish(self) -> dict[str, Array]:
        if self._parts is None:
            scaled = np.full(
                (len(self.work.groups), *self.work.kept(self.shape)), np.nan
            )
        else:
            scaled = self.work.finish(self._parts)
        return {"value": scaled if self.work.grouped else scaled[0]}


def _present(group: CellGroup, places: Array, size: int) -> tuple[Array, Array]:
    """Return which of the cells of a block, at some places among all, belong to a group, and their
    weights."""
    if places.size == size:
        return group.cells, group.weights
    positions = np.searchsorted(group.cells, places)
    positions[positions == group.cells.size] = 0
    cells = np.flatnonzero(group.cells[positions] == places)
    return cells, group.weights[positions[cells]]


def _merged(pieces: Sequence[Parts]) -> Parts:
    """Return the parts of cells that were gathered piece by piece."""
    if len(pieces) == 1:
        return pieces[0]
    merged = {name: np.array(part) for name, part in pieces[0].items()}
    for piece in pieces[1:]:
        merge(merged, piece)
    return merged


@dataclass
class AxisReductionSeries(SeriesKernel):
    """Percentiles of each group, from all their cells at once; the axes that go are flattened to
    one, the first."""

    work: AxisReduction
    axis: int = 0

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {
            "value": (
                (len(self.work.groups),) if self.work.grouped else (),
                np.dtype("f8"),
            )
        }

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        result = self.work.results(block.reshape(len(block), -1).T)
        result = result.reshape(len(result), *block.shape[1:])
        return {"value": result if self.work.grouped else result[0]}, Counter()


class AxisReducedArray(LazyArray):
    """The result, computed when it is read from all cells of the axes that go."""

    dtype = np.dtype("f8")

    def __init__(self, source: LazyArray, work: AxisReduction) -> None:
        self._source, self._work = source, work
        self.shape = work.shape(source.shape)
        if source.chunks is not None:
            self.chunks = work.shape(source.chunks)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        groups = len(self._work.groups) if self._work.grouped else 1
        return self._source.decoded_share * float(np.prod(self._work.lengths)) / groups

    def read(self, region: Region) -> Array:
        remaining = list(region)
        groups = (
            remaining.pop(self._work.axes[0]) if self._work.grouped else slice(0, 1)
        )
        for axis in self._work.axes:
            remaining.insert(axis, slice(0, self._source.shape[axis]))
        work = replace(self._work, groups=self._work.groups[groups])
        pieces = []
        # The first axis that stays is gone through in pieces, so that few values are held at once.
        first = next(
            (axis for axis in range(len(remaining)) if axis not in work.axes), None
        )
        if first is None:
            return np.asarray(
                work.place(
                    work.results(work.flat(self._source.read(tuple(remaining))))[:, 0]
                )
            )
        sizes = [part.stop - part.start for part in remaining]
        step = max(1, _PIECE // max(8 * int(np.prod(sizes)) // sizes[first], 1))
        for start in range(remaining[first].start, remaining[first].stop, step):
            inner = list(remaining)
            inner[first] = slice(start, min(start + step, remaining[first].stop))
            results = work.results(work.flat(self._source.read(tuple(inner))))
            shape = tuple(part.stop - part.start for part in work.kept(inner))
            pieces.append(work.place(results.reshape(len(results), *shape)))
        return np.concatenate(
            pieces, axis=1 if work.grouped and work.axes[0] == 0 else 0
        )
