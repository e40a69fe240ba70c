"""What an engine would do, without doing it."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from rhodolite.arrays.engine import Engine
from rhodolite.arrays.lazy import Array, InMemory, LazyArray
from rhodolite.arrays.reduction import (
    ReductionResult,
    ResultOnDemand,
    Strategy,
    in_pieces,
)
from rhodolite.arrays.schedule import Pass, find_passes
from rhodolite.arrays.scratch import RechunkedScratch, decoding_factor
from rhodolite.arrays.tiling import COPIES
from rhodolite.arrays.views import Selected
from rhodolite.arrays.visits import Visits


@dataclass(frozen=True)
class PlannedPass:
    """One run over the blocks of an array.

    Parameters
    ----------
    what : str
        What is done, in words.
    decoded : int
        Bytes that are decoded from the inputs.
    written : int
        Bytes that are written, before compression.
    blocks : int
    block : tuple of int
        Shape of a block.
    held : int
        Bytes that the blocks in flight and the results take together.
    """

    what: str
    decoded: int
    written: int
    blocks: int
    block: tuple[int, ...]
    held: int


_RECHUNKING = "rechunking to scratch"


@dataclass
class DryRun(Engine):
    """An engine that notes the passes it would run, and computes only what is small."""

    passes: list[PlannedPass] = field(default_factory=list)
    _noted: set[int] = field(default_factory=set)

    def prepare(self, arrays: Iterable[LazyArray], what: str = "reducing") -> None:
        """Note the passes that the arrays depend on, each once."""
        for each_pass in find_passes(
            arrays, self.memory, remote=self.executor is not None
        ):
            key = (
                id(each_pass.scratch)
                if each_pass.scratch is not None
                else id(each_pass.reductions[0])
            )
            if key in self._noted:
                continue
            self._noted.add(key)
            if each_pass.strategy is Strategy.BY_GROUP:
                self._note_groups(each_pass, what)
                continue
            data, block = self._read_by(each_pass)
            self.note(
                _RECHUNKING if each_pass.scratch else what,
                data,
                block,
                written=_count_kept(each_pass),
                each_pass=each_pass,
            )

    def _read_by(self, each_pass: Pass) -> tuple[LazyArray, tuple[int, ...] | None]:
        """Return what a pass reads, and in which blocks; note that it is rechunked first where it
        has to be."""
        data, block = each_pass.source, None
        first = each_pass.reductions[0] if each_pass.reductions else None
        by_series = each_pass.strategy is Strategy.BY_SERIES
        if by_series and first is not None and first.series is not None:
            axis = first.series.axis
            unit = tuple(n if at == axis else 1 for at, n in enumerate(data.shape))
            data, block = self.in_units(data, unit)
            if data is not each_pass.source:
                stored = each_pass.source.as_stored()[0]
                pieces, _, _ = self.blocks(stored, as_stored=True)
                self.note(_RECHUNKING, stored, pieces, written=stored.nbytes)
        in_one = each_pass.strategy is Strategy.MERGED and in_pieces(
            each_pass.reductions
        )
        if each_pass.scratch is not None:
            block, _, _ = self.blocks(each_pass.source, as_stored=True)
        elif in_one:
            data = data.as_stored()[0]
            block, _, _ = self.blocks(data, as_stored=True)
        return data, block

    def _note_groups(self, each_pass: Pass, what: str) -> None:
        work = each_pass.reductions[0].by_group
        assert work is not None
        results = ResultOnDemand(work, work.names[0])
        bytes_kept = results.nbytes * len(work.names)
        self.note(
            f"{what} by group",
            results,
            written=bytes_kept if self.keeps_on_disk(bytes_kept) else 0,
        )

    def compute(self, array: LazyArray, what: str = "reading") -> Array:
        """Return values that are there already; of others note the work and return made-up ones,
        between 0 and 1, so that nothing that is drawn seems to be missing."""
        if _is_at_hand(array):
            return super().compute(array, what)
        self.prepare([array], what)
        if not isinstance(array, ReductionResult):
            self.note(what, array)
        made_up = np.linspace(0, 1, 17) if array.dtype.kind == "f" else np.zeros(1)
        return np.resize(made_up, array.shape).astype(array.dtype)

    def visits(self, array: LazyArray, unit: tuple[int, ...]) -> Visits | None:
        """See `Engine.visits`; None where what they need has been noted as a pass before."""
        visits_of_array = super().visits(array, unit)
        noted = visits_of_array is not None and self._noted & {
            id(reduction) for reduction in visits_of_array.reductions
        }
        return None if noted else visits_of_array

    def write(
        self, what: str, array: LazyArray, unit: tuple[int, ...], itemsize: int
    ) -> None:
        """Note that an array is written in pieces of a shape."""
        visits = self.visits(array, unit)
        if visits is not None:
            self.prepare([visits.source])
            decoded, written = _count_decoded(array), array.size * itemsize
            bytes_held = self.in_flight(0, visits.held) * visits.held
            total, name = len(visits.each), f"{what} group by group"
            self.passes.append(
                PlannedPass(name, decoded, written, total, visits.block, bytes_held)
            )
            return
        data, block = self.in_units(array, unit)
        self.prepare([array, data])
        self.note(what, data, block, array.size * itemsize)

    def note(
        self,
        what: str,
        array: LazyArray,
        block: tuple[int, ...] | None = None,
        written: int = 0,
        each_pass: Pass | None = None,
    ) -> None:
        """Note one run over the blocks of an array."""
        shape, total, _ = self.blocks(array, block)
        decoded = round(
            _count_decoded(array) * decoding_factor(array.shape, array.chunks, shape)
        )
        size = math.prod(shape) * max(array.dtype.itemsize, 4)
        results = sum(_result_bytes(each_pass)) if each_pass is not None else 0
        in_results = (
            min(self.in_flight(array.nbytes // max(total, 1)), total) * COPIES * size
            + results
        )
        self.passes.append(
            PlannedPass(what, decoded, written, total, shape, in_results)
        )


def _count_kept(each_pass: Pass) -> int:
    return each_pass.scratch.nbytes if each_pass.scratch is not None else 0


def _result_bytes(each_pass: Pass) -> list[int]:
    """Return the bytes that the results of a pass take: roughly, and a third of its source at most,
    where they are not known."""
    roughly = min(
        math.prod(each_pass.source.shape[1:]) * 8 * 24, each_pass.source.size * 8
    )
    merged = each_pass.strategy is Strategy.MERGED
    return [
        reduction.state if merged and reduction.state else roughly
        for reduction in each_pass.reductions
    ]


def _is_at_hand(array: LazyArray) -> bool:
    return not find_passes([array], 0) and (
        isinstance(array, InMemory) or array.size * array.dtype.itemsize < 1 << 20
    )


def _count_decoded(array: LazyArray) -> int:
    """Return the bytes that are decoded when each cell of an array is read once."""
    if isinstance(array, (InMemory, RechunkedScratch)):
        return 0
    if isinstance(array, (ReductionResult, ResultOnDemand)):
        return sum(_count_decoded(source) for source in array.sources())
    sources = array.sources()
    if not sources:
        return array.as_stored()[0].nbytes
    total = sum(_count_decoded(source) for source in sources)
    whole = sum(source.size for source in sources)
    return (
        round(total * array.size / whole)
        if isinstance(array, Selected) and whole
        else total
    )
