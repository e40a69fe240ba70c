"""How often days lie beyond percentiles of calendar days that are set without their own year;
compiled."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.base_days import BaseDays
from rhodolite.kernels.calendar_day_quantiles import place_of
from rhodolite.kernels.compiling import compiled, compiled_for

Array = NDArray[Any]
_NOBODY = -2
"""A year that no day belongs to."""


@compiled_for("float64(float64[::1], int64[::1], int64, int64, int64, float64)")
def _quantile(
    ordered: Array, owners: Array, total: int, without: int, twice: int, share: float
) -> float:
    """Return a quantile of values in order, those of one year left out and those of another
    counted twice, which leaves `total` values."""
    place = place_of(total, share)
    below = math.floor(place)
    part = place - below
    # Counted from the nearer end; from the upper one the higher of the two values comes first.
    upward = share < 0.5
    size = ordered.size
    first = below if upward else total - below
    second = first + 1
    passed, nearer = 0, np.nan
    for step in range(size):
        at = step if upward else size - 1 - step
        if owners[at] == without:
            continue
        passed += 2 if owners[at] == twice else 1
        if passed >= first and np.isnan(nearer):
            nearer = ordered[at]
        if passed >= second:
            low, high = (nearer, ordered[at]) if upward else (ordered[at], nearer)
            return float(low if part == 0.0 else low + part * (high - low))
    return float(nearer)


@compiled_for("int64(float64[::1], int64[::1], int64[::1], float64[::1], int64[::1])")
def _gather(
    row: Array, year: Array, members: Array, ordered: Array, owners: Array
) -> int:
    """Put the values of some days in order, with the year of each, and return their number."""
    count = 0
    for day in members:
        if not np.isnan(row[day]):
            ordered[count] = row[day]
            owners[count] = year[day]
            count += 1
    places = np.argsort(ordered[:count])
    ordered[:count] = ordered[:count][places]
    owners[:count] = owners[:count][places]
    return count


@compiled_for("float64(float64, float64, boolean)")
def _beyond(value: float, threshold: float, below: bool) -> float:
    if below:
        return 1.0 if value < threshold else 0.0
    return 1.0 if value > threshold else 0.0


@compiled_for(
    "float64(float64, int64, float64[::1], int64[::1], int64[::1], float64, boolean)"
)
def _share_beyond(
    value: float,
    own: int,
    ordered: Array,
    owners: Array,
    of_year: Array,
    share: float,
    below: bool,
) -> float:
    """Return for how many of the other years in its place a value lies beyond the quantile.

    `of_year` holds the number of values of each year.
    """
    size, most = ordered.size, of_year.max()
    remaining = size - of_year[own]
    # No choice of a year moves the quantile past these values.
    low = math.floor(place_of(remaining, share)) - 1 - most
    high = math.floor(place_of(remaining + most, share)) + of_year[own]
    if high < size and value > ordered[high]:
        return 0.0 if below else 1.0
    if low >= 0 and value < ordered[low]:
        return 1.0 if below else 0.0
    total = 0.0
    for other in range(of_year.size):
        if other != own:
            threshold = _quantile(
                ordered,
                owners,
                remaining + of_year[other],
                own,
                other,
                share,
            )
            total += _beyond(value, threshold, below)
    return float(total / (of_year.size - 1))


@compiled
def find_exceedance(
    rows: Array,
    days: BaseDays,
    share: float,
    below: bool,
    needed: float,
) -> Array:
    """Return which days lie beyond the percentile of their calendar day; see
    `daily_percentiles.exceedance_of_rows`.

    Examples
    --------
    >>> from rhodolite.kernels.base_days import choose_base_days
    >>> rows = np.array([[1.0, 2.0, 3.0, 9.0]])
    >>> days = choose_base_days(np.zeros(4, int), np.array([0, 1, 2, -1]), 1, 1)
    >>> find_exceedance(rows, days, 0.5, False, 0.8).tolist()
    [[0.0, 0.5, 1.0, 1.0]]
    """
    result = np.full(rows.shape, np.nan)
    ordered = np.empty(days.members.size)
    owners = np.empty(days.members.size, np.int64)
    of_phase = np.argsort(days.phase, kind="mergesort")
    edges = np.searchsorted(days.phase[of_phase], np.arange(days.starts.size))
    for cell in range(rows.shape[0]):
        row = rows[cell]
        for phase in range(days.starts.size - 1):
            around = days.members[days.starts[phase] : days.starts[phase + 1]]
            count = _gather(row, days.year, around, ordered, owners)
            if count == 0 or count < needed * around.size:
                continue
            inside = ordered[:count]
            of_year = np.zeros(max(days.years, 1), np.int64)
            for owner in owners[:count]:
                of_year[owner] += 1
            nobody = _NOBODY
            plain = _quantile(inside, owners[:count], count, nobody, nobody, share)
            for place in range(edges[phase], edges[phase + 1]):
                day = of_phase[place]
                own = days.year[day]
                if np.isnan(row[day]):
                    continue
                if own < 0 or days.years < 2:
                    result[cell, day] = _beyond(row[day], plain, below)
                    continue
                result[cell, day] = _share_beyond(
                    row[day], own, inside, owners[:count], of_year, share, below
                )
    return result
