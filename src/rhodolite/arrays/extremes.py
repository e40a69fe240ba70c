"""The minimum and the maximum value of an array."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from rhodolite.arrays.lazy import Array, Region
from rhodolite.arrays.reduction import Accumulator


@dataclass
class MinMax(Accumulator):
    """Minimum and maximum value; NaN where there are none. Missing values (NaN) are passed over."""

    low: float = np.nan
    high: float = np.nan

    def start(self) -> Self:
        return replace(self, low=np.nan, high=np.nan)

    def add(self, block: Array, region: Region) -> None:  # noqa: ARG002
        self.low, self.high = (
            float(f.reduce(block, axis=None)) for f in (np.fmin, np.fmax)
        )

    def merge(self, other: Self) -> None:
        self.low, self.high = (
            float(np.fmin(self.low, other.low)),
            float(np.fmax(self.high, other.high)),
        )

    def finish(self) -> dict[str, Array]:
        return {"extremes": np.array([self.low, self.high])}
