"""What all ways to levels of return periods share: samples, limits, and what is reported."""

from __future__ import annotations

from abc import abstractmethod
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn

_CELLS_AT_ONCE = 512
"""Whose samples stay in the caches of a core."""
LEVEL, LOWER, UPPER = "return_level", "return_level_lower", "return_level_upper"


@dataclass(frozen=True)
class Sampling:
    """How limits are found.

    Attributes
    ----------
    samples : int
        0 where there are no limits.
    confidence : float
        Share of the samples between them.
    seed : int
    """

    samples: int
    confidence: float
    seed: int

    @property
    def ends(self) -> tuple[float, float]:
        return 0.5 - self.confidence / 2, 0.5 + self.confidence / 2


@dataclass
class RareValues(SeriesKernel):
    """Levels of return periods at each cell, with their limits and parameters.

    Attributes
    ----------
    axis : int
    periods : ndarray of float64
        Years.
    low : bool
        Whether small values are rare.
    min_values : int
    sampling : Sampling
    """

    axis: int
    periods: Array
    low: bool
    min_values: int
    sampling: Sampling

    @property
    @abstractmethod
    def parameters(self) -> tuple[str, ...]:
        """The names of what the distribution has, besides levels."""

    @abstractmethod
    def fit(self, values: Array) -> tuple[dict[str, Array], Array]:
        """Return levels, limits and parameters of values of shape (n, m) whose large ones are rare,
        and the number of values of each cell."""

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        of_levels = (self.periods.size,) if self.periods.size > 1 else ()
        names = [LEVEL, LOWER, UPPER] if self.sampling.samples else [LEVEL]
        kind = np.dtype("f8")
        levels = dict.fromkeys(names, (of_levels, kind))
        return {**levels, **dict.fromkeys(self.parameters, ((), kind))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        cells = block.shape[1:]
        values = block.reshape(len(block), -1).astype(np.float64)
        # The smallest values are the largest of those with the other sign.
        results, count = self.fit(-values if self.low else values)
        if self.low:
            results = _turned(results)
        shapes = self.outputs()
        lacking = int(((count < self.min_values) & (count > 0)).sum())
        return {
            name: results[name].reshape(*before, *cells)
            for name, (before, _) in shapes.items()
        }, Counter(lacking=lacking, of=int((count > 0).sum()))

    def by_count(self, count: Array, known: Array) -> Iterator[tuple[int, Array, Any]]:
        """Yield, for cells of equally many values, the number, the cells, and random numbers of as
        many samples: the same at each, however cells are divided."""
        for size in np.unique(count[known]):
            random = np.random.default_rng([self.sampling.seed, int(size)])
            drawn = random.random((self.sampling.samples, int(size)))
            cells = np.flatnonzero(known & (count == size))
            for first in range(0, cells.size, _CELLS_AT_ONCE):
                yield int(size), cells[first : first + _CELLS_AT_ONCE], drawn

    def report(self, counts: Counter[str]) -> None:
        if counts["lacking"]:
            warn(
                "{lacking} of {of} cells have fewer than "
                f"{self.min_values} values and are missing",
                lacking=counts["lacking"],
                of=counts["of"],
            )


_OF_SIGN = (LEVEL, "location", "location_trend", "threshold")


def _turned(results: dict[str, Array]) -> dict[str, Array]:
    """Return results of values with the other sign as those of the values."""
    turned = {n: -part if n in _OF_SIGN else part for n, part in results.items()}
    if LOWER in results:
        turned[LOWER], turned[UPPER] = -results[UPPER], -results[LOWER]
    return turned
