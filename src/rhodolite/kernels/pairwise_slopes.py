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
_SLACK = 2.0
"""Standard deviations of a share of the sample, by which the bracket is wider on each side."""
_TRIALS = 3
"""Brackets that are tried, each wider on the side where the one before was too narrow."""
_WIDTH = 1e-9
"""Of the range of slopes: so far do brackets reach beyond the sample's slopes, so that equal ones,
which rounded values give many of, lie on no edge."""
_RUN = 16
_MANY, _PROBES = 512, 63
"""Of so many values and more a pivot is chosen by so many of them."""
_SHORT = 8
"""Runs of so many keys are sorted by insertion."""


@njit(nogil=True, cache=True, error_model="numpy")
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
    room = np.empty(n * (n - 1) // 8 + 64)
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
            _of_long_series(xs[:held], ys[:held], places, room, out[:, cell])
            continue
        slopes = few[:count] if count <= _FEW else np.empty(count)
        out[0, cell] = _all_slopes(xs, ys, ends, slopes)
        _median_and_limits(slopes, places, 0, out[:, cell])


@njit(nogil=True, cache=True, error_model="numpy")
def _limits(count: int, reach: float) -> tuple[int, int]:
    """Return the places of the confidence limits among `count` slopes in order."""
    low = max(int(np.rint((count - reach) / 2)) - 1, 0)
    high = min(int(np.rint((count + reach) / 2)), count - 1)
    return low, max(high, 0)


@njit(nogil=True, cache=True, error_model="numpy")
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


@njit(nogil=True, cache=True, error_model="numpy")
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


@njit(nogil=True, cache=True, error_model="numpy")
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
    Hoare 1961, Communications of the ACM 4, 321-322 (Find). The values are parted without
    branches, which processors cannot foresee here: those below the pivot first, and only where the
    place lies beyond them those that are equal to it.
    """
    left, right = start, values.size - 1
    while right - left > _RUN:
        pivot = _pivot(values, left, right, place)
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
    _insert(values, left, right + 1)
    return float(values[place])


@njit(nogil=True, cache=True, error_model="numpy")
def _pivot(values: Array, left: int, right: int, place: int) -> float:
    """Return a value by which those from `left` to `right` are parted.

    Of many, it is one that a sample puts a little beyond the place that is looked for, on the side
    of the middle: so nearly all on the other side are done with (after Floyd and Rivest 1975,
    Communications of the ACM 18, 165-172).
    """
    count = right - left + 1
    if count < _MANY:
        a, b, c = values[left], values[(left + right) // 2], values[right]
        return float(max(min(a, b), min(max(a, b), c)))
    sample = np.empty(_PROBES)
    step = count // _PROBES
    for k in range(_PROBES):
        sample[k] = values[left + k * step]
    _insert(sample, 0, _PROBES)
    share = (place - left) / count * _PROBES
    beyond = np.sqrt(_PROBES) / 2
    rank = int(share + beyond if 2 * share < _PROBES else share - beyond)
    return float(sample[min(max(rank, 0), _PROBES - 1)])


@njit(nogil=True, cache=True, error_model="numpy")
def _insert(values: Array, start: int, stop: int) -> None:
    """Sort a short run by insertion."""
    for i in range(start + 1, stop):
        value = values[i]
        j = i - 1
        while j >= start and values[j] > value:
            values[j + 1] = values[j]
            j -= 1
        values[j + 1] = value


@njit(nogil=True, cache=True, error_model="numpy")
def _of_long_series(
    x: Array, y: Array, places: tuple[int, int, int, int], room: Array, out: Array
) -> None:
    """Put statistic, median slope and limits of a long series without gaps into `out`.

    A sample of slopes brackets each of those that are wanted. A pair has a slope below an edge of
    the bracket where its values change their order when a line of that slope is taken away, so
    that they are counted by sorting, and only the slopes within the bracket are computed, in
    `room`.
    """
    n = x.size
    count = n * (n - 1) // 2
    ordered = y.copy()
    falling = _sort_counting(ordered, np.arange(n))
    out[0] = count - _tied_pairs(ordered) - 2 * falling
    sample = _sample(x, y)
    spread = _WIDTH * (sample.max() - sample.min())
    centred = x - x.mean()
    low, lower, upper, high = places
    # From the lowest place to the highest, so that the sample is parted further each time.
    out[2], _, done = _find_two(x, y, centred, sample, 0, spread, low, low, room)
    first, second, done = _find_two(x, y, centred, sample, done, spread, lower, upper, room)
    out[1] = (first + second) / 2
    out[3], _, _ = _find_two(x, y, centred, sample, done, spread, high, high, room)


@njit(nogil=True, cache=True, error_model="numpy")
def _find_two(
    x: Array,
    y: Array,
    centred: Array,
    sample: Array,
    done: int,
    spread: float,
    place: int,
    next_place: int,
    room: Array,
) -> tuple[float, float, int]:
    """Return the slopes at a place and at the one after it, or twice the same.

    Before the place `done` the sample is parted already; the third value that is returned says how
    far it is now.
    """
    n = x.size
    count = n * (n - 1) // 2
    share = place / count * sample.size
    slack = _SLACK * np.sqrt(sample.size) / 2
    first, last = int(np.floor(share - slack)), int(share + slack) + 1
    for _ in range(_TRIALS):
        # Beyond the ends of the sample the bracket is open.
        low, high = -np.inf, np.inf
        if first >= 0:
            low = select(sample, first, done if done <= first else 0) - spread
            done = first
        if last < sample.size:
            high = select(sample, last, max(first, 0)) + spread
        before, within = _within(x, y, centred, low, high, room)
        if within < 0:
            break
        if place < before:
            first -= int(2 * slack)
        elif next_place >= before + within:
            last += int(2 * slack)
        else:
            return *_value_and_next(room[:within], place - before, next_place - before), done
    # Very many slopes are equal, or the sample was misleading more than once.
    slopes = np.empty(count)
    _all_slopes(x, y, np.array([0, n]), slopes)
    return *_value_and_next(slopes, place, next_place), done


@njit(nogil=True, cache=True, error_model="numpy")
def _value_and_next(slopes: Array, place: int, next_place: int) -> tuple[float, float]:
    """Return the slopes at two places, the second of which is the first or the next one."""
    value = select(slopes, place, 0)
    return value, value if next_place == place else select(slopes, next_place, place)


@njit(nogil=True, cache=True, error_model="numpy")
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


@njit(nogil=True, cache=True, error_model="numpy")
def _within(
    x: Array, y: Array, centred: Array, low: float, high: float, room: Array
) -> tuple[int, int]:
    """Return how many slopes lie below a bracket and how many in it, which are put into `room`.

    The second number is negative where there is too little room.
    """
    n = x.size
    # Where a line of endless fall is taken away, the order is that of time.
    order = np.arange(n)
    before = 0 if np.isinf(low) else _sort_counting(y - low * centred, order)
    if np.isinf(high):
        # A line of endless rise turns the order of time round.
        keys = -np.arange(n).astype(np.float64)
    else:
        keys = y - high * centred
    within = _report(keys[order], order, x, y, room)
    return before, within


@njit(nogil=True, cache=True, error_model="numpy")
def _report(keys: Array, order: Array, x: Array, y: Array, room: Array) -> int:
    """Sort keys by insertion, and put the slope of each pair that changes its order into `room`.

    Insertion moves a key once for each of these pairs, so that nothing is quicker.

    Returns
    -------
    int
        How many there are; negative where there is too little room.
    """
    held, index = keys.copy(), order.copy()
    found = 0
    for at in range(1, keys.size):
        key, j = held[at], index[at]
        place = at - 1
        while place >= 0 and held[place] >= key:
            if found == room.size:
                return -1
            i = index[place]
            room[found] = (y[j] - y[i]) / (x[j] - x[i])
            found += i < j
            held[place + 1], index[place + 1] = held[place], i
            place -= 1
        held[place + 1], index[place + 1] = key, j
    return found


@njit(nogil=True, cache=True, error_model="numpy")
def _copy_rest(
    keys: Array, order: Array, to_keys: Array, to_order: Array, start: int, stop: int, at: int
) -> None:
    """Copy what is left of one run when the other has ended."""
    for k in range(start, stop):
        to_keys[at], to_order[at] = keys[k], order[k]
        at += 1


@njit(nogil=True, cache=True, error_model="numpy")
def _sort_counting(keys: Array, order: Array) -> int:
    """Sort keys in place, `order` with them, and return how many pairs had the larger key first.

    Equal keys keep their order. Runs sorted by insertion are merged; which of two runs gives the
    next key is chosen without a branch, which processors cannot foresee here.
    """
    n = keys.size
    held, index = keys.copy(), order.copy()
    found = 0
    for start in range(0, n, _SHORT):
        found += _insert_counting(held, index, start, min(start + _SHORT, n))
    other_held, other_index = np.empty(n), np.empty(n, order.dtype)
    width = _SHORT
    while width < n:
        for start in range(0, n, 2 * width):
            middle, stop = min(start + width, n), min(start + 2 * width, n)
            left, right, at = start, middle, start
            while left < middle and right < stop:
                one, other = held[left], held[right]
                turned = int(other < one)
                other_held[at] = other if turned else one
                other_index[at] = index[right] if turned else index[left]
                found += (middle - left) * turned
                right += turned
                left += 1 - turned
                at += 1
            _copy_rest(held, index, other_held, other_index, left, middle, at)
            _copy_rest(held, index, other_held, other_index, right, stop, at + middle - left)
        held, other_held = other_held, held
        index, other_index = other_index, index
        width *= 2
    keys[:] = held
    order[:] = index
    return found


@njit(nogil=True, cache=True, error_model="numpy")
def _insert_counting(keys: Array, order: Array, start: int, stop: int) -> int:
    """Sort a short run by insertion, and return by how many places keys were moved in all."""
    found = 0
    for i in range(start + 1, stop):
        key, place = keys[i], order[i]
        j = i - 1
        while j >= start and keys[j] > key:
            keys[j + 1], order[j + 1] = keys[j], order[j]
            j -= 1
        keys[j + 1], order[j + 1] = key, place
        found += i - 1 - j
    return found


@njit(nogil=True, cache=True, error_model="numpy")
def _tied_pairs(ordered: Array) -> int:
    """Return how many pairs of values in order are equal."""
    pairs = 0
    run = 0
    for at in range(1, ordered.size):
        run = run + 1 if ordered[at] == ordered[at - 1] else 0
        pairs += run
    return pairs


@njit(nogil=True, cache=True, error_model="numpy")
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
        falling = _sort_counting(there, np.arange(held))
        pairs = held * (held - 1) // 2
        out[cell] = pairs - _tied_pairs(there) - 2 * falling
