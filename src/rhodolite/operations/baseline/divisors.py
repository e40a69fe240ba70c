"""What is done to normals once they are there: smoothing, and setting aside what cannot be divided
by."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Array, LazyArray, Reduction, SeriesKernel
from rhodolite.errors import UsageError, warn
from rhodolite.kernels.smoothing import circular_mean, first_harmonics
from rhodolite.model.typed_value import TypedValue
from rhodolite.operations.baseline.base_period import BasePeriod

_TOO_SMALL = 1e-3


@dataclass(frozen=True)
class Smoothing(TypedValue):
    """How a cycle is smoothed: `31` for a centred window of that many phases, or `3 harmonics`.

    The window wraps around the ends of the cycle.
    """

    count: int
    harmonics: bool = False

    @classmethod
    def parse(cls, text: str) -> Self:
        number, harmonics = (
            text.strip().removesuffix("harmonics").removesuffix("harmonic").strip(),
            "harmonic" in text,
        )
        if not number.isdigit() or int(number) < 1 or (not harmonics and int(number) % 2 == 0):
            raise ValueError(
                f"'{text}' is no way to smooth; write an odd number of phases, such as 31, or '3 "
                "harmonics'"
            )
        return cls(int(number), harmonics)

    def __str__(self) -> str:
        return f"{self.count} harmonics" if self.harmonics else str(self.count)

    @property
    def words(self) -> str:
        """The smoothing as it reads in a comment."""
        return (
            f"first {self.count} harmonics"
            if self.harmonics
            else f"centred mean of {self.count} phases"
        )

    def check(self, base: BasePeriod) -> None:
        """Refuse a cycle that is too short, or has gaps."""
        phases = base.cycle.size(base.axis.calendar)
        most = (phases - 1) // 2 if self.harmonics else phases
        if len(base.cycle.parts) > 1 or self.count > most:
            most_text = (
                f", enough for {most}" if self.count > most else " of two kinds; smooth one cycle"
            )
            raise UsageError(
                f"--smooth {self}: the {base.cycle.word} cycle has {phases} phases{most_text}"
            )
        if base.present.size < phases:
            raise UsageError(
                f"--smooth {self}: the base lacks {phases - base.present.size} of {phases} phases"
            )

    def applied(self, normals: LazyArray) -> LazyArray:
        """Return normals, shape (phases, *cells), smoothed."""
        work = _Smoothed(self.count, self.harmonics, normals.shape[0])
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


def divisors(values: LazyArray, label: str, *, normals: bool) -> LazyArray:
    """Return what departures are divided by, shape (phases, *cells), with NaN where it is too
    small.

    Parameters
    ----------
    values : LazyArray
        Normals, or standard deviations.
    label : str
        What they are of, for the warning that counts them.
    normals : bool
        Normals are too small below a thousandth of the largest of their cycle; deviations at 0.
    """
    return Reduction(values, series=_Divisors(label, normals, values.shape[0])).output(
        "value", values.shape
    )


@dataclass
class _Divisors(SeriesKernel):
    label: str
    normals: bool
    phases: int
    axis: int = 0

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((self.phases,), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        size = np.abs(block)
        limit = (
            _TOO_SMALL * np.fmax.reduce(size, axis=0) if self.normals and len(block) > 1 else 0.0
        )
        bad = (size == 0) | (size < limit)
        return {"value": np.where(bad, np.nan, block)}, Counter(bad=int(bad.sum()), of=block.size)

    def report(self, counts: Counter[str]) -> None:
        if counts["bad"]:
            what = "normals are 0 or next to it" if self.normals else "standard deviations are 0"
            warn(
                f"{self.label}: {counts['bad']:,} of {counts['of']:,} {what}, and departures there "
                "are missing"
            )
