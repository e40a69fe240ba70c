"""Work on other processes: tasks of several blocks, and results that are merged where they are."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from itertools import islice
from typing import Any, Generic, Protocol, TypeVar

from rhodolite.arrays.lazy import Region
from rhodolite.arrays.progress import Progress
from rhodolite.arrays.reduction import Accumulator

A = TypeVar("A")
T = TypeVar("T")

_RUN, _RUN_PUT_AWAY = 32 << 20, 256 << 20
"""Bytes of the blocks that make one task for another process: where their results come here, and
where they are put away there."""
_MERGED_AT_ONCE, _FEWEST_TASKS, _SOME_TASKS, _MOST_TASKS = 8, 16, 64, 4096
"""Blocks that are merged by one task, where there are enough; how many tasks there are at least,
before that counts, and at most, since a scheduler takes about a millisecond for each."""


class RemoteExecutor(Protocol):
    """Runs tasks in other processes."""

    @property
    def threads(self) -> int: ...
    def submit(
        self, function: Callable[..., Any], /, *arguments: Any
    ) -> Future[Any]: ...
    def merge(
        self,
        function: Callable[[Any], Any],
        arguments: Sequence[Any],
        merge: Callable[[Any, Any], Any],
    ) -> Iterator[Any]: ...


@dataclass(frozen=True)
class RemoteWork:
    """Sends work to other processes.

    Parameters
    ----------
    executor : RemoteExecutor
    memory : int
        Bytes that results may take here.
    progress : Progress
    """

    executor: RemoteExecutor
    memory: int
    progress: Progress

    def stream(
        self,
        function: Callable[[A], T],
        regions: Iterable[A],
        what: str,
        total: int,
        nbytes: int,
        takes_memory: bool,
    ) -> Iterator[tuple[A, T]]:
        """Do what `stream` does by tasks of several blocks on other processes.

        A task costs the scheduler about a millisecond, and what is far away takes longer to
        answer, so there are always twice as many tasks as threads, of workers that come late, too.
        """
        size = nbytes // max(total, 1)
        run_bytes = _RUN if takes_memory else _RUN_PUT_AWAY
        length = max(
            1, min(run_bytes // max(size, 1), total // (4 * self.executor.threads))
        )
        most = self.memory // max(_RUN, size) if takes_memory else total
        runs = _cut_into_runs(regions, length)
        task = _Each(function)
        waiting: deque[tuple[list[A], Future[list[T]]]] = deque()
        self.progress.begin(what, total, nbytes)
        try:
            while True:
                at_once = max(2, min(2 * self.executor.threads, most))
                for run in islice(runs, max(0, at_once - len(waiting))):
                    waiting.append((run, self.executor.submit(task, run)))
                if not waiting:
                    return
                run, future = waiting.popleft()
                for region, result in zip(run, future.result(), strict=True):
                    yield region, result
                    self.progress.advance()
        finally:
            for _, future in waiting:
                future.cancel()
            self.progress.end()

    def merge(
        self,
        task: Callable[[Region], list[Accumulator]],
        regions: list[Region],
        nbytes: int,
        state: int,
        what: str,
    ) -> list[Accumulator]:
        """Return the merged results of all blocks, which are merged on other processes.

        How many blocks make a task depends on their number and on what is sent, so that the order
        of sums does not depend on the workers: results, of `state` bytes, should be a fraction of
        what is read for them, and no scheduler bears any number of tasks.
        """
        total = len(regions)
        wanted = (
            min(_MERGED_AT_ONCE, -(-total // _SOME_TASKS)),
            -(-total // _MOST_TASKS),
            4 * state * total // max(nbytes, 1),
        )
        length = min(max(wanted), -(-total // _FEWEST_TASKS))
        runs = list(_cut_into_runs(regions, length))
        self.progress.begin(what, total, nbytes)
        try:
            for done in self.executor.merge(_Merged(task), runs, _merge_pair):
                if isinstance(done, list):
                    return done
                for _ in range(length):
                    self.progress.advance()
            raise RuntimeError("the tasks of a pass ended without a result")
        finally:
            self.progress.end()


def _cut_into_runs(regions: Iterable[A], length: int) -> Iterator[list[A]]:
    upcoming = iter(regions)
    while run := list(islice(upcoming, length)):
        yield run


@dataclass(frozen=True)
class _Each(Generic[A, T]):
    """A task made of several."""

    function: Callable[[A], T]

    def __call__(self, run: list[A]) -> list[T]:
        return [self.function(region) for region in run]


@dataclass(frozen=True)
class _Merged:
    """A task made of several, whose results are merged in order."""

    function: Callable[[Region], list[Accumulator]]

    def __call__(self, run: list[Region]) -> list[Accumulator]:
        merged: list[Accumulator] = []
        for region in run:
            partials = self.function(region)
            merged = merged or [partial.start() for partial in partials]
            merge_results(merged, partials)
        return merged


def _merge_pair(
    first: list[Accumulator], second: list[Accumulator]
) -> list[Accumulator]:
    """Return what two lists of results make together; neither is changed, since a scheduler may
    need them again."""
    gathered = [accumulator.start() for accumulator in first]
    for partials in (first, second):
        merge_results(gathered, partials)
    return gathered


def merge_results(gathered: list[Accumulator], partials: list[Accumulator]) -> None:
    for into, partial in zip(gathered, partials, strict=True):
        into.merge(partial)
