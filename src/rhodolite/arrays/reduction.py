"""Reductions: what is made of an array in one pass, by merging parts or from whole series."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Iterable, Mapping
from enum import Enum
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import DTypeLike

from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Region
from rhodolite.arrays.tiling import block_limit, shape_in_units
from rhodolite.kernels.unpacking import Unpacking

_SHARE_OF_A_GROUP = 8
"""A group at the cells of a chunk may take this part of the memory."""
_FEWEST_GROUPS = 8
"""Fewer would leave workers without work, where they are worked on one by one."""
_SHARE_OF_STATE, _SHARE_OF_REMOTE_STATE = 16, 2
"""An accumulator of more than this part of the memory is slower than one group at a time; on other
machines, where it is sent from one to the next."""


class Accumulator(ABC):
    """A running result that takes in blocks in any split and can be merged with another.

    Each task starts an empty one, adds its block, and hands it back; the partial results are
    merged in the order of the blocks, so the outcome depends neither on the number of workers
    nor on which of them finishes first. Instances must be picklable.

    Attributes
    ----------
    in_pieces : bool
        Whether stored numbers are worked on some cells after the other, so that a block may hold as
        many as fit before they are unpacked.
    """

    in_pieces: ClassVar[bool] = False

    @abstractmethod
    def start(self) -> Self:
        """Return a new, empty accumulator of the same kind."""

    @abstractmethod
    def add(self, block: Array, region: Region) -> None:
        """Take in the values of one block, which lies at `region` of the source."""

    def add_stored(
        self, numbers: Array, unpack: Unpacking | None, region: Region
    ) -> None:
        """Take in a block of stored numbers, which must not be changed.

        `unpack` makes values of them; None where they are the values.
        """
        self.add(numbers if unpack is None else unpack(numbers), region)

    @abstractmethod
    def merge(self, other: Self) -> None:
        """Take in what another accumulator of the same kind has gathered, from one block or from
        several that were merged into a new one before."""

    def restricted(self, region: Region) -> Self | None:  # noqa: ARG002
        """Return a new, empty accumulator for blocks that lie in a part of the source, which can be
        merged into one for all of it; None where there is no such."""
        return None

    @abstractmethod
    def finish(self) -> dict[str, Array]:
        """Return the results by name."""


class SeriesKernel(ABC):
    """What is made of all the values along one axis, cell by cell. Instances must be picklable.

    Attributes
    ----------
    axis : int
        The axis along which a cell needs all its values.
    """

    axis: int

    @abstractmethod
    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        """Return, for each result, its shape before the cells and its type."""

    @abstractmethod
    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        """Return the results for some cells, and counts of what the user should know.

        Parameters
        ----------
        block : ndarray, shape (n, *cells)
            All values of the cells, the axis first. May be changed.
        """

    def of_stored(
        self, numbers: Array, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Counter[str]]:
        """Return the same for a block of stored numbers, which may be changed.

        `unpack` makes values of them; None where they are the values.
        """
        return self(numbers if unpack is None else unpack(numbers))

    def totals(self) -> Mapping[str, tuple[int, ...]]:
        """Return the shape of each result that is no result of a cell but a sum over all of them;
        each call gives that of its cells."""
        return {}

    def needs(self) -> tuple[LazyArray, ...]:
        """Return arrays that are read besides the block, and have to be ready before."""
        return ()

    def report(self, counts: Counter[str]) -> None:  # noqa: B027
        """Say what was counted over all cells."""


class OnDemand(ABC):
    """Results that are computed when a block of them is read.

    Attributes
    ----------
    source : LazyArray
    shape : tuple of int
        Of each of the results.
    names : tuple of str
        Of the results, all of which are computed at once.
    chunks : tuple of int
        Shape of the blocks that cost least.
    """

    source: LazyArray
    shape: tuple[int, ...]
    names: tuple[str, ...]
    chunks: tuple[int, ...]

    @abstractmethod
    def read(self, region: Region, dtype: DTypeLike = np.float64) -> dict[str, Array]:
        """Return a block of each result, by name; computed in float64, and rounded to a type."""

    @property
    @abstractmethod
    def held_share(self) -> float:
        """How many values are held for each that is read."""


class ResultOnDemand(LazyArray):
    """One of the results that are computed when they are read."""

    def __init__(
        self, work: OnDemand, name: str, dtype: DTypeLike = np.float64
    ) -> None:
        self.shape, self.chunks, self.dtype = work.shape, work.chunks, np.dtype(dtype)
        self._work = work
        self._name = name

    def rounded(self, dtype: np.dtype[Any]) -> ResultOnDemand:
        """See `LazyArray.rounded`."""
        return ResultOnDemand(self._work, self._name, dtype)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._work.source,)

    @property
    def decoded_share(self) -> float:
        return self._work.held_share

    def read(self, region: Region) -> Array:
        return self._work.read(region, self.dtype)[self._name]


class Strategy(Enum):
    """How a reduction is carried out."""

    MERGED = "blocks in the order of storage, whose results are merged"
    BY_SERIES = "tiles that hold whole series"
    BY_GROUP = "group by group, and kept"
    ON_DEMAND = "group by group, when the results are read"


class Reduction:
    """One pass over a source, run by the engine before anything reads from it.

    Parameters
    ----------
    source : LazyArray
    accumulator : Accumulator, optional
        Takes in blocks of any shape; its results are held in memory.
    rather_series : bool
        Whether the accumulator is more work than whole series are, where these need no scratch
        file.
    series : SeriesKernel, optional
        Gives the same results from tiles that hold whole series, for what cannot be merged or
        where `state` is more than memory allows. One of the two has to be there.
    state : int
        Bytes that the accumulator holds.
    by_group : OnDemand, optional
        Gives the same results group by group, where that decodes each chunk once.
    read_once : bool
        Whether the results are read only once, so that they need not be kept.
    """

    def __init__(
        self,
        source: LazyArray,
        accumulator: Accumulator | None = None,
        series: SeriesKernel | None = None,
        state: int = 0,
        by_group: OnDemand | None = None,
        read_once: bool = False,
        rather_series: bool = False,
    ) -> None:
        self.source = source
        self.accumulator = accumulator
        self.series = series
        self.state = state
        self.by_group = by_group
        self.read_once = read_once
        self.rather_series = rather_series
        self.results: dict[str, LazyArray] | None = None

    def __getstate__(self) -> dict[str, Any]:
        # Another process that gets the results has no use for what they were made of.
        made_of = {
            "source": None,
            "accumulator": None,
            "series": None,
            "by_group": None,
        }
        return self.__dict__ if self.results is None else {**self.__dict__, **made_of}

    def strategy(self, memory: int, *, remote: bool = False) -> Strategy:
        """Return how to carry it out, given the bytes of memory allowed.

        `remote` says whether results are merged on other machines, where many may take part in
        what is merged, and none can read a scratch file.
        """
        has_series = self.series is not None
        if has_series and self.rather_series and self._series_are_at_hand(memory):
            return Strategy.BY_SERIES
        too_large = self._state_is_too_large(memory, remote)
        if self.by_group is not None and self._fits(self.by_group, memory):
            share = _SHARE_OF_REMOTE_STATE if remote else _SHARE_OF_STATE
            many = self.by_group.shape[0] >= _FEWEST_GROUPS
            if too_large or (many and self.state > memory // share):
                return Strategy.ON_DEMAND if self.read_once else Strategy.BY_GROUP
        if has_series and too_large:
            return Strategy.BY_SERIES
        return Strategy.MERGED

    def _state_is_too_large(self, memory: int, remote: bool) -> bool:
        """Return whether what is gathered cannot be kept, or nothing can be gathered."""
        if self.accumulator is None:
            return True
        merges_there = remote and not self.rather_series
        return self.state > memory // 2 and not merges_there

    def _series_are_at_hand(self, memory: int) -> bool:
        """Return whether whole series can be read without a scratch file."""
        assert self.series is not None
        axis, shape = self.series.axis, self.source.shape
        unit = (*(1,) * axis, shape[axis], *(1,) * (len(shape) - axis - 1))
        return not shape_in_units(self.source, unit, block_limit(memory))[1]

    def _fits(self, work: OnDemand, memory: int) -> bool:
        """Return whether a few groups at once fit into memory."""
        return (
            math.prod(work.chunks) * 8 * work.held_share <= memory // _SHARE_OF_A_GROUP
        )

    def compute_on_demand(self) -> None:
        """Have the results computed when they are read."""
        assert self.by_group is not None
        self.results = {
            name: ResultOnDemand(self.by_group, name) for name in self.by_group.names
        }

    def forget(self) -> None:
        """Have the results computed anew by whoever needs them next."""
        self.results = None

    def keep(self, results: Mapping[str, Array]) -> None:
        """Take in results that fit into memory."""
        self.results = {name: InMemory(values) for name, values in results.items()}

    def output(
        self, name: str, shape: tuple[int, ...], dtype: Any = np.float64
    ) -> ReductionResult:
        """Return one of the results as a lazy array."""
        return ReductionResult(self, name, shape, np.dtype(dtype))


def in_pieces(reductions: Iterable[Reduction]) -> bool:
    """Return whether all accumulators of some reductions work on stored numbers piece by piece."""
    return all(r.accumulator is None or r.accumulator.in_pieces for r in reductions)


class ReductionResult(LazyArray):
    """A named result of a reduction."""

    def __init__(
        self,
        reduction: Reduction,
        name: str,
        shape: tuple[int, ...],
        dtype: np.dtype[Any],
    ) -> None:
        self.reduction = reduction
        self.name = name
        self.shape = shape
        self.dtype = dtype

    @property
    def chunks(self) -> tuple[int, ...] | None:  # type: ignore[override]
        results = self.reduction.results
        return None if results is None else results[self.name].chunks

    def sources(self) -> tuple[LazyArray, ...]:
        results = self.reduction.results
        return () if results is None else (results[self.name],)

    @property
    def pending(self) -> bool:
        return self.reduction.results is None

    def needed(self) -> tuple[LazyArray, ...]:
        if not self.pending:
            return self.sources()
        series = self.reduction.series
        return (self.reduction.source, *(() if series is None else series.needs()))

    def rounded(self, dtype: np.dtype[Any]) -> ReductionResult:
        """See `LazyArray.rounded`."""
        return ReductionResult(self.reduction, self.name, self.shape, dtype)

    def read(self, region: Region) -> Array:
        if self.reduction.results is None:
            raise RuntimeError("a reduction was read before the engine had run it")
        results = self.reduction.results[self.name].rounded(self.dtype)
        return results.read(region).astype(self.dtype, copy=False)
