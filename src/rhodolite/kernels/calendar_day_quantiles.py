"""Quantiles of calendar days over the years of a base, at many cells at once; compiled."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.selection import select

Array = NDArray[Any]
_CELLS_AT_ONCE = 64
"""Whose outermost values stay in the first cache of a core."""
_FEW = 24
"""So many outermost values are kept in order faster than a place among all is looked for."""


@compiled_for("float64(int64, float64)")
def place_of(total: int, share: float) -> float:
    """Return the place of a quantile among so many values in order, counted from 1.

    Notes
    -----
    Definition 8 of Hyndman and Fan 1996 (The American Statistician 50), as Zhang and others 2005
    have it.
    """
    place = total * share + (share + 1.0) / 3.0
    return float(min(max(place, 1.0), float(total)))


@compiled_for("int64(int64, float64)")
def _count_beyond(total: int, share: float) -> int:
    """Return how many of the lowest values a quantile needs, or of the highest where it lies in the
    upper half."""
    below = math.floor(place_of(total, share))
    return int(below + 1 if share < 0.5 else total - below + 1)


@compiled_for("float64(float64, float64, float64)")
def _between(low: float, high: float, part: float) -> float:
    return low if part == 0.0 else low + part * (high - low)


@compiled_for("void(float64[::1], float64[::1])")
def _sift(lower: Array, carried: Array) -> None:
    """Leave the lower of two values of each cell, and carry the higher."""
    for cell in range(lower.size):
        ours, theirs = lower[cell], carried[cell]
        lower[cell] = ours if ours < theirs else theirs
        carried[cell] = theirs if ours < theirs else ours


@compiled_for("void(float64[:, ::1], int64[::1], float64[:, ::1], int64[::1], boolean)")
def _keep_outermost(
    values: Array, around: Array, outermost: Array, counts: Array, lowest: bool
) -> None:
    """Put the lowest values of each cell in order, or the highest with their signs turned, and
    count those that are there."""
    cells = counts.size
    outermost[:] = np.inf
    counts[:] = 0
    carried = np.empty(cells)
    for day in around:
        of_day = values[day]
        for cell in range(cells):
            value = of_day[cell]
            known = value == value
            counts[cell] += known
            signed = value if lowest else -value
            carried[cell] = signed if known else np.inf
        for place in range(outermost.shape[0]):
            _sift(outermost[place], carried)


@compiled_for("float64(float64[:, ::1], int64, int64, float64)")
def _quantile_of_outermost(
    outermost: Array, cell: int, count: int, share: float
) -> float:
    place = place_of(count, share)
    below = math.floor(place)
    if share < 0.5:
        low, high = outermost[below - 1, cell], outermost[below, cell]
        return _between(low, high, place - below)
    top = count - below
    high = outermost[max(top - 1, 0), cell]
    return _between(-outermost[top, cell], -high, place - below)


@compiled_for("float64(float64[::1], float64)")
def _quantile_of_all(values: Array, share: float) -> float:
    """Return a quantile of values, whose order is lost."""
    place = place_of(values.size, share)
    below = math.floor(place)
    low = select(values, below - 1, 0)
    high = select(values, below, below) if place > below else low
    return _between(low, high, place - below)


@compiled
def find_thresholds(
    values: Array, starts: Array, members: Array, share: float, needed: float
) -> Array:
    """Return the quantile of each calendar day; see `daily_percentiles.thresholds_of_days`.

    Examples
    --------
    >>> from rhodolite.kernels.base_days import choose_base_days
    >>> values = np.array([[1.0], [2.0], [3.0], [4.0], [5.0]])
    >>> days = choose_base_days(np.zeros(5, int), np.arange(5), 1, 1)
    >>> find_thresholds(values, days.starts, days.members, 0.5, 0.8).tolist()
    [[3.0]]
    """
    phases, cells = starts.size - 1, values.shape[1]
    thresholds = np.full((phases, cells), np.nan)
    buffer = np.empty(members.size)
    most = _count_beyond(np.diff(starts).max(), share)
    for first in range(0, cells, _CELLS_AT_ONCE):
        part = values[:, first : first + _CELLS_AT_ONCE].copy()
        counts = np.empty(part.shape[1], np.int64)
        outermost = np.empty((most if most <= _FEW else 1, part.shape[1]))
        for phase in range(phases):
            around = members[starts[phase] : starts[phase + 1]]
            _keep_outermost(part, around, outermost, counts, share < 0.5)
            for cell in range(part.shape[1]):
                count = counts[cell]
                if count == 0 or count < needed * around.size:
                    continue
                if most <= _FEW:
                    quantile = _quantile_of_outermost(outermost, cell, count, share)
                else:
                    place = 0
                    for day in around:
                        buffer[place] = part[day, cell]
                        place += not math.isnan(part[day, cell])
                    quantile = _quantile_of_all(buffer[:count], share)
                thresholds[phase, first + cell] = quantile
    return thresholds
