"""How often days lie beyond percentiles of calendar days that are set without their own year;
compiled."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.base_days import BaseDays
from rhodolite.kernels.compiled_moving_quantiles import place_of
from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.moving_quantiles import Changes
from rhodolite.kernels.ordered_bits import (
    SHIFT,
    find_value,
    list_places,
    place_rows,
    turn_rows,
)

Array = NDArray[Any]
_NOBODY = -2
"""A year that no day belongs to."""


@compiled_for("float64(float64[::1], int64[::1], int64, int64, int64, float64)")
def _quantile(
    outermost: Array, owners: Array, total: int, without: int, twice: int, share: float
) -> float:
    """Return a quantile of values, those of one year left out and those of another counted twice,
    which leaves `total` of them.

    `outermost` are the lowest of them in ascending order, or the highest in descending order where
    the quantile lies in the upper half; as many as are needed.
    """
    place = place_of(total, share)
    below = math.floor(place)
    part = place - below
    upward = share < 0.5
    first = below if upward else total - below
    passed, nearer = 0, np.nan
    for at in range(outermost.size):
        if owners[at] == without:
            continue
        passed += 2 if owners[at] == twice else 1
        if passed >= first and np.isnan(nearer):
            nearer = outermost[at]
        if passed >= first + 1:
            low, high = (nearer, outermost[at]) if upward else (outermost[at], nearer)
            return float(low if part == 0.0 else low + part * (high - low))
    return float(nearer)


@compiled_for("float64(float64, float64, boolean)")
def _beyond(value: float, threshold: float, below: bool) -> float:
    if below:
        return 1.0 if value < threshold else 0.0
    return 1.0 if value > threshold else 0.0


@compiled_for("float64(float64, boolean)")
def _if_inside(share: float, below: bool) -> float:
    """Return whether what lies inside of a quantile, as seen from the nearer end, is beyond it."""
    return 1.0 if below != (share < 0.5) else 0.0


@compiled_for("int64(int64, float64)")
def _rank_from_end(total: int, share: float) -> int:
    """Return how many of so many values lie no further inside than the outer one of the two that a
    quantile is between."""
    below = math.floor(place_of(total, share))
    return int(below if share < 0.5 else total - below)


@compiled_for(
    "void(float64, int64, float64[::1], int64[::1], boolean, int64[::1], int64[::1])"
)
def _count_outer(
    value: float,
    own: int,
    outermost: Array,
    owners: Array,
    upward: bool,
    outer: Array,
    equal: Array,
) -> None:
    """Put how many values of each year lie further outside than another, and how many are equal to
    it, into `outer` and `equal`; in the place of its own year those of all other years."""
    for year in range(outer.size):
        outer[year] = equal[year] = 0
    all_outer: Any = 0
    all_equal: Any = 0
    for at in range(outermost.size):
        other = outermost[at]
        if (other > value) if upward else (other < value):
            break
        owner = owners[at]
        if owner != own:
            same = np.int64(other == value)
            equal[owner] += same
            outer[owner] += 1 - same
            all_equal += same
            all_outer += 1 - same
    outer[own], equal[own] = all_outer, all_equal


@compiled_for(
    "float64(float64, int64, float64[::1], int64[::1], int64, int64[::1], float64, boolean, "
    "int64, int64[::1], int64[::1])"
)
def _share_beyond(
    value: float,
    own: int,
    outermost: Array,
    owners: Array,
    size: int,
    of_year: Array,
    share: float,
    below: bool,
    deepest: int,
    outer: Array,
    equal: Array,
) -> float:
    """Return for how many of the other years in its place a value lies beyond the quantile.

    `of_year` holds the number of values of each year, `size` of all; `deepest` is the most of them
    that lie further outside than any of these quantiles. For the last two see `_count_outer`.
    """
    upward = share < 0.5
    # What lies on the outer side of the quantile is beyond it, or what lies on the inner side.
    if_inner = _if_inside(share, below)
    if_outer = 1.0 - if_inner
    _count_outer(value, own, outermost, owners, upward, outer, equal)
    if outer[own] > deepest:
        return if_inner
    total, years, rank, between = 0.0, -1, 0, 0.0
    for other in range(of_year.size):
        if other == own:
            continue
        if of_year[other] != years:
            years = of_year[other]
            left = size - of_year[own] + years
            rank, between = _rank_from_end(left, share), np.nan
        # Where the quantile lies between two values on one side, it need not be found; and where it
        # lies between the neighbours of the value, it is the same for all of these years.
        outside = outer[own] + outer[other]
        if outside > rank:
            total += if_inner
        elif outside + equal[own] + equal[other] < rank:
            total += if_outer
        elif equal[own] > 0:
            threshold = _quantile(outermost, owners, left, own, other, share)
            total += _beyond(value, threshold, below)
        else:
            if np.isnan(between):
                threshold = _quantile(outermost, owners, left, own, other, share)
                between = _beyond(value, threshold, below)
            total += between
    return float(total / (of_year.size - 1))


@compiled_for("void(int64[::1], int64[::1], int32[::1], int64[::1], int64)")
def _count_years(
    of_year: Array, year: Array, places: Array, rows: Array, change: int
) -> None:
    """Bring the number of values of each year up to date with days that come or go."""
    for row in rows:
        if places[row] >= 0:
            of_year[year[row]] += change


@compiled
def _take_tail(
    row: Array,
    ranked: Array,
    year: Array,
    listed: Array,
    upward: bool,
    outermost: Array,
    owners: Array,
) -> None:
    """Put the values at some places in order, and their years, into `outermost` and `owners`, the
    outermost first."""
    last = listed.size - 1
    for number in range(listed.size):
        day = ranked[listed[number if upward else last - number]]
        outermost[number], owners[number] = row[day], year[day]


@compiled
def find_exceedance(
    rows: Array,
    order: Array,
    known: Array,
    days: BaseDays,
    changes: Changes,
    share: float,
    below: bool,
    needed: float,
) -> Array:
    """Return which days lie beyond the percentile of their calendar day; see
    `daily_percentiles.exceedance_of_rows`.

    Parameters
    ----------
    rows : ndarray of float64, shape (cells, n)
    order, known : ndarray
        See `series_order.order_series`.
    days : BaseDays
    changes : Changes
        Of the members of the calendar days.
    share : float
    below : bool
    needed : float
    """
    result = np.full(rows.shape, np.nan)
    length = rows.shape[1]
    listed, owners = np.empty(length, np.int64), np.empty(length, np.int64)
    places, outermost = np.empty(length, np.int32), np.empty(length)
    words = np.empty((length >> SHIFT) + 1, np.uint64)
    counts, cursor = np.empty(words.size, np.int64), np.empty(2, np.int64)
    of_year = np.empty(max(days.years, 1), np.int64)
    outer, equal = np.empty_like(of_year), np.empty_like(of_year)
    of_phase = np.argsort(days.phase, kind="mergesort")
    edges = np.searchsorted(days.phase[of_phase], np.arange(days.starts.size))
    comes, goes = changes
    if_inner, upward = _if_inside(share, below), share < 0.5
    for cell in range(rows.shape[0]):
        row, ranked = rows[cell], order[cell]
        place_rows(ranked, known[cell], places)
        words[:] = 0
        counts[:] = 0
        cursor[:] = 0
        of_year[:] = 0
        size = 0
        for phase in range(days.starts.size - 1):
            gone = goes[1][goes[0][phase] : goes[0][phase + 1]]
            come = comes[1][comes[0][phase] : comes[0][phase + 1]]
            size += turn_rows(words, counts, cursor, places, gone, -1)
            size += turn_rows(words, counts, cursor, places, come, 1)
            _count_years(of_year, days.year, places, gone, -1)
            _count_years(of_year, days.year, places, come, 1)
            if size == 0 or size < needed * (
                days.starts[phase + 1] - days.starts[phase]
            ):
                continue
            # No choice of years moves the quantile further inside.
            most = of_year.max()
            deepest = _rank_from_end(size - of_year.min() + most, share)
            tail = min(deepest + most + 1, size)
            first = 0 if upward else size - tail
            at = find_value(words, counts, cursor, first)
            list_places(words, at, tail, listed)
            _take_tail(row, ranked, days.year, listed[:tail], upward, outermost, owners)
            tail_values, tail_owners = outermost[:tail], owners[:tail]
            plain = _quantile(tail_values, tail_owners, size, _NOBODY, _NOBODY, share)
            for number in range(edges[phase], edges[phase + 1]):
                day = of_phase[number]
                value, own = row[day], days.year[day]
                if np.isnan(value):
                    continue
                last = tail_values[tail - 1]
                if own < 0 or days.years < 2:
                    result[cell, day] = _beyond(value, plain, below)
                # Most days, without the cost of a call.
                elif (value > last) if upward else (value < last):
                    result[cell, day] = if_inner
                else:
                    given = size, of_year, share, below, deepest, outer, equal
                    result[cell, day] = _share_beyond(
                        value, own, tail_values, tail_owners, *given
                    )
    return result
