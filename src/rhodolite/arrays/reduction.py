"""Reductions: what a mergeable accumulator makes of an array in one pass over its blocks."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any, Self

import numpy as np

from rhodolite.arrays.lazy import Array, LazyArray, Region


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


class Reduction:
    """One pass of an accumulator over a source, run by the engine before anything reads from it."""

    def __init__(self, source: LazyArray, accumulator: Accumulator) -> None:
        self.source = source
        self.accumulator = accumulator
        self.results: dict[str, Array] | None = None

    def __getstate__(self) -> dict[str, Any]:
        # Another process that gets the results has no use for what they were made of.
        return self.__dict__ if self.results is None else {**self.__dict__, "source": None, "accumulator": None}

    def output(self, name: str, shape: tuple[int, ...], dtype: Any = np.float64) -> Reduced:
        """Return one of the results as a lazy array."""
        return Reduced(self, name, shape, np.dtype(dtype))


class Reduced(LazyArray):
    """A named result of a reduction."""

    def __init__(self, reduction: Reduction, name: str, shape: tuple[int, ...], dtype: np.dtype[Any]) -> None:
        self.reduction = reduction
        self.name = name
        self.shape = shape
        self.dtype = dtype

    def read(self, region: Region) -> Array:
        if self.reduction.results is None:
            raise RuntimeError("a reduction was read before the engine had run it")
        return self.reduction.results[self.name][region].astype(self.dtype)
