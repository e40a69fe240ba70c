"""Places, probabilities and quantiles of many values at every cell, compiled; the same to the bit
as in `empirical`.

In all of them `ordered` has the values of a cell in ascending order, missing ones last, and
`counts` the number of those that are there.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for
from rhodolite.kernels.ordered_search import count_less

Array = NDArray[Any]


@compiled_for("int64(float64[::1], int64, int64, float64)")
def _count_up_to(ordered: Array, count: int, less: int, value: float) -> int:
    """Return how many values lie below another or are equal to it, of which `less` are below."""
    # Most values have no equal, or but one; rain has many zeros.
    if less >= count or ordered[less] != value:
        return less
    if less + 1 >= count or ordered[less + 1] != value:
        return less + 1
    low, high = less + 2, count
    while low < high:
        middle = (low + high) >> 1
        if ordered[middle] <= value:
            low = middle + 1
        else:
            high = middle
    return low


@compiled_for("float64(float64[::1], int64, int64)")
def _share_at(ordered: Array, count: int, place: int) -> float:
    """Return the probability of the value at a place: of equal values that in their middle."""
    value = ordered[place]
    first = place
    if place > 0 and ordered[place - 1] == value:
        first = count_less(ordered, count, value)
    stop = _count_up_to(ordered, count, place, value)
    return float((first + stop) / 2 / count)


@compiled_for("float64(float64[::1], int64, float64)")
def _find_share(ordered: Array, count: int, value: float) -> float:
    less = count_less(ordered, count, value)
    above = min(less, count - 1)
    high_share = _share_at(ordered, count, above)
    if ordered[above] == value:
        return high_share
    before = max(less - 1, 0)
    low, high = ordered[before], ordered[above]
    low_share = _share_at(ordered, count, before)
    part = 0.0
    if high > low:
        part = min(max((value - low) / (high - low), 0.0), 1.0)
    return low_share + part * (high_share - low_share)


@compiled
def count_below(ordered: Array, counts: Array, values: Array) -> tuple[Array, Array]:
    """Return how many values of each cell lie below each value, and how many up to it.

    Parameters
    ----------
    ordered : ndarray of float64, shape (cells, n)
    counts : ndarray of int64, shape (cells,)
    values : ndarray of float64, shape (cells, m)

    Returns
    -------
    tuple of ndarray of int64, shape (cells, m)

    Examples
    --------
    >>> ordered, values = np.array([[1.0, 2.0, 2.0]]), np.array([[2.0, 3.0]])
    >>> less, up_to = count_below(ordered, np.array([3]), values)
    >>> less.tolist(), up_to.tolist()
    ([[1, 3]], [[3, 3]])
    """
    less = np.empty(values.shape, np.int64)
    up_to = np.empty(values.shape, np.int64)
    for cell in range(values.shape[0]):
        known, count = ordered[cell], counts[cell]
        for step in range(values.shape[1]):
            value = values[cell, step]
            fewer = count_less(known, count, value)
            less[cell, step] = fewer
            up_to[cell, step] = _count_up_to(known, count, fewer, value)
    return less, up_to


@compiled
def find_shares(ordered: Array, counts: Array, values: Array) -> Array:
    """Return the probability below each value; see `empirical.Empirical.below`.

    Parameters
    ----------
    ordered : ndarray of float64, shape (cells, n)
    counts : ndarray of int64, shape (cells,)
    values : ndarray of float64, shape (cells, m)

    Examples
    --------
    >>> find_shares(np.array([[1.0, 3.0]]), np.array([2]), np.array([[1.0, 2.0, 9.0]])).tolist()
    [[0.25, 0.5, 0.75]]
    """
    shares = np.full(values.shape, np.nan)
    for cell in range(values.shape[0]):
        if counts[cell] == 0:
            continue
        for step in range(values.shape[1]):
            value = values[cell, step]
            if not math.isnan(value):
                shares[cell, step] = _find_share(ordered[cell], counts[cell], value)
    return shares


@compiled
def find_quantiles(
    ordered: Array, counts: Array, shares: Array, equal_places: float
) -> Array:
    """Return the value that has a probability below it; see `empirical.Empirical.quantile`.

    Parameters
    ----------
    ordered : ndarray of float64, shape (cells, n)
    counts : ndarray of int64, shape (cells,)
    shares : ndarray of float64, shape (cells, m)
    equal_places : float
        How near to a whole place another is the same.

    Examples
    --------
    >>> find_quantiles(np.array([[1.0, 3.0]]), np.array([2]), np.array([[0.5]]), 1e-9).tolist()
    [[2.0]]
    """
    values = np.full(shares.shape, np.nan)
    for cell in range(shares.shape[0]):
        last = counts[cell] - 1
        if last < 0:
            continue
        for step in range(shares.shape[1]):
            share = shares[cell, step]
            if math.isnan(share):
                continue
            place = min(max(share * counts[cell] - 0.5, 0.0), float(last))
            before = int(place)
            low = ordered[cell, before]
            high = ordered[cell, min(before + 1, last)]
            part = place - before
            if part < equal_places:
                part = 0.0
            values[cell, step] = low + part * (high - low)
    return values
