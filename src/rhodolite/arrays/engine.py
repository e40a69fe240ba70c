"""Streaming execution: blocks go through an executor, in order and with bounded memory."""

from __future__ import annotations

import functools
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, Protocol, TypeVar

import numpy as np

from rhodolite.arrays.blocks import block_shape, count_blocks, iterate_blocks
from rhodolite.arrays.lazy import Array, LazyArray, Region, whole
from rhodolite.arrays.reduction import Accumulator, Reduced, Reduction

T = TypeVar("T")
LARGEST_BLOCK = 24 << 20
"""Blocks beyond this many bytes hardly gain speed (docs/performance.md) and cost memory."""


_COPIES = 4
"""A block exists about this many times while it is worked on: stored, decoded, calculated, encoded."""


class Progress(Protocol):
    """Is told how far a long piece of work has come."""

    def begin(self, what: str, total: int) -> None: ...
    def advance(self) -> None: ...
    def end(self) -> None: ...


class Silent:
    """Progress that nobody watches."""

    def begin(self, what: str, total: int) -> None: ...
    def advance(self) -> None: ...
    def end(self) -> None: ...


@dataclass
class Engine:
    """Runs work over blocks.

    Parameters
    ----------
    workers : int
        How many blocks are worked on at once.
    memory : int
        Bytes that the blocks in flight may take together.
    executor : concurrent.futures.Executor, optional
        Where blocks are computed; a pool of threads by default.
    progress : Progress
    """

    workers: int = field(default_factory=lambda: os.cpu_count() or 1)
    memory: int = 1 << 30
    executor: Executor | None = None
    progress: Progress = field(default_factory=Silent)

    @property
    def block_limit(self) -> int:
        """Bytes of one block. Depends on the memory alone, so that results never depend on the workers."""
        return max(1 << 16, min(LARGEST_BLOCK, self.memory // (3 * _COPIES)))

    @property
    def in_flight(self) -> int:
        """How many blocks are worked on or waiting to be used at once."""
        return max(1, min(self.workers + 1, self.memory // (_COPIES * self.block_limit)))

    def blocks(
        self, array: LazyArray, chunks: tuple[int, ...] | None = None
    ) -> tuple[tuple[int, ...], int, Iterator[Region]]:
        """Return block shape, number of blocks and the blocks themselves for an array."""
        # Sums run in float64, so that is what a block may become on the way.
        itemsize = max(array.dtype.itemsize, 8)
        block = block_shape(array.shape, chunks or array.chunks, itemsize, self.block_limit)
        return block, count_blocks(array.shape, block), iterate_blocks(array.shape, block)

    def stream(
        self, function: Callable[[Region], T], regions: Iterable[Region], what: str, total: int
    ) -> Iterator[tuple[Region, T]]:
        """Yield (region, function(region)) in order, with few results waiting at any time."""
        executor = self.executor or ThreadPoolExecutor(self.workers)
        waiting: deque[tuple[Region, Future[T]]] = deque()
        upcoming = iter(regions)
        self.progress.begin(what, total)
        try:
            for region in islice(upcoming, self.in_flight):
                waiting.append((region, executor.submit(function, region)))
            while waiting:
                region, future = waiting.popleft()
                result = future.result()
                for following in islice(upcoming, 1):
                    waiting.append((following, executor.submit(function, following)))
                yield region, result
                self.progress.advance()
        finally:
            for _, future in waiting:
                future.cancel()
            if self.executor is None:
                executor.shutdown(wait=True, cancel_futures=True)
            self.progress.end()

    def prepare(self, arrays: Iterable[LazyArray], what: str = "averaging") -> None:
        """Run every reduction that the arrays depend on and that has not been run yet."""
        for reduction in _pending(arrays):
            # What the source itself depends on comes first in the list, so is there by now.
            self._reduce(reduction, what)

    def compute(self, array: LazyArray, what: str = "reading") -> Array:
        """Return all values of an array."""
        self.prepare([array])
        out = np.empty(array.shape, array.dtype)
        if array.size == 0:
            return out
        _, total, regions = self.blocks(array)
        if total == 1:
            return array.read(whole(array.shape))
        for region, values in self.stream(array.read, regions, what, total):
            out[region] = values
        return out

    def _reduce(self, reduction: Reduction, what: str) -> None:
        source = reduction.source
        gathered = reduction.accumulator.start()
        if source.size:
            task = functools.partial(_partial_result, source, reduction.accumulator)
            _, total, regions = self.blocks(source)
            for _, partial in self.stream(task, regions, what, total):
                gathered.merge(partial)
        reduction.results = gathered.finish()


def _partial_result(source: LazyArray, accumulator: Accumulator, region: Region) -> Accumulator:
    partial = accumulator.start()
    partial.add(source.read(region), region)
    return partial


def _pending(arrays: Iterable[LazyArray]) -> list[Reduction]:
    """Return the reductions still to run, each after those that it depends on."""
    found: list[Reduction] = []
    seen: set[int] = set()
    # An explicit stack, so that long chains of steps cannot exhaust Python's.
    stack: list[tuple[LazyArray, bool]] = [(array, False) for array in arrays]
    while stack:
        array, done = stack.pop()
        if done:
            assert isinstance(array, Reduced)
            if array.reduction not in found:
                found.append(array.reduction)
            continue
        if id(array) in seen:
            continue
        seen.add(id(array))
        if isinstance(array, Reduced):
            if array.reduction.results is None:
                stack.append((array, True))
                stack.append((array.reduction.source, False))
        else:
            stack.extend((source, False) for source in array.sources())
    return found


def default_engine(**settings: Any) -> Engine:
    """Return an engine with the settings given, and the default for those that are None."""
    return Engine(**{name: value for name, value in settings.items() if value is not None})
