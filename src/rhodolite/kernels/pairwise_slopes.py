"""Medians of the slopes between all pairs of values of a series, and limits of them; compiled.

Importing this module takes a second, and the first use on a machine compiles it, which takes
some more; so it is imported where it is used.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

Array = NDArray[Any]
_FEW = 1 << 13
"""Of series with more pairs than this only those are computed that matter."""
_SAMPLE = 4096
"""Slopes by which those that matter are looked for."""
_SLACK = 2.5
"""Standard deviations of a share of the sample, by which the bracket is wider on each side."""
_WIDTH = 1e-9
"""Of the range of slopes: so far do brackets reach beyond the sample's slopes, so that equal ones,
which rounded values give many of, lie on no edge."""
_RUN = 16


@njit(nogil=True, cache=True)
def sen_of_rows(
    x: Array, rows: Array, firsts: Array, members: Array, reach: Array, out: Array
) -> None:
    """Put statistic, median slope and its lower and upper limit of each series into `out`.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
        Times, ascending.
    rows : ndarray of float64, shape (cells, n)
        NaN marks missing values.
    firsts : ndarray of int, shape (seasons + 1,)
        Where the steps of each season begin among `members`.
    members : ndarray of int, shape (n,)
        Steps of each season in turn, ascending within it; only pairs of the same season count.
    reach : ndarray of float64, shape (cells,)
        By how many places the limits lie apart.
    out : ndarray of float64, shape (4, cells)
        NaN where there are no two values.

    Notes
    -----
    The places of the limits among the slopes in order are those of Sen 1968, Journal of the
    American Statistical Association 63, 1379-1389, rounded half to even.
    """
    n = x.size
    few = np.empty(_FEW)
    xs, ys = np.empty(n), np.empty(n)
    for cell in range(rows.shape[0]):
        # The values that are there, season by season.
        ends = np.empty(firsts.size, np.int64)
        ends[0] = 0
        held = 0
        count = 0
        for season in range(firsts.size - 1):
            for at in range(firsts[season], firsts[season + 1]):
                step = members[at]
                value = rows[cell, step]
                if not np.isnan(value):
                    xs[held], ys[held] = x[step], value
                    held += 1
            ends[season + 1] = held
            size = held - ends[season]
            count += size * (size - 1) // 2
        if count == 0:
            out[:, cell] = np.nan
            continue
        low, high = _limits(count, reach[cell])
        places = (low, (count - 1) // 2, count // 2, high)
        if count > _FEW and firsts.size == 2:
            _of_long_series(xs[:held], ys[:held], places, out[:, cell])
            continue
        slopes = few[:count] if count <= _FEW else np.empty(count)
        out[0, cell] = _all_slopes(xs, ys, ends, slopes)
        _median_and_limits(slopes, places, 0, out[:, cell])


@njit(nogil=True, cache=True)
def _limits(count: int, reach: float) -> tuple[int, int]:
    """Return the places of the confidence limits among `count` slopes in order."""
    low = max(int(np.rint((count - reach) / 2)) - 1, 0)
    high = min(int(np.rint((count + reach) / 2)), count - 1)
    return low, max(high, 0)


@njit(nogil=True, cache=True)
def _all_slopes(xs: Array, ys: Array, ends: Array, slopes: Array) -> float:
    """Compute the slope of every pair, and return rising less falling pairs."""
    score = 0
    at = 0
    for season in range(ends.size - 1):
        for i in range(ends[season], ends[season + 1]):
            for j in range(i + 1, ends[season + 1]):
                change = ys[j] - ys[i]
                score += (change > 0) - (change < 0)
                slopes[at] = change / (xs[j] - xs[i])
                at += 1
    return float(score)


@njit(nogil=True, cache=True)
def _median_and_limits(
    slopes: Array, places: tuple[int, int, int, int], before: int, out: Array
) -> None:
    """Put median and limits into `out`, given how many slopes lie before those that are there."""
    low, lower, upper, high = places
    bottom = select(slopes, low - before, 0)
    first = select(slopes, lower - before, low - before)
    second = first if upper == lower else select(slopes, upper - before, lower - before)
    out[1] = (first + second) / 2
    out[2] = bottom
    out[3] = select(slopes, high - before, upper - before)


@njit(nogil=True, cache=True)
def select(values: Array, place: int, start: int) -> float:
    """Return the value at a place in order; those before it are then all on its left.

    Parameters
    ----------
    values : ndarray of float64, shape (n,)
        Put in another order.
    place : int
    start : int
        All values at earlier places are in order with those from here on already.

    Notes
    -----
    Hoare 1961, Communications of the ACM 4, 321-322 (Find), with the median of three as pivot. The
    values are parted without branches, which processors cannot foresee here: those below the pivot
    first, and only where the place lies beyond them those that are equal to it.
    """
    left, right = start, values.size - 1
    while right - left > _RUN:
        a, b, c = values[left], values[(left + right) // 2], values[right]
        pivot = max(min(a, b), min(max(a, b), c))
        edge = left
        for i in range(left, right + 1):
            value = values[i]
            values[i] = values[edge]
            values[edge] = value
            edge += value < pivot
        if place < edge:
            right = edge - 1
            continue
        left = edge
        for i in range(left, right + 1):
            value = values[i]
            values[i] = values[edge]
            values[edge] = value
            edge += value <= pivot
        if place < edge:
            return float(pivot)
        left = edge
    for i in range(left + 1, right + 1):
        value = values[i]
        j = i - 1
        while j >= left and values[j] > value:
            values[j + 1] = values[j]
            j -= 1
        values[j + 1] = value
    return float(values[place])


@njit(nogil=True, cache=True)
def _of_long_series(x: Array, y: Array, places: tuple[int, int, int, int], out: Array) -> None:
    """Put statistic, median slope and limits of a long series without gaps into `out`.

    A sample of slopes brackets each of those that are wanted. A pair has a slope below an edge of
    the bracket where its values change their order when a line of that slope is taken away, so
    that they are counted by sorting, and only the slopes within the bracket are computed.
    """
    n = x.size
    count = n * (n - 1) // 2
    ranks = np.argsort(y, kind="mergesort")
    out[0] = count - _tied_pairs(y[ranks]) - 2 * _count_inversions(y)
    sample = _sample(x, y)
    spread = _WIDTH * (sample.max() - sample.min())
    centred = x - x.mean()
    room = np.empty(count // 4 + 64)
    low, lower, upper, high = places
    first, second = _find_two(x, y, centred, sample, spread, lower, upper, room)
    out[1] = (first + second) / 2
    out[2], _ = _find_two(x, y, centred, sample, spread, low, low, room)
    out[3], _ = _find_two(x, y, centred, sample, spread, high, high, room)


@njit(nogil=True, cache=True)
def _find_two(
    x: Array,
    y: Array,
    centred: Array,
    sample: Array,
    spread: float,
    place: int,
    next_place: int,
    room: Array,
) -> tuple[float, float]:
    """Return the slopes at a place and at the one after it, or twice the same."""
    n = x.size
    count = n * (n - 1) // 2
    share = place / count * sample.size
    slack = _SLACK * np.sqrt(sample.size) / 2
    first, last = int(np.floor(share - slack)), int(share + slack) + 1
    # Beyond the ends of the sample the bracket is open.
    low = select(sample, first, 0) - spread if first >= 0 else -np.inf
    high = select(sample, last, max(first, 0)) + spread if last < sample.size else np.inf
    before, within = _within(x, y, centred, low, high, room)
    slopes = room[: max(within, 0)]
    if within < 0 or place < before or next_place >= before + within:
        # The sample was misleading, or very many slopes are equal.
        before, slopes = 0, np.empty(count)
        _all_slopes(x, y, np.array([0, n]), slopes)
    value = select(slopes, place - before, 0)
    if next_place == place:
        return value, value
    return value, select(slopes, next_place - before, place - before)


@njit(nogil=True, cache=True)
def _sample(x: Array, y: Array) -> Array:
    """Return the slopes of pairs chosen at random, the same in every run."""
    n = x.size
    sample = np.empty(_SAMPLE)
    state = np.uint64(88172645463325252)
    at = 0
    while at < _SAMPLE:
        # Marsaglia 2003, Journal of Statistical Software 8 (14): xorshift with 13, 7, 17.
        state ^= state << np.uint64(13)
        state ^= state >> np.uint64(7)
        state ^= state << np.uint64(17)
        i = int((state >> np.uint64(33)) % np.uint64(n))
        j = int((state & np.uint64(0x7FFFFFFF)) % np.uint64(n))
        if i != j:
            sample[at] = (y[j] - y[i]) / (x[j] - x[i])
            at += 1
    return sample


@njit(nogil=True, cache=True)
def _within(
    x: Array, y: Array, centred: Array, low: float, high: float, room: Array
) -> tuple[int, int]:
    """Return how many slopes lie below a bracket and how many in it, which are put into `room`.

    The second number is negative where there is too little room.
    """
    n = x.size
    if np.isinf(low):
        # Where a line of endless fall is taken away, the order is that of time.
        order = np.arange(n)
        before = 0
    else:
        below = y - low * centred
        order = np.argsort(below, kind="mergesort")
        before = _count_inversions(below)
    if np.isinf(high):
        # A line of endless rise turns the order of time round.
        keys = -np.arange(n).astype(np.float64)
    else:
        keys = y - high * centred
    within = _report(keys[order], order, x, y, room)
    return before, within


@njit(nogil=True, cache=True)
def _report(keys: Array, order: Array, x: Array, y: Array, room: Array) -> int:
    """Sort keys by merging, and put the slope of each pair that changes its order into `room`.

    Returns
    -------
    int
        How many there are; negative where there is too little room.
    """
    n = keys.size
    held, index = keys.copy(), order.copy()
    other_held, other_index = np.empty(n), np.empty(n, order.dtype)
    found = 0
    width = 1
    while width < n:
        for start in range(0, n, 2 * width):
            middle, stop = min(start + width, n), min(start + 2 * width, n)
            left, right, at = start, middle, start
            while left < middle or right < stop:
                if right < stop and (left == middle or held[right] <= held[left]):
                    j = index[right]
                    if found + middle - left > room.size:
                        return -1
                    for k in range(left, middle):
                        i = index[k]
                        if i < j:
                            room[found] = (y[j] - y[i]) / (x[j] - x[i])
                            found += 1
                    other_held[at], other_index[at] = held[right], j
                    right += 1
                else:
                    other_held[at], other_index[at] = held[left], index[left]
                    left += 1
                at += 1
        held, other_held = other_held, held
        index, other_index = other_index, index
        width *= 2
    return found


@njit(nogil=True, cache=True)
def _count_inversions(values: Array) -> int:
    """Return how many pairs have the larger value first, counted while they are merged in order."""
    n = values.size
    held, other = values.copy(), np.empty(n)
    found = 0
    width = 1
    while width < n:
        for start in range(0, n, 2 * width):
            middle, stop = min(start + width, n), min(start + 2 * width, n)
            left, right, at = start, middle, start
            while left < middle or right < stop:
                if right < stop and (left == middle or held[right] < held[left]):
                    found += middle - left
                    other[at] = held[right]
                    right += 1
                else:
                    other[at] = held[left]
                    left += 1
                at += 1
        held, other = other, held
        width *= 2
    return found


@njit(nogil=True, cache=True)
def _tied_pairs(ordered: Array) -> int:
    """Return how many pairs of values in order are equal."""
    pairs = 0
    run = 0
    for at in range(1, ordered.size):
        run = run + 1 if ordered[at] == ordered[at - 1] else 0
        pairs += run
    return pairs


@njit(nogil=True, cache=True)
def kendall_of_rows(rows: Array, out: Array) -> None:
    """Put rising less falling pairs of each series into `out`.

    Parameters
    ----------
    rows : ndarray of float64, shape (cells, n)
        NaN marks missing values.
    out : ndarray of float64, shape (cells,)
    """
    series = np.empty(rows.shape[1])
    for cell in range(rows.shape[0]):
        held = 0
        for value in rows[cell]:
            if not np.isnan(value):
                series[held] = value
                held += 1
        there = series[:held]
        ordered = np.sort(there)
        pairs = held * (held - 1) // 2
        out[cell] = pairs - _tied_pairs(ordered) - 2 * _count_inversions(there)
