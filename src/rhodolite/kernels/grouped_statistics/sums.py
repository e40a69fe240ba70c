"""Counts, sums and means of groups of values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.grouped_statistics.base import (
    Gathered,
    Statistic,
    count_present,
    weighted_sum,
)
from rhodolite.kernels.moments import first_values
from rhodolite.kernels.thresholds import beyond
from rhodolite.kernels.unpacking import Unpacking
from rhodolite.kernels.whole_number_sums import scale_of_small, sum_of_differences

Array = NDArray[Any]
_SINGLE = 4
"""Bytes of values whose sums in float64 are exact enough."""


class Count(Statistic):
    """Number of values that are not missing."""

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        present = count_present(gathered, group, values, weights)
        gathered.count[group] += present

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"value": gathered.count.astype(np.float64)}


@dataclass(frozen=True)
class Total(Statistic):
    """Sum of values, or of values times the weights of their steps."""

    weighted: bool = False
    names: ClassVar[tuple[str, ...]] = ("total",)

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        total = gathered.parts["total"]
        factors = weights if self.weighted else None
        added = weighted_sum(values, factors)
        if np.isfinite(added).all():
            gathered.count[group] += len(values)
            if gathered.weight is not None and weights is not None:
                gathered.weight[group] += weights.sum()
        else:
            gathered.count[group] += count_present(gathered, group, values, weights)
            added = weighted_sum(np.where(np.isnan(values), 0, values), factors)
        total[group] += added

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        return {"value": np.where(gathered.count > 0, gathered.parts["total"], np.nan)}


@dataclass(frozen=True)
class Mean(Total):
    """Mean of values, by the weights of their steps.

    Sums of float32 are exact enough in float64 for equal values to have exactly their mean. Of
    float64 the differences from the first value of each group are summed, which has the same
    effect.
    """

    weighted: bool = True
    names: ClassVar[tuple[str, ...]] = ("total", "origin")

    def start(
        self,
        shape: tuple[int, ...],
        *,
        weighted: bool = False,
        steps: int | None = None,
        dtype: np.dtype[Any] | None = None,
    ) -> Gathered:
        """See `Statistic.start`; without origins, which are 0 then, for single precision."""
        gathered = super().start(shape, weighted=weighted, steps=steps)
        if dtype is not None and dtype.kind == "f" and dtype.itemsize <= _SINGLE:
            del gathered.parts["origin"]
        return gathered

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        if values.dtype.itemsize > _SINGLE:
            new = gathered.count[group] == 0
            if new.any():
                origin = gathered.parts["origin"][group]
                gathered.parts["origin"][group] = np.where(
                    new, first_values(values), origin
                )
            values = values - gathered.parts["origin"][group]
        super().take(gathered, group, values, weights)

    def take_numbers(
        self,
        gathered: Gathered,
        group: int,
        numbers: Array,
        unpack: Unpacking,
        weights: Array | None,
    ) -> None:
        """See `Statistic.take_numbers`; small integers are summed as they are, which is exact."""
        scale = scale_of_small(numbers, unpack) if weights is None else None
        if scale is None:
            super().take_numbers(gathered, group, numbers, unpack, weights)
            return
        first, added = unpack(numbers[:1])[0], sum_of_differences(numbers) * scale
        count, origin = gathered.count[group, ...], gathered.parts["origin"][group, ...]
        if count.any():
            origin[...] = np.where(count == 0, first, origin)
            added += len(numbers) * (first - origin)
        else:
            origin[...] = first
        gathered.parts["total"][group] += added
        count += len(numbers)

    def of_whole(
        self, numbers: Array, unpack: Unpacking | None
    ) -> dict[str, Array] | None:
        """See `Statistic.of_whole`."""
        scale = scale_of_small(numbers, unpack)
        if scale is None or unpack is None:
            return None
        mean = sum_of_differences(numbers) * scale
        mean /= len(numbers)
        mean += unpack(numbers[:1])[0]
        return {"value": mean}

    def combine(
        self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int
    ) -> None:
        """See `Statistic.combine`."""
        total, added = into.parts["total"], other.parts["total"][row]
        if "origin" not in other.parts and "origin" not in into.parts:
            total[at] += added
            return
        if "origin" not in into.parts:
            into.parts["origin"] = np.zeros(total.shape)
        theirs = other.parts["origin"][row] if "origin" in other.parts else np.zeros(())
        origin = np.where(into.count[at] == 0, theirs, into.parts["origin"][at])
        into.parts["origin"][at] = origin
        total[at] += added + other.total_weight[row] * (theirs - origin)

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        total, weight = gathered.parts["total"], gathered.total_weight
        with np.errstate(invalid="ignore", divide="ignore"):
            total /= weight
        if "origin" in gathered.parts:
            total += gathered.parts["origin"]
        if weight.size and weight.min() <= 0:
            total[weight <= 0] = np.nan
        return {"value": total}


@dataclass(frozen=True)
class Exceedance(Total):
    """Number of values above, or below, a threshold."""

    threshold: float = 0.0
    below: bool = False
    dtype: str = "f8"

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        gathered.count[group] += count_present(gathered, group, values, weights)
        hits = beyond(values, self.threshold, self.dtype, below=self.below)
        gathered.parts["total"][group] += np.add.reduce(hits, axis=0, dtype=np.float64)
