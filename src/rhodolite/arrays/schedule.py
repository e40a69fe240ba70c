"""Which passes over the data an array needs before it can be read, and in which order."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from rhodolite.arrays.lazy import LazyArray
from rhodolite.arrays.reduction import Reduction, ReductionResult, Strategy
from rhodolite.arrays.scratch import RechunkedScratch
from rhodolite.arrays.visits import KeptDuringVisit


@dataclass
class Pass:
    """One run over all blocks of a source, for all who need it.

    Parameters
    ----------
    source : LazyArray
    reductions : list of Reduction
        What is made of every block.
    strategy : Strategy
        How the reductions are carried out.
    scratch : RechunkedScratch, optional
        Where every block is put in another order.
    """

    source: LazyArray
    reductions: list[Reduction] = field(default_factory=list)
    strategy: Strategy = Strategy.MERGED
    scratch: RechunkedScratch | None = None


def find_passes(
    arrays: Iterable[LazyArray], memory: int, *, remote: bool = False
) -> list[Pass]:
    """Return the passes still to run with so many bytes of memory, each after those that it depends
    on.

    Reductions of the same source that can run at the same time share a pass.

    Parameters
    ----------
    arrays : iterable of LazyArray
    memory : int
        Bytes allowed.
    remote : bool
        Whether results are merged on other machines.
    """
    passes: dict[tuple[int, int, int], Pass] = {}
    for node, depth in _with_depths(arrays):
        if not node.pending:
            continue
        if isinstance(node, ReductionResult):
            source, strategy = (
                node.reduction.source,
                node.reduction.strategy(memory, remote=remote),
            )
            if isinstance(source, KeptDuringVisit):
                # The same values, which others may need in the same pass.
                source = source.source
            if strategy is Strategy.ON_DEMAND:
                node.reduction.compute_on_demand()
                continue
            shared = passes.setdefault(
                (depth, id(source), _run_of(node.reduction, strategy)),
                Pass(source, [], strategy),
            )
            if node.reduction not in shared.reductions:
                shared.reductions.append(node.reduction)
        elif isinstance(node, RechunkedScratch):
            passes[depth, id(node), -1] = Pass(node.source, scratch=node)
    return [passes[key] for key in sorted(passes, key=lambda key: key[0])]


def is_readable(array: LazyArray) -> bool:
    """Return whether an array can be read as it is, and waits for no pass over the data."""
    return all(not node.pending for node, _ in _with_depths([array]))


def _run_of(reduction: Reduction, strategy: Strategy) -> int:
    """Return what is the same for reductions that can share a run over the blocks."""
    if strategy is Strategy.BY_GROUP:
        return -2 - id(reduction)
    by_series = strategy is Strategy.BY_SERIES and reduction.series is not None
    return reduction.series.axis if by_series and reduction.series else -1


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
        needed = node.needed()
        if not seen:
            stack.append((node, True))
            stack.extend((source, False) for source in needed)
            continue
        waits = max((depths[id(source)] for source in needed), default=0)
        depths[id(node)] = waits + int(node.pending)
        order.append((node, depths[id(node)]))
    return order
