"""Indices of how unusual values are, cell by cell from whole series, and their classes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.drought_indices import (
    bound_index,
    extreme_means,
    fit_gamma,
    gamma_index,
    logistic_index,
    normal_index,
    rainfall_anomaly,
    rank_among,
    running_sum,
    share_below,
)
from rhodolite.operations.baseline.base_period import BasePeriod


class IndexKind(StrEnum):
    """How an index is made."""

    RAINFALL_ANOMALY = "rainfall-anomaly"
    STANDARDISED = "standardised"
    PERCENTILE = "percentile"
    RANK = "rank"


class Distribution(StrEnum):
    """What is fitted for a standardised index."""

    GAMMA = "gamma"
    NORMAL = "normal"
    LOG_LOGISTIC = "log-logistic"


NO_CLASS = -128
LIMITS = {
    IndexKind.RAINFALL_ANOMALY: (-3.0, -2.0, -1.0, -0.5, 0.5, 1.0, 2.0, 3.0),
    IndexKind.STANDARDISED: (-2.0, -1.5, -1.0, 1.0, 1.5, 2.0),
}
DEGREES = {
    4: ("slightly", "moderately", "very", "extremely"),
    3: ("moderately", "very", "extremely"),
}


_BY_ORDER = {IndexKind.PERCENTILE: share_below, IndexKind.RANK: rank_among}
"""What is made of the order of values alone."""


@dataclass(frozen=True)
class IndexSpec:
    """What index is asked for.

    Attributes
    ----------
    kind : IndexKind
    months : int
        Accumulation period.
    tail : float
        Of a rainfall anomaly index: how many values make an extreme, or the percentage of them.
    tail_is_percent : bool
    distribution : Distribution
        What is fitted for a standardised index.
    """

    kind: IndexKind
    months: int
    tail: float
    tail_is_percent: bool
    distribution: Distribution


@dataclass
class IndexWork(SeriesKernel):
    """The index of every step, from whole series of cells."""

    label: str
    index: IndexSpec
    base: BasePeriod
    axis: int
    lengths: Array | None

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((len(self.base.axis),), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        order = self.base.axis.order
        back = np.argsort(order)
        values = block.astype(np.float64)
        if self.index.months > 1:
            if self.lengths is not None:
                values *= self.lengths.reshape(-1, *(1,) * (values.ndim - 1))
            values = running_sum(values[order], self.index.months)[back]
        out = np.full(values.shape, np.nan)
        in_base = np.isin(np.arange(len(values)), self.base.steps)
        # The first months have no sum of several, which is not for want of data.
        begun = back >= self.index.months - 1
        bounded = 0
        for row, full in enumerate(self.base.full):
            members = self.base.phases == row
            base = values[members & in_base]
            needed = (
                self.base.coverage
                * full
                * (members & in_base & begun).sum()
                / len(base)
            )
            enough = (~np.isnan(base)).sum(axis=0) >= needed - 1e-9
            index, beyond = bound_index(
                self._of_phase(values[members], base), (~np.isnan(base)).sum(axis=0)
            )
            out[members] = np.where(enough, index, np.nan)
            bounded += int((beyond & enough).sum())
        lost = np.isnan(out).all(axis=0) & ~np.isnan(block).all(axis=0)
        return {"value": out}, Counter(
            lost=int(lost.sum()), of=lost.size, bounded=bounded, values=out.size
        )

    def _of_phase(self, values: Array, base: Array) -> Array:
        if self.index.kind is IndexKind.RAINFALL_ANOMALY:
            tail, percent = self.index.tail, self.index.tail_is_percent
            count, share = (None, tail / 100) if percent else (int(tail), None)
            return rainfall_anomaly(values, *extreme_means(base, count, share))
        if self.index.kind in _BY_ORDER:
            return _BY_ORDER[self.index.kind](values, base)
        if self.index.distribution is Distribution.GAMMA:
            return gamma_index(values, *fit_gamma(base))
        if self.index.distribution is Distribution.LOG_LOGISTIC:
            return logistic_index(values, base)
        return normal_index(values, base)

    def report(self, counts: Counter[str]) -> None:
        if counts["bounded"]:
            warn(
                f"{self.label}: {counts['bounded']:,} of {counts['values']:,} values lie beyond "
                "all that the base holds, such as no rain where every year of it had some; they "
                "have the index of the rarest value that a base of its length can tell"
            )
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} cells have no index, since "
                "their values are all equal or too few"
            )


@dataclass(frozen=True)
class Classes:
    """The class of each value between limits, counted from the middle one."""

    limits: tuple[float, ...]

    def __call__(self, block: Array) -> Array:
        half = len(self.limits) // 2
        # Values on a limit go to the class further from the middle.
        places = (
            np.where(
                block > 0,
                np.digitize(block, self.limits),
                np.digitize(block, self.limits, right=True),
            )
            - half
        )
        return np.where(np.isnan(block), -128, places)
