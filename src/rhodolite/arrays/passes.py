"""Passes over all blocks of a source: what each does, and where its results go."""

from __future__ import annotations

import functools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

import numpy as np

from rhodolite.arrays.blocks import count_blocks, iterate_blocks
from rhodolite.arrays.lazy import InMemory, LazyArray, Region
from rhodolite.arrays.progress import Progress
from rhodolite.arrays.reduction import (
    Accumulator,
    Reduction,
    ResultOnDemand,
    Strategy,
    in_pieces,
)
from rhodolite.arrays.remote import RemoteExecutor, RemoteWork, merge_results
from rhodolite.arrays.schedule import Pass
from rhodolite.arrays.scratch import RechunkedScratch, ScratchBuffer
from rhodolite.arrays.tasks import cut_finer, partial_results, series_results, take_in

A = TypeVar("A")
"""What a task works on: a block, or the blocks of a visit."""
T = TypeVar("T")
Outputs = Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]
_SHARE_OF_SENT = 16
"""Merged results of more than this part of the memory are sent in parts."""


class BlockStream(Protocol):
    """Works on the blocks of an array in order, with bounded memory: an engine."""

    executor: RemoteExecutor | None
    memory: int
    progress: Progress

    def keeps_on_disk(self, nbytes: int) -> bool: ...
    def prepare(self, arrays: Iterable[LazyArray]) -> None: ...
    def blocks(
        self, array: LazyArray, *, as_stored: bool = False
    ) -> tuple[tuple[int, ...], int, Iterator[Region]]: ...
    def in_units(
        self, array: LazyArray, unit: tuple[int, ...]
    ) -> tuple[LazyArray, tuple[int, ...]]: ...
    def stream(
        self,
        function: Callable[[A], T],
        regions: Iterable[A],
        what: str,
        total: int,
        nbytes: int = 0,
    ) -> Iterator[tuple[A, T]]: ...


@dataclass(frozen=True)
class PassRunner:
    """Carries out passes.

    Parameters
    ----------
    engine : BlockStream
    what : str
        What is done, in words for those who watch.
    """

    engine: BlockStream
    what: str

    def run(self, each: Pass) -> None:
        """Carry out a pass, and keep its results with those who need them."""
        if each.scratch is not None:
            self._fill(each.scratch)
        elif each.strategy is Strategy.BY_SERIES:
            self._work_by_series(each.source, each.reductions)
        elif each.strategy is Strategy.BY_GROUP:
            self._work_by_group(each.reductions[0])
        else:
            self._reduce(each.source, each.reductions)

    def _reduce(self, source: LazyArray, reductions: list[Reduction]) -> None:
        accumulators = [r.accumulator for r in reductions if r.accumulator is not None]
        gathered = [accumulator.start() for accumulator in accumulators]
        if source.size:
            stored, unpack = source.as_stored()
            work_on = functools.partial(partial_results, stored, unpack)
            _, total, regions = self.engine.blocks(
                stored, as_stored=in_pieces(reductions)
            )
            if self.engine.executor is None:
                task = functools.partial(work_on, accumulators)
                for _, partials in self.engine.stream(
                    task, regions, self.what, total, source.nbytes
                ):
                    merge_results(gathered, partials)
            else:
                self._merge_there(
                    gathered,
                    work_on,
                    reductions,
                    list(regions),
                    stored.nbytes,
                )
        for reduction, result in zip(reductions, gathered, strict=True):
            reduction.keep(result.finish())

    def _merge_there(
        self,
        gathered: list[Accumulator],
        work_on: Callable[[list[Accumulator], Region], list[Accumulator]],
        reductions: list[Reduction],
        regions: list[Region],
        nbytes: int,
    ) -> None:
        """Merge the results of all blocks on other machines, and put them into what is gathered."""
        assert self.engine.executor is not None
        parts = self._parts_over_space(reductions, regions)
        state = sum(reduction.state for reduction in reductions) // len(parts)
        for some, accumulators in parts:
            task = functools.partial(work_on, accumulators)
            work = RemoteWork(
                self.engine.executor, self.engine.memory, self.engine.progress
            )
            size = nbytes * len(some) // len(regions)
            merged = work.merge(task, some, size, state, self.what)
            if len(parts) == 1:
                gathered[:] = merged
            else:
                merge_results(gathered, merged)

    def _parts_over_space(
        self, reductions: list[Reduction], regions: list[Region]
    ) -> list[tuple[list[Region], list[Accumulator]]]:
        """Return blocks that are merged together on other machines, and what takes them in: all at
        once, or those of one part of space after the other where all results are too large to be
        sent from one machine to the next."""
        accumulators = [r.accumulator for r in reductions if r.accumulator is not None]
        axes = {r.series.axis for r in reductions if r.series is not None}
        state = sum(reduction.state for reduction in reductions)
        parts = None
        if len(axes) == 1 and state > self.engine.memory // _SHARE_OF_SENT:
            parts = _restrict_to_places(accumulators, regions, axes.pop())
        return parts or [(regions, accumulators)]

    def _work_by_series(self, source: LazyArray, reductions: list[Reduction]) -> None:
        works = [r.series for r in reductions if r.series is not None]
        axis = works[0].axis
        data, block = self.engine.in_units(
            source, (*(1,) * axis, source.shape[axis], *(1,) * (source.ndim - axis - 1))
        )
        self.engine.prepare([data])
        block = cut_finer(data, block, axis)
        cells = source.shape[:axis] + source.shape[axis + 1 :]
        tile = block[:axis] + block[axis + 1 :]
        rooms = [self._make_room(work.outputs(), cells, tile) for work in works]
        for work, room in zip(works, rooms, strict=True):
            for name, shape in work.totals().items():
                room[name] = InMemory(np.zeros(shape))
        counts: list[Counter[str]] = [Counter() for _ in works]
        task = functools.partial(series_results, *data.as_stored(), works)
        regions = iterate_blocks(source.shape, block) if source.size else iter(())
        total = count_blocks(source.shape, block) if source.size else 0
        for region, results in self.engine.stream(
            task, regions, self.what, total, source.nbytes
        ):
            inner = region[:axis] + region[axis + 1 :]
            for work, room, count, (values, noted) in zip(
                works, rooms, counts, results, strict=True
            ):
                count.update(noted)
                take_in(room, values, inner, work.totals())
        for reduction, work, room, count in zip(
            reductions, works, rooms, counts, strict=True
        ):
            work.report(count)
            reduction.results = dict(room)

    def _work_by_group(self, reduction: Reduction) -> None:
        work = reduction.by_group
        assert work is not None
        tile = work.chunks[1:]
        outputs = dict.fromkeys(work.names, ((), np.dtype("f8")))
        room = self._make_room(outputs, work.shape, (1, *tile))
        blocks = ResultOnDemand(work, work.names[0])
        _, total, regions = self.engine.blocks(blocks)
        for region, results in self.engine.stream(
            work.read, regions, self.what, total, blocks.nbytes
        ):
            for name, part in results.items():
                room[name].put(region, part)
        reduction.results = dict(room)

    def _make_room(
        self, outputs: Outputs, cells: tuple[int, ...], tile: tuple[int, ...]
    ) -> dict[str, ScratchBuffer | InMemory]:
        """Return where results go, given their shapes before the cells and their types: memory
        where they are small, a scratch file otherwise."""
        buffers: dict[str, ScratchBuffer | InMemory] = {}
        for name, (before, dtype) in outputs.items():
            shape = (*before, *cells)
            small = not shape or not self.engine.keeps_on_disk(
                math.prod(shape) * dtype.itemsize
            )
            buffers[name] = (
                InMemory(np.empty(shape, dtype))
                if small
                else ScratchBuffer(shape, dtype, (*before, *tile))
            )
        return buffers

    def _fill(self, scratch: RechunkedScratch) -> None:
        scratch.open()
        if scratch.size:
            _, total, regions = self.engine.blocks(scratch.source, as_stored=True)
            for _ in self.engine.stream(
                scratch.take, regions, "rechunking to scratch", total, scratch.nbytes
            ):
                pass
        scratch.filled = True


def _restrict_to_places(
    accumulators: list[Accumulator], regions: list[Region], axis: int
) -> list[tuple[list[Region], list[Accumulator]]] | None:
    """Return the blocks of each part of space with what takes in that part alone; None where there
    is one part, or something takes in all at once."""
    parts = []
    for some in _group_by_place(regions, axis):
        restricted = [whole.restricted(some[0]) for whole in accumulators]
        of_part = [part for part in restricted if part is not None]
        if len(of_part) < len(accumulators):
            return None
        parts.append((some, of_part))
    return parts if len(parts) > 1 else None


def _group_by_place(regions: list[Region], axis: int) -> list[list[Region]]:
    """Return blocks in groups of those that differ along one axis alone."""
    columns: dict[tuple[int, ...], list[Region]] = {}
    for region in regions:
        place = tuple(part.start for part in region[:axis] + region[axis + 1 :])
        columns.setdefault(place, []).append(region)
    return list(columns.values())
