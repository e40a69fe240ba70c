"""Normals smoothed along their cycle."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Reduction, SeriesKernel
from rhodolite.errors import UsageError
from rhodolite.kernels.smoothing import circular_mean, first_harmonics
from rhodolite.operations.baseline.base_period import BasePeriod
from rhodolite.operations.parameters.smoothing import Smoothing


def check_smoothing(smoothing: Smoothing, base: BasePeriod) -> None:
    """Refuse a cycle that is too short, or has gaps."""
    phases = base.cycle.size(base.axis.calendar)
    most = (phases - 1) // 2 if smoothing.harmonics else phases
    if len(base.cycle.parts) > 1 or smoothing.count > most:
        most_text = (
            f", enough for {most}"
            if smoothing.count > most
            else " of two kinds; smooth one cycle"
        )
        raise UsageError(
            f"--smooth {smoothing}: the {base.cycle.word} cycle has {phases} phases{most_text}"
        )
    if base.present.size < phases:
        raise UsageError(
            f"--smooth {smoothing}: the base lacks {phases - base.present.size} of {phases} phases"
        )


def smooth_cycle(smoothing: Smoothing, normals: LazyArray) -> LazyArray:
    """Return normals, shape (phases, *cells), smoothed.

    Parameters
    ----------
    smoothing : Smoothing
    normals : LazyArray
        Shape (phases, *cells).
    """
    work = _Smoothed(smoothing.count, smoothing.harmonics, normals.shape[0])
    return Reduction(normals, series=work).output("value", normals.shape)


@dataclass
class _Smoothed(SeriesKernel):
    count: int
    harmonics: bool
    phases: int
    axis: int = 0

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((self.phases,), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        smooth = first_harmonics if self.harmonics else circular_mean
        return {"value": smooth(block, self.count)}, Counter()
