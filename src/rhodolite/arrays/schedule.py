"""Which passes over the data an array needs before it can be read, and in which order."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from rhodolite.arrays.lazy import LazyArray
from rhodolite.arrays.reduction import Reduction, ReductionResult
from rhodolite.arrays.scratch import RechunkedScratch


@dataclass
class Pass:
    """One run over all blocks of a source, for all who need it.

    Parameters
    ----------
    source : LazyArray
    reductions : list of Reduction
        What is made of every block.
    by_series : bool
        Whether blocks have to hold whole series.
    scratch : RechunkedScratch, optional
        Where every block is put in another order.
    """

    source: LazyArray
    reductions: list[Reduction] = field(default_factory=list)
    by_series: bool = False
    scratch: RechunkedScratch | None = None


def find_passes(arrays: Iterable[LazyArray], memory: int) -> list[Pass]:
    """Return the passes still to run with so many bytes of memory, each after those that it depends
    on.

    Reductions of the same source that can run at the same time share a pass.

    Parameters
    ----------
    arrays : iterable of LazyArray
    memory : int
        Bytes allowed.
    """
    found: dict[tuple[int, int, int], Pass] = {}
    for node, depth in _with_depths(arrays):
        if isinstance(node, ReductionResult) and node.reduction.results is None:
            source, by_series = node.reduction.source, node.reduction.by_series(memory)
            axis = node.reduction.series.axis if by_series and node.reduction.series else -1
            shared = found.setdefault((depth, id(source), axis), Pass(source, by_series=by_series))
            if node.reduction not in shared.reductions:
                shared.reductions.append(node.reduction)
        elif isinstance(node, RechunkedScratch) and not node.filled:
            found[depth, id(node), -1] = Pass(node.source, scratch=node)
    return [found[key] for key in sorted(found, key=lambda key: key[0])]


def _with_depths(arrays: Iterable[LazyArray]) -> list[tuple[LazyArray, int]]:
    """Return every array that these depend on, with the number of passes that it waits for."""
    depths: dict[int, int] = {}
    order: list[tuple[LazyArray, int]] = []
    # An explicit stack, so that long chains of steps cannot exhaust Python's.
    stack: list[tuple[LazyArray, bool]] = [(array, False) for array in arrays]
    while stack:
        node, seen = stack.pop()
        if id(node) in depths:
            continue
        needed = _needed(node)
        if not seen:
            stack.append((node, True))
            stack.extend((source, False) for source in needed)
            continue
        waits = max((depths[id(source)] for source in needed), default=0)
        depths[id(node)] = waits + (1 if _is_pending(node) else 0)
        order.append((node, depths[id(node)]))
    return order


def _is_pending(node: LazyArray) -> bool:
    if isinstance(node, ReductionResult):
        return node.reduction.results is None
    return isinstance(node, RechunkedScratch) and not node.filled


def _needed(node: LazyArray) -> tuple[LazyArray, ...]:
    """Return what a node reads from; nothing where its pass has run."""
    if isinstance(node, ReductionResult):
        if node.reduction.results is not None:
            return ()
        more = node.reduction.series.needs() if node.reduction.series is not None else ()
        return (node.reduction.source, *more)
    if isinstance(node, RechunkedScratch) and node.filled:
        return ()
    return node.sources()
