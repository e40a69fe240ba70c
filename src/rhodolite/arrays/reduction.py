"""Reductions: what is made of an array in one pass, by merging parts or from whole series."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Mapping
from typing import Any, Self

import numpy as np

from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Region


class Accumulator(ABC):
    """A running result that takes in blocks in any split and can be merged with another.

    Each task starts an empty one, adds its block, and hands it back; the partial results are
    merged in the order of the blocks, so the outcome depends neither on the number of workers
    nor on which of them finishes first. Instances must be picklable.
    """

    @abstractmethod
    def start(self) -> Self:
        """Return a new, empty accumulator of the same kind."""

    @abstractmethod
    def add(self, block: Array, region: Region) -> None:
        """Take in the values of one block, which lies at `region` of the source."""

    @abstractmethod
    def merge(self, other: Self) -> None:
        """Take in what another accumulator of the same kind has gathered."""

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

    def needs(self) -> tuple[LazyArray, ...]:
        """Return arrays that are read besides the block, and have to be ready before."""
        return ()

    def report(self, counts: Counter[str]) -> None:  # noqa: B027
        """Say what was counted over all cells."""


class Reduction:
    """One pass over a source, run by the engine before anything reads from it.

    Parameters
    ----------
    source : LazyArray
    accumulator : Accumulator, optional
        Takes in blocks of any shape; its results are held in memory.
    series : SeriesKernel, optional
        Gives the same results from tiles that hold whole series, for what cannot be merged or
        where `state` is more than memory allows. One of the two has to be there.
    state : int
        Bytes that the accumulator holds.
    """

    def __init__(
        self,
        source: LazyArray,
        accumulator: Accumulator | None = None,
        series: SeriesKernel | None = None,
        state: int = 0,
    ) -> None:
        self.source = source
        self.accumulator = accumulator
        self.series = series
        self.state = state
        self.results: dict[str, LazyArray] | None = None

    def __getstate__(self) -> dict[str, Any]:
        # Another process that gets the results has no use for what they were made of.
        made_of = {"source": None, "accumulator": None, "series": None}
        return self.__dict__ if self.results is None else {**self.__dict__, **made_of}

    def by_series(self, memory: int) -> bool:
        """Return whether whole series are to be worked on, given the bytes of memory allowed."""
        return self.series is not None and (self.accumulator is None or self.state > memory // 2)

    def keep(self, results: Mapping[str, Array]) -> None:
        """Take in results that fit into memory."""
        self.results = {name: InMemory(values) for name, values in results.items()}

    def output(self, name: str, shape: tuple[int, ...], dtype: Any = np.float64) -> ReductionResult:
        """Return one of the results as a lazy array."""
        return ReductionResult(self, name, shape, np.dtype(dtype))


class ReductionResult(LazyArray):
    """A named result of a reduction."""

    def __init__(
        self, reduction: Reduction, name: str, shape: tuple[int, ...], dtype: np.dtype[Any]
    ) -> None:
        self.reduction = reduction
        self.name = name
        self.shape = shape
        self.dtype = dtype

    def read(self, region: Region) -> Array:
        if self.reduction.results is None:
            raise RuntimeError("a reduction was read before the engine had run it")
        return self.reduction.results[self.name].read(region).astype(self.dtype, copy=False)
