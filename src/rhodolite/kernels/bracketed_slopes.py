"""Median slope and limits of a long series, of whose pairs few slopes are computed; compiled.

A pair has a slope below an edge where its values change their order when a line of that slope is
taken away. So the order of the values at an edge tells how many slopes lie below it, and from one
edge to another as many pairs change their order as slopes lie between them.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled_for
from rhodolite.kernels.counting_sort import insert_counting, sort_counting, tied_pairs
from rhodolite.kernels.selection import select

Array = NDArray[Any]
# Plain tuples: of other classes what is kept on disk cannot be read any more once they change.
_Series = tuple[Array, Array, Array, Array]
"""Times and values, and both shifted towards zero, so that large numbers cost no digits where a
line is taken away."""
_OrderedSample = tuple[Array, int, float, float]
"""Slopes of the sample in order, around all places that are wanted; the place of the first in the
sample; how many of the sample there are for each of all; and by how much an edge lies off one."""
_SERIES = "UniTuple(float64[::1], 4)"
_ORDERED = "Tuple((float64[::1], int64, float64, float64))"
PAIRS = 4096
"""Slopes that tell about where those that are wanted lie."""
_PAD = 192
"""Places of the sample on both sides that are put in order: three times the standard deviation of a
place, and what an edge needs."""
_LEAST, _SLACK = 4.0, 2.5
"""Places of the sample by which a bracket is wider on each side: at least, and for the standard
deviation of the number of slopes between its middle and an edge at which they were counted."""
_TRIALS = 3
"""Brackets that are tried, each wider than the one before."""
_WIDTH = 1e-9
"""Of the range of slopes: so far do edges lie off the sample's slopes, so that equal ones, which
rounded values give many of, lie on no edge."""
_FEW_CHANGES = 16
"""Changes of order for each value up to which insertion is faster than to sort by merging."""


@compiled_for("void(int64, int64[:,::1])")
def choose_pairs(n: int, pairs: Array) -> None:
    """Put pairs of different places, of `n`, into `pairs`, the same in every run.

    Parameters
    ----------
    n : int
    pairs : ndarray of int, shape (2, size)
    """
    state = np.uint64(88172645463325252)
    at = 0
    while at < pairs.shape[1]:
        # Marsaglia 2003, Journal of Statistical Software 8 (14): xorshift with 13, 7, 17.
        state ^= state << np.uint64(13)
        state ^= state >> np.uint64(7)
        state ^= state << np.uint64(17)
        i = int((state >> np.uint64(33)) % np.uint64(n))
        j = int((state & np.uint64(0x7FFFFFFF)) % np.uint64(n))
        if i != j:
            pairs[0, at], pairs[1, at] = i, j
            at += 1


@compiled_for("void(int64[::1])")
def _number(order: Array) -> None:
    """Put the order of time into `order`."""
    # Loops throughout: whole-array operations take several times longer to compile, and no less
    # to run.
    for place in range(order.size):
        order[place] = place


@compiled_for(f"void({_SERIES}, int64[::1], float64, float64[::1])")
def _take_line_away(series: _Series, order: Array, edge: float, keys: Array) -> None:
    """Put what is left of the values without a line of this slope, in this order, into `keys`."""
    _, _, centred, shifted = series
    for place in range(order.size):
        keys[place] = shifted[order[place]] - edge * centred[order[place]]


@compiled_for(f"{_ORDERED}({_SERIES}, int64[:, ::1], int64, int64)")
def _sample_in_order(
    series: _Series, pairs: Array, low: int, high: int
) -> _OrderedSample:
    """Return the slopes of a sample of pairs that lie about all places between two."""
    x, y, _, _ = series
    sample = np.empty(pairs.shape[1])
    least, most = np.inf, -np.inf
    for at in range(sample.size):
        i, j = pairs[0, at], pairs[1, at]
        sample[at] = (y[j] - y[i]) / (x[j] - x[i])
        least, most = min(least, sample[at]), max(most, sample[at])
    spread = _WIDTH * (most - least)
    scale = sample.size / (x.size * (x.size - 1) // 2)
    first = max(int(low * scale) - _PAD, 0)
    last = min(int(high * scale) + _PAD, sample.size - 1)
    select(sample, first, 0)
    select(sample, last, first)
    slopes = np.empty(last + 1 - first)
    for at in range(slopes.size):
        slopes[at] = sample[first + at]
    order = np.empty(slopes.size, np.int64)
    _number(order)
    sort_counting(slopes, order)
    return slopes, first, scale, spread


@compiled_for(f"void({_SERIES}, int64[::1], float64[::1], float64, float64, float64)")
def _move(
    series: _Series, order: Array, now: Array, edge: float, at: float, scale: float
) -> None:
    """Bring the order of the values to another edge, and count the slopes below it."""
    if edge == -np.inf:  # where the order is that of time
        _number(order)
        now[0], now[1], now[2] = edge, 0.0, at
        return
    keys = np.empty(order.size)
    _take_line_away(series, order, edge, keys)
    if math.isinf(now[0]) or abs(at - now[2]) > _FEW_CHANGES * order.size * scale:
        changes = sort_counting(keys, order)
    else:
        changes = insert_counting(keys, order, 0, order.size)
    now[1] += changes if edge > now[0] else -changes
    now[0], now[2] = edge, at


@compiled_for(f"int64({_SERIES}, int64[::1], float64, float64[::1])")
def _report(series: _Series, order: Array, edge: float, room: Array) -> int:
    """Bring the order of the values to a higher edge by insertion, and put the slope of each pair
    that changes its order into `room`.

    Insertion moves a key once for each of these pairs, so that nothing is quicker.

    Returns
    -------
    int
        How many there are; negative where there is too little room.
    """
    x, y, _, _ = series
    keys = np.empty(order.size)
    if edge == np.inf:  # where the order of time is turned round
        for later in range(order.size):
            keys[later] = -order[later]
    else:
        _take_line_away(series, order, edge, keys)
    total: Any = np.uint64(0)
    unit = np.uint64(1)
    for at in range(unit, np.uint64(keys.size)):
        key, j = keys[at], order[at]
        place: Any = at
        while place and keys[place - unit] >= key:
            if total == room.size:
                return -1
            place -= unit
            i = order[place]
            room[total] = (y[j] - y[i]) / (x[j] - x[i])
            total += np.uint64(i < j)
            keys[place + unit], order[place + unit] = keys[place], i
        keys[place], order[place] = key, j
    return np.int64(total)  # type: ignore[return-value]


@compiled_for(
    f"UniTuple(int64, 2)({_SERIES}, int64[::1], float64[::1], {_ORDERED}, int64, int64, "
    "UniTuple(float64, 2), float64[::1])"
)
def _bracket(
    series: _Series,
    order: Array,
    now: Array,
    known: _OrderedSample,
    place: int,
    following: int,
    limits: tuple[float, float],
    room: Array,
) -> tuple[int, int]:
    """Put the slopes of a narrow bracket, in which two places lie, into `room`; return how many
    they are, and how many lie below. The first is negative where none is found.

    `order` is that of the values at the edge that `now` holds, with the number of slopes below it,
    and its place in the sample; both are brought to the upper edge. The slopes wanted lie between
    `limits`.
    """
    slopes, begin, scale, spread = known
    count = order.size * (order.size - 1) // 2
    top = slopes.size - 1
    at = min(max(int(place * scale) - begin, 0), top)
    while at > 0 and slopes[at - 1] == slopes[at]:
        at -= 1
    _move(series, order, now, slopes[at] - spread, at + begin, scale)
    # The sample tells well how many slopes lie between an edge at which they were counted and one
    # that is near.
    guess = at + (place - now[1]) * scale
    margin = _LEAST + _SLACK * math.sqrt(abs(guess - at))
    for _ in range(_TRIALS):
        first, last = math.floor(guess - margin), int(guess + margin) + 1
        margin *= 3
        low, high = limits
        if first + begin >= 0:
            low = max(low, slopes[min(max(first, 0), top)] - spread)
        if last + begin < scale * count:
            high = min(high, slopes[min(max(last, 0), top)] + spread)
        if low >= high:
            continue
        _move(series, order, now, low, first + begin, scale)
        before = int(now[1])
        within = _report(series, order, high, room)
        if within < 0:
            return -1, 0
        now[0], now[1], now[2] = high, before + within, last + begin
        if before <= place and following < before + within:
            return within, before
    return -1, 0


@compiled_for(
    "boolean(float64[::1], float64[::1], UniTuple(int64, 4), int64[:, ::1], float64[::1], "
    "float64[:])"
)
def solve_long_series(
    x: Array,
    y: Array,
    places: tuple[int, int, int, int],
    pairs: Array,
    room: Array,
    out: Array,
) -> bool:
    """Put statistic, median slope and limits of a long series without gaps into `out`.

    Parameters
    ----------
    x, y : ndarray of float64, shape (n,)
        Times, ascending, and values.
    places : tuple of int
        Among the slopes in order: of the lower limit, of the two about the middle, of the upper
        limit.
    pairs : ndarray of int, shape (2, size)
        Of which `choose_pairs` gives a sample.
    room : ndarray of float64
        Where slopes are put that may be those that are wanted.
    out : ndarray of float64, shape (4,)

    Returns
    -------
    bool
        Whether they were found: not where very many slopes are equal, or the sample misleads more
        than once.
    """
    n = x.size
    count = n * (n - 1) // 2
    # Sorted as they are, values are in the order of an edge at no rise and no fall.
    ordered, order = np.empty(n), np.empty(n, np.int64)
    _number(order)
    middle = 0.0
    for at in range(n):
        ordered[at] = y[at]
        middle += x[at]
    falling = sort_counting(ordered, order)
    ties = tied_pairs(ordered)
    out[0] = count - ties - 2 * falling
    centred, shifted = np.empty(n), np.empty(n)
    for at in range(n):
        centred[at], shifted[at] = x[at] - middle / n, y[at] - y[n // 2]
    series = x, y, centred, shifted
    low, lower, upper, high = places
    known = _sample_in_order(series, pairs, low, high)
    _, _, scale, spread = known
    now = np.empty(3)
    now[0], now[1], now[2] = 0.0, falling, falling * scale
    for which in range(3):
        place, following = (low, low) if which == 0 else (lower, upper)
        if which == 2:
            place, following = high, high
        if falling <= place and following < falling + ties:
            out[(2, 1, 3)[which]] = 0.0
            continue
        limits = (-np.inf, np.inf)
        if ties > _FEW_CHANGES * n:  # of which none is wanted
            limits = (-np.inf, -spread) if place < falling else (spread, np.inf)
        within, before = _bracket(
            series, order, now, known, place, following, limits, room
        )
        if within < 0:
            return False
        value = select(room[:within], place - before, 0)
        if following > place:
            value = (
                value + select(room[:within], following - before, place - before)
            ) / 2
        out[(2, 1, 3)[which]] = value
    return True
