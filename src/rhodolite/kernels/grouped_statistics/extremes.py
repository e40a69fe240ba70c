"""The least and the largest of groups of values."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.grouped_statistics.base import (
    Gathered,
    Statistic,
    count_present,
)
from rhodolite.kernels.unpacking import Unpacking

Array = NDArray[Any]

_KEPT = {"low": np.fmin, "high": np.fmax}


class Lowest(Statistic):
    """Minimum value."""

    names: ClassVar[tuple[str, ...]] = ("low",)
    results = ("low",)

    def beginning(self, name: str) -> float:  # noqa: ARG002
        """See `Statistic.beginning`."""
        return np.nan

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        gathered.count[group] += count_present(gathered, group, values, weights)
        for name in self.names:
            part, keep = gathered.parts[name][group, ...], _KEPT[name]
            keep(part, keep.reduce(values, axis=0), out=part)

    def take_numbers(
        self,
        gathered: Gathered,
        group: int,
        numbers: Array,
        unpack: Unpacking,
        weights: Array | None,
    ) -> None:
        """See `Statistic.take_numbers`; the extreme is looked for among the numbers."""
        if not unpack.keeps_order or unpack.find_missing(numbers) is not None:
            super().take_numbers(gathered, group, numbers, unpack, weights)
            return
        gathered.count[group] += count_present(gathered, group, numbers, weights)
        for name in self.names:
            part, keep = gathered.parts[name][group, ...], _KEPT[name]
            keep(part, unpack(keep.reduce(numbers, axis=0)), out=part)

    def combine(
        self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int
    ) -> None:
        """See `Statistic.combine`."""
        for name in self.names:
            into.parts[name][at] = _KEPT[name](
                into.parts[name][at], other.parts[name][row]
            )

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {name: gathered.parts[name] for name in self.names}


class Highest(Lowest):
    """Maximum value."""

    names: ClassVar[tuple[str, ...]] = ("high",)
    results = ("high",)


class Range(Lowest):
    """How far minimum and maximum are apart."""

    names: ClassVar[tuple[str, ...]] = ("low", "high")
    results = ("range",)

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"range": gathered.parts["high"] - gathered.parts["low"]}
