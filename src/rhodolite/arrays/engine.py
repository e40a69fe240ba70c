"""Streaming execution: blocks go through an executor, in order and with bounded memory."""

from __future__ import annotations

import functools
import math
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, TypeVar

import numpy as np

from rhodolite.arrays.blocks import count_blocks, iterate_blocks
from rhodolite.arrays.chunk_cache import ChunkCache, WithCache
from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Region, Unpacked, whole
from rhodolite.arrays.progress import Progress, Silent
from rhodolite.arrays.reduction import (
    Accumulator,
    Reduction,
    ResultOnDemand,
    Strategy,
    in_pieces,
)
from rhodolite.arrays.remote import RemoteExecutor, RemoteWork, merge_results
from rhodolite.arrays.schedule import find_passes
from rhodolite.arrays.scratch import RechunkedScratch, ScratchBuffer
from rhodolite.arrays.tasks import (
    cut_finer,
    partial_results,
    series_results,
    take_in,
)
from rhodolite.arrays.tiling import COPIES, block_limit, shape_in_units, shape_of_blocks
from rhodolite.arrays.visits import InOneVisit, Visits, find_visits
from rhodolite.errors import DataError
from rhodolite.limits import check_held, machine_memory, usable_cores
from rhodolite.plain_text import file_size

A = TypeVar("A")
"""What a task works on: a block, or the blocks of a visit."""
T = TypeVar("T")
Outputs = Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]
_ALWAYS_ALLOWED = 256 << 20
"""Bytes that a block may take however little memory is allowed."""
_SHARE_OF_PIECES = 8
"""This part of the memory is for decoded chunks that several blocks need."""
_SHARE_OF_SENT = 16
"""Merged results of more than this part of the memory are sent in parts."""
_SHARE_OF_RESULTS = 8
"""Results of more than this part of the memory go into a scratch file."""


@dataclass
class Engine:
    """Runs work over blocks.

    Parameters
    ----------
    workers : int
        How many blocks are worked on at once.
    memory : int
        Bytes that the blocks in flight may take together.
    executor : RemoteExecutor, optional
        Where blocks are computed; a pool of threads by default.
    progress : Progress
    cache : ChunkCache
        Decoded chunks that several blocks need, kept for a while.
    """

    workers: int = field(default_factory=usable_cores)
    memory: int = field(default_factory=lambda: usual_memory())
    executor: RemoteExecutor | None = None
    progress: Progress = field(default_factory=Silent)
    cache: ChunkCache = field(init=False, repr=False)

    def __post_init__(self) -> None:
        self.cache = ChunkCache(self.memory // _SHARE_OF_PIECES)

    @property
    def block_limit(self) -> int:
        """Bytes of one block."""
        return block_limit(self.memory)

    def in_flight(self, block: int, reserved: int = 0) -> int:
        """Return how many blocks of so many bytes are worked on or waiting to be used at once.

        `reserved` says what one takes meanwhile, where that is not a few copies of it.
        """
        reserved = reserved or COPIES * max(block, self.block_limit)
        return max(1, min(self.workers + 1, self.memory // reserved))

    def keeps_on_disk(self, nbytes: int) -> bool:
        """Return whether results of so many bytes go into a scratch file, which other machines
        could not read."""
        return self.executor is None and nbytes > self.memory // _SHARE_OF_RESULTS

    def blocks(
        self,
        array: LazyArray,
        chunks: tuple[int, ...] | None = None,
        *,
        as_stored: bool = False,
    ) -> tuple[tuple[int, ...], int, Iterator[Region]]:
        """Return block shape, number of blocks and the blocks themselves for an array; see
        `shape_of_blocks`."""
        block = shape_of_blocks(array, self.block_limit, chunks, as_stored=as_stored)
        self._check_block(array, block)
        return (
            block,
            count_blocks(array.shape, block),
            iterate_blocks(array.shape, block),
        )

    def _check_block(self, array: LazyArray, block: tuple[int, ...]) -> None:
        """Refuse blocks, none of which fits into the memory allowed."""
        needed = 2 * math.prod(block) * array.dtype.itemsize
        if needed > max(self.memory, _ALWAYS_ALLOWED):
            raise DataError(
                f"{array.origin or 'the data'}: pieces of {' x '.join(map(str, block))} values "
                f"take {file_size(needed)} while they are decoded, and --memory allows "
                f"{file_size(self.memory)}; --memory {-(-needed >> 30) + 1}GiB would do"
            )

    def stream(
        self,
        function: Callable[[A], T],
        regions: Iterable[A],
        what: str,
        total: int,
        nbytes: int = 0,
        *,
        takes_memory: bool = True,
        reserved: int = 0,
    ) -> Iterator[tuple[A, T]]:
        """Yield (region, function(region)) in order, with few results waiting at any time.

        `what` is done in words, with `total` regions of `nbytes` in all, for those who watch.
        `takes_memory` says whether what comes back takes memory, or has been put where it
        belongs; `reserved` how many bytes one region takes meanwhile, where that is not what a
        block takes.
        """
        if self.executor is not None:
            work = RemoteWork(self.executor, self.memory, self.progress)
            yield from work.stream(function, regions, what, total, nbytes, takes_memory)
            return
        task = WithCache(function, self.cache)
        if total == 1:  # for which threads would take longer to start than to work
            yield from self._work_here(task, regions, what, nbytes)
            return
        executor = ThreadPoolExecutor(self.workers)
        waiting: deque[tuple[A, Future[T]]] = deque()
        upcoming = iter(regions)
        self.progress.begin(what, total, nbytes)
        try:
            for region in islice(
                upcoming, self.in_flight(nbytes // max(total, 1), reserved)
            ):
                waiting.append((region, executor.submit(task, region)))
            while waiting:
                region, future = waiting.popleft()
                result = future.result()
                for following in islice(upcoming, 1):
                    waiting.append((following, executor.submit(task, following)))
                yield region, result
                self.progress.advance()
        finally:
            for _, future in waiting:
                future.cancel()
            executor.shutdown(wait=True, cancel_futures=True)
            self.progress.end()

    def _work_here(
        self, task: Callable[[A], T], regions: Iterable[A], what: str, nbytes: int
    ) -> Iterator[tuple[A, T]]:
        self.progress.begin(what, 1, nbytes)
        try:
            for region in regions:
                yield region, task(region)
                self.progress.advance()
        finally:
            self.progress.end()

    def prepare(self, arrays: Iterable[LazyArray], what: str = "reducing") -> None:
        """Run every pass that the arrays depend on and that has not been run yet."""
        for each_pass in find_passes(
            arrays, self.memory, remote=self.executor is not None
        ):
            if each_pass.scratch is not None:
                self._fill(each_pass.scratch)
            elif each_pass.strategy is Strategy.BY_SERIES:
                self._work_by_series(each_pass.source, each_pass.reductions, what)
            elif each_pass.strategy is Strategy.BY_GROUP:
                self._work_by_group(each_pass.reductions[0], what)
            else:
                self._reduce(each_pass.source, each_pass.reductions, what)

    def in_units(
        self, array: LazyArray, unit: tuple[int, ...]
    ) -> tuple[LazyArray, tuple[int, ...]]:
        """Return an array, and the shape of blocks of whole units in which it can be read at little
        cost.

        Where it would cost too much (`shape_in_units`), the array returned is one that is decoded
        once into a scratch file. It has to be prepared.

        Parameters
        ----------
        unit : tuple of int
            Shape of the pieces that must not be cut.
        """
        block, rechunked = shape_in_units(array, unit, self.block_limit)
        self._check_block(array, block)
        if self.executor is not None or not rechunked:
            return array, block
        stored, unpack = array.as_stored()
        scratch = RechunkedScratch(stored, block)
        return (
            scratch if unpack is None else Unpacked(scratch, unpack, array.dtype)
        ), block

    def visits(self, array: LazyArray, unit: tuple[int, ...]) -> Visits | None:
        """Return the visits by which an array is best written in units of a shape; None where the
        order of storage is best."""
        if array.groups_of_blocks is None or not array.size:
            return None
        block, _, _ = self.blocks(array, unit)
        return find_visits(array, unit, block, self.memory)

    def stream_units(
        self,
        function: Callable[[LazyArray, Region], T],
        array: LazyArray,
        unit: tuple[int, ...],
        what: str,
        *,
        takes_memory: bool = True,
    ) -> Iterator[tuple[Region, T]]:
        """Yield (region, function(array, region)) for blocks of whole units, in the order in which
        they cost least.

        `takes_memory` says whether what comes back takes memory, or has been put where it belongs.
        """
        visits = self.visits(array, unit)
        if visits is None:
            data, block = self.in_units(array, unit)
            self.prepare([data])
            task = functools.partial(function, data)
            _, total, regions = self.blocks(data, block)
            yield from self.stream(
                task, regions, what, total, data.nbytes, takes_memory=takes_memory
            )
            return
        # The source may be departures from normals of their own.
        self.prepare([visits.source])
        for reduction in visits.reductions:
            reduction.compute_on_demand()
        try:
            visiting = InOneVisit(functools.partial(function, array))
            total, reserved = len(visits.each), visits.held
            for visit, results in self.stream(
                visiting,
                visits.each,
                what,
                total,
                array.nbytes,
                takes_memory=takes_memory,
                reserved=reserved,
            ):
                yield from zip(visit, results, strict=True)
        finally:
            for reduction in visits.reductions:
                reduction.forget()

    def compute(self, array: LazyArray, what: str = "reading") -> Array:
        """Return all values of an array."""
        check_held(array.nbytes, array.origin or what)
        self.prepare([array])
        out = np.empty(array.shape, array.dtype)
        if array.size == 0:
            return out
        _, total, regions = self.blocks(array)
        if total == 1:
            return WithCache(array.read, self.cache)(whole(array.shape))
        for region, values in self.stream(
            array.read, regions, what, total, array.nbytes
        ):
            out[region] = values
        return out

    def _reduce(
        self, source: LazyArray, reductions: list[Reduction], what: str
    ) -> None:
        accumulators = [r.accumulator for r in reductions if r.accumulator is not None]
        gathered = [accumulator.start() for accumulator in accumulators]
        if source.size:
            stored, unpack = source.as_stored()
            work_on = functools.partial(partial_results, stored, unpack)
            _, total, regions = self.blocks(stored, as_stored=in_pieces(reductions))
            if self.executor is None:
                task = functools.partial(work_on, accumulators)
                for _, partials in self.stream(
                    task, regions, what, total, source.nbytes
                ):
                    merge_results(gathered, partials)
            else:
                self._merge_there(
                    gathered, work_on, reductions, list(regions), stored.nbytes, what
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
        what: str,
    ) -> None:
        """Merge the results of all blocks on other machines, and put them into what is gathered."""
        assert self.executor is not None
        parts = self._parts_over_space(reductions, regions)
        state = sum(reduction.state for reduction in reductions) // len(parts)
        for some, accumulators in parts:
            task = functools.partial(work_on, accumulators)
            work = RemoteWork(self.executor, self.memory, self.progress)
            size = nbytes * len(some) // len(regions)
            merged = work.merge(task, some, size, state, what)
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
        if len(axes) == 1 and state > self.memory // _SHARE_OF_SENT:
            parts = _restrict_to_places(accumulators, regions, axes.pop())
        return parts or [(regions, accumulators)]

    def _work_by_series(
        self, source: LazyArray, reductions: list[Reduction], what: str
    ) -> None:
        works = [r.series for r in reductions if r.series is not None]
        axis = works[0].axis
        data, block = self.in_units(
            source, (*(1,) * axis, source.shape[axis], *(1,) * (source.ndim - axis - 1))
        )
        self.prepare([data])
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
        for region, results in self.stream(task, regions, what, total, source.nbytes):
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

    def _work_by_group(self, reduction: Reduction, what: str) -> None:
        work = reduction.by_group
        assert work is not None
        tile = work.chunks[1:]
        outputs = dict.fromkeys(work.names, ((), np.dtype("f8")))
        room = self._make_room(outputs, work.shape, (1, *tile))
        blocks = ResultOnDemand(work, work.names[0])
        _, total, regions = self.blocks(blocks)
        for region, results in self.stream(
            work.read, regions, what, total, blocks.nbytes
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
            small = not shape or not self.keeps_on_disk(
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
            _, total, regions = self.blocks(scratch.source, as_stored=True)
            for _ in self.stream(
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


def usual_memory() -> int:
    """Return the bytes allowed where nothing is said: 1 GiB, or a quarter of the machine's if that
    is less."""
    return min(1 << 30, machine_memory() // 4)


def read_small(array: LazyArray) -> Array:
    """Return all values of a small array, such as those of a coordinate, read in this thread."""
    if isinstance(array, InMemory):
        return array.read(whole(array.shape))
    return Engine(workers=1).compute(array)


def default_engine(**settings: Any) -> Engine:
    """Return an engine with the settings given, and the default for those that are None."""
    return Engine(
        **{name: value for name, value in settings.items() if value is not None}
    )
