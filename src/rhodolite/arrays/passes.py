"""Which passes over the data an array needs before it can be read, and in which order."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from rhodolite.arrays.lazy import LazyArray
from rhodolite.arrays.reduction import Reduced, Reduction
from rhodolite.arrays.scratch import Scratch


@dataclass
class Pass:
    """One run over all blocks of a source, for all who need it.

    Parameters
    ----------
    source : LazyArray
    reductions : list of Reduction
        Accumulators that each take in every block.
    scratch : Scratch, optional
        Where every block is put in another order.
    """

    source: LazyArray
    reductions: list[Reduction] = field(default_factory=list)
    scratch: Scratch | None = None


def find_passes(arrays: Iterable[LazyArray]) -> list[Pass]:
    """Return the passes still to run, each after those that it depends on.

    Reductions of the same source that can run at the same time share a pass.
    """
    found: dict[tuple[int, int, bool], Pass] = {}
    for node, depth in _with_depths(arrays):
        if isinstance(node, Reduced) and node.reduction.results is None:
            source = node.reduction.source
            shared = found.setdefault((depth, id(source), False), Pass(source))
            if node.reduction not in shared.reductions:
                shared.reductions.append(node.reduction)
        elif isinstance(node, Scratch) and not node.filled:
            found[depth, id(node), True] = Pass(node.source, scratch=node)
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
    if isinstance(node, Reduced):
        return node.reduction.results is None
    return isinstance(node, Scratch) and not node.filled


def _needed(node: LazyArray) -> tuple[LazyArray, ...]:
    """Return what a node reads from; nothing where its pass has run."""
    if isinstance(node, Reduced):
        return (node.reduction.source,) if node.reduction.results is None else ()
    if isinstance(node, Scratch) and node.filled:
        return ()
    return node.sources()
