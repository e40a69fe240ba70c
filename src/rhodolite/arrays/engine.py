"""Streaming execution: blocks go through an executor, in order and with bounded memory."""

from __future__ import annotations

import functools
import math
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, TypeVar

import numpy as np

from rhodolite.arrays.blocks import count_blocks, iterate_blocks
from rhodolite.arrays.chunk_cache import ChunkCache, WithCache
from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Region, Unpacked, whole
from rhodolite.arrays.passes import PassRunner
from rhodolite.arrays.progress import Progress, Silent
from rhodolite.arrays.remote import RemoteExecutor, RemoteWork
from rhodolite.arrays.schedule import find_passes
from rhodolite.arrays.scratch import RechunkedScratch
from rhodolite.arrays.tiling import COPIES, block_limit, shape_in_units, shape_of_blocks
from rhodolite.arrays.visits import InOneVisit, Visits, find_visits
from rhodolite.errors import DataError
from rhodolite.limits import check_held, machine_memory, usable_cores
from rhodolite.plain_text import file_size

A = TypeVar("A")
"""What a task works on: a block, or the blocks of a visit."""
T = TypeVar("T")
_ALWAYS_ALLOWED = 256 << 20
"""Bytes that a block may take however little memory is allowed."""
_SHARE_OF_PIECES = 8
"""This part of the memory is for decoded chunks that several blocks need."""
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
            PassRunner(self, what).run(each_pass)

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
