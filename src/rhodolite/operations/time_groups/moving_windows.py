"""Statistics of windows that move along time, over whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.available import can_compile
from rhodolite.kernels.moving_quantiles import (
    changes_of_windows,
    find_moving_quantiles,
)
from rhodolite.kernels.sliding import KINDS, SPREADS, slide, slide_quantile
from rhodolite.operations.parameters.statistic import Measure

_EPSILON = 1e-9
_WORTH_COMPILING = 1 << 15
"""Values whose percentiles, window by window, take longer than to load what is compiled."""
_WIDE = 12
"""Steps of a window from which on quantiles of series with gaps come from the order of the whole
series."""
_WIDEST = 128
"""Steps of a window up to which it is faster to keep its values in order."""
Indices = NDArray[np.intp]


@dataclass
class MovingWindows(SeriesKernel):
    """The statistic of the window around each step.

    Parameters
    ----------
    label : str
        Of the result, for messages.
    axis : int
        Where time lies.
    order : ndarray of int
        The steps in the order of time.
    windows : list of (ndarray of int, ndarray of int)
        Where the window of each step begins and ends, in this order; of several, the middle of
        their statistics is meant.
    measure : Measure
    weights : ndarray of float64, optional
        Of the steps.
    length : int
        Steps of a full window.
    share : float
        Of a window, that has to be there.
    """

    label: str
    axis: int
    order: Indices
    windows: list[tuple[Indices, Indices]]
    measure: Measure
    weights: Array | None
    length: int
    share: float

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((len(self.order),), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        # Kernels widen single precision as they go, without a copy of the block.
        values = block if block.dtype == np.float32 else np.asarray(block, np.float64)
        # Nearly all series are in order already, and need no copies.
        turned = not np.array_equal(self.order, np.arange(len(self.order)))
        if turned:
            values = values[self.order]
        weights = None if self.weights is None else self.weights[self.order]
        flat = values.reshape(len(values), -1)
        gaps = np.isnan(flat).sum(axis=0)
        parts = [self._of_all(flat, gaps, weights, *window) for window in self.windows]
        results = parts[0] if len(parts) == 1 else np.asarray(sum(parts) / len(parts))
        missing = np.isnan(results)
        if gaps.any():
            missing &= ~np.isnan(flat)
        lost = int(np.count_nonzero(missing))
        results = results.reshape(values.shape)
        if turned:
            placed = np.empty_like(results)
            placed[self.order] = results
            results = placed
        return {"value": results}, Counter(lost=lost, of=values.size)

    def _of_all(
        self,
        flat: Array,
        gaps: Array,
        weights: Array | None,
        begins: Indices,
        ends: Indices,
    ) -> Array:
        """Return the statistic of each step's window: of all full ones at once where that is
        possible, and one by one of others.

        Parameters
        ----------
        flat : ndarray of float32 or float64, shape (n, cells)
        gaps : ndarray of int, shape (cells,)
            How many values of each cell are missing.
        weights : ndarray of float64, shape (n,), optional
        begins, ends : ndarray of int, shape (n,)

        Returns
        -------
        ndarray of float64, shape (n, cells)
        """
        share, slides = self.measure.share, self._slides(flat.size)
        ordered = share is not None and slides and self.length >= _WIDE
        if share is not None and ordered and self.length > _WIDEST:
            return self._quantiles(flat, share, begins, ends)
        full = ends - begins == self.length
        # Cell by cell, so that a gap in one changes nothing in others.
        whole = (gaps == 0) & slides & full.any()
        broken = ~whole & (gaps < len(flat))
        if whole.all():
            results = self._slid(flat, weights, begins, full)
        else:
            results = np.full(flat.shape, np.nan)
            if whole.any():
                results[:, whole] = self._slid(flat[:, whole], weights, begins, full)
        if share is not None and ordered and broken.any():
            results[:, broken] = self._quantiles(flat[:, broken], share, begins, ends)
            broken[:] = False
        for cells, steps in (
            (whole, np.flatnonzero(~full)),
            (broken, np.arange(len(flat))),
        ):
            if cells.any():
                chosen = flat if cells.all() else flat[:, cells]
                for at in steps:
                    window = begins[at], ends[at]
                    results[at, cells] = self._of_one(chosen, weights, *window)
        return results

    def _quantiles(
        self, flat: Array, share: float, begins: Indices, ends: Indices
    ) -> Array:
        """Return the quantile of each step's window, from that of the window before."""
        changes = changes_of_windows(begins, ends)
        results, sizes = find_moving_quantiles(flat, changes, share)
        results[sizes < self._needed] = np.nan
        return results

    @property
    def _needed(self) -> float:
        """How many values a window needs."""
        return max(self.share * self.length - _EPSILON, _EPSILON)

    def _slides(self, size: int) -> bool:
        """Return whether the statistics of all windows of so many values are found at once."""
        if self.measure.share is None and self.measure.kind not in SPREADS:
            return self.measure.kind in KINDS
        return size >= _WORTH_COMPILING and can_compile()

    def _slid(
        self, values: Array, weights: Array | None, begins: Indices, full: Array
    ) -> Array:
        """Return the statistic of all full windows at once, missing for others."""
        steps = np.flatnonzero(full)
        count = len(values) - self.length + 1
        if np.array_equal(begins[steps], np.arange(count)) and np.ptp(steps) < count:
            # By far the most usual case, without a copy.
            results = np.empty(values.shape)
            results[: steps[0]] = results[steps[-1] + 1 :] = np.nan
            self._slide(values, weights, results[steps[0] : steps[-1] + 1])
            return results
        results = np.full(values.shape, np.nan)
        slid = np.empty((count, *values.shape[1:]))
        self._slide(values, weights, slid)
        results[steps] = slid[begins[steps]]
        return results

    def _slide(self, values: Array, weights: Array | None, out: Array) -> None:
        if self.measure.share is None:
            slide(values, weights, self.measure.kind, self.length, out)
        else:
            slide_quantile(values, self.measure.share, self.length, out)

    def _of_one(
        self, series: Array, weights: Array | None, begin: int, end: int
    ) -> Array:
        """Return the statistic of one window, missing where too little of it is there."""
        values = series[begin:end].astype(np.float64, copy=False)
        weights = _part(weights, begin, end)
        missing = np.full(values.shape[1:], np.nan)
        if len(values) < self._needed:
            return missing
        if self.measure.merges:
            kernel, name = self.measure.statistic(weighted=weights is not None)
            gathered = kernel.gather(values, np.zeros(len(values), np.intp), 1, weights)
            result, count = kernel.finish(gathered)[name][0], gathered.count[0]
        else:
            result, count = self.measure.of_all(values), (~np.isnan(values)).sum(axis=0)
        return np.where(count >= self._needed, result, missing)

    def report(self, counts: Counter[str]) -> None:
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} values are missing, since "
                "their windows reach beyond the data or lack steps; --min-coverage changes how "
                "much is needed"
            )


def _part(weights: Array | None, begin: int, end: int) -> Array | None:
    return None if weights is None else weights[begin:end]
