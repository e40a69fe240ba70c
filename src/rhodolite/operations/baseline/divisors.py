"""What is done to normals once they are there: smoothing, and setting aside what cannot be divided
by."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Reduction, SeriesKernel
from rhodolite.errors import warn

_TOO_SMALL = 1e-3


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
            _TOO_SMALL * np.fmax.reduce(size, axis=0)
            if self.normals and len(block) > 1
            else 0.0
        )
        bad = (size == 0) | (size < limit)
        return {"value": np.where(bad, np.nan, block)}, Counter(
            bad=int(bad.sum()), of=block.size
        )

    def report(self, counts: Counter[str]) -> None:
        if counts["bad"]:
            what = (
                "normals are 0 or next to it"
                if self.normals
                else "standard deviations are 0"
            )
            warn(
                f"{self.label}: {counts['bad']:,} of {counts['of']:,} {what}, and departures there "
                "are missing"
            )
