"""Variances and standard deviations of groups of values."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.grouped_statistics.base import Gathered, Statistic
from rhodolite.kernels.moments import moments, shares, vanishes

Array = NDArray[Any]


class Spread(Statistic):
    """Mean, variance and standard deviation.

    Notes
    -----
    Deviations about the mean of each block, and the pairwise update of Chan, Golub and LeVeque
    1983, The American Statistician 37, 242-247, equations 2.1. The variance has divisor n - 1; with
    weights w it is sum(w d^2) / (sum(w) (n - 1) / n).
    """

    names: ClassVar[tuple[str, ...]] = ("mean", "squares")
    results = ("mean", "variance", "deviation")

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        if len(values) == 1 and weights is None and gathered.weight is None:
            self._take_single(gathered, group, values[0])
            return
        count, weight, mean, squares = moments(values, weights)
        self._merge(gathered, group, weight, mean, squares)
        gathered.count[group] += count.astype(np.int32)
        if gathered.weight is not None:
            gathered.weight[group] += weight

    def _take_single(self, gathered: Gathered, group: int, values: Array) -> None:
        """Add one step, whose mean is itself and whose spread is none: the days of a year are each
        of another group."""
        present = ~np.isnan(values)
        mean = values if present.all() else np.where(present, values, 0.0)
        self._merge(gathered, group, present, mean, 0.0)
        gathered.count[group] += present

    def combine(
        self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int
    ) -> None:
        """See `Statistic.combine`."""
        self._merge(
            into,
            at,
            other.total_weight[row],
            other.parts["mean"][row],
            other.parts["squares"][row],
        )

    def _merge(
        self,
        into: Gathered,
        at: Any,
        weight: Array,
        mean: Array,
        squares: Array | float,
    ) -> None:
        share, between = shares(into.total_weight[at], weight)
        shift = mean - into.parts["mean"][at]
        into.parts["squares"][at] += squares + shift * shift * between
        into.parts["mean"][at] += shift * share

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        count = gathered.count
        squares, weight = gathered.parts["squares"], gathered.total_weight
        squares = np.where(
            vanishes(squares, weight, gathered.parts["mean"]), 0.0, squares
        )
        freedom = weight * (np.maximum(count - 1, 1) / np.maximum(count, 1))
        variance = np.divide(
            squares, freedom, out=np.full(count.shape, np.nan), where=count > 1
        )
        mean = np.where(count > 0, gathered.parts["mean"], np.nan)
        return {"mean": mean, "variance": variance, "deviation": np.sqrt(variance)}
