"""Slow and quick variations, told apart by weights that move along time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.lanczos import lanczos_weights, low_pass


@dataclass(frozen=True)
class Band:
    """Which periods are kept, in steps.

    Attributes
    ----------
    longer, shorter : float or None
        Periods that are longer than the one and shorter than the other; no limit where None.
    half : int
        Steps on either side of the middle of the filter.
    """

    longer: float | None
    shorter: float | None
    half: int

    @property
    def departs(self) -> bool:
        """Whether the result has no mean, since slow variations are taken away."""
        return self.shorter is not None

    def of(self, values: Array, share: float) -> Array:
        """Return the part of the variations of values, at even distances, that is kept."""
        passed = (
            values if self.longer is None else self._slow(values, self.longer, share)
        )
        if self.shorter is None:
            return passed
        return np.asarray(passed - self._slow(values, self.shorter, share))

    def _slow(self, values: Array, period: float, share: float) -> Array:
        return low_pass(values, lanczos_weights(period, self.half), share)


@dataclass
class Filtered(SeriesKernel):
    """The variations of whole series within a band of periods.

    Attributes
    ----------
    label : str
    axis : int
    places : ndarray of int
        Where each step stands among evenly spaced ones.
    band : Band
    share : float
        Of the weights that has to be there.
    """

    label: str
    axis: int
    places: NDArray[np.int64]
    band: Band
    share: float

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((len(self.places),), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = np.full((int(self.places.max()) + 1, *block.shape[1:]), np.nan)
        values[self.places] = block
        result = self.band.of(values, self.share)[self.places]
        known = ~np.isnan(block)
        result = np.where(known, result, np.nan) if self.band.longer is None else result
        lost = int((np.isnan(result) & known).sum())
        return {"value": result}, Counter(lost=lost, of=int(known.sum()))

    def report(self, counts: Counter[str]) -> None:
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} values are missing, since "
                "the filter reaches beyond the data there, or over gaps; --min-coverage changes "
                "how much is needed"
            )
