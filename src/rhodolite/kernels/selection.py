"""The value at a place in order, found without putting all in order; compiled."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled_for

Array = NDArray[Any]
_RUN = 16
_MANY, _PROBES = 512, 63
"""Of so many values and more a pivot is chosen by so many of them."""


@compiled_for("void(float64[::1], int64, int64)")
def insert(values: Array, start: int, stop: int) -> None:
    """Sort a short run by insertion.

    Parameters
    ----------
    values : ndarray of float64, shape (n,)
    start, stop : int
        Where the run lies.
    """
    for i in range(start + 1, stop):
        value = values[i]
        j = i - 1
        while j >= start and values[j] > value:
            values[j + 1] = values[j]
            j -= 1
        values[j + 1] = value


@compiled_for("int64(float64[::1], int64, int64, float64, boolean)")
def _part(values: Array, left: int, right: int, pivot: float, equal: bool) -> int:
    """Put the values below a pivot, or those equal to it as well, before the others, and return
    where the others begin."""
    # Places without a sign, since for others each access asks whether they count from the end.
    edge = np.uint64(left)
    for at in range(np.uint64(left), np.uint64(right + 1)):
        value = values[at]
        values[at] = values[edge]
        values[edge] = value
        edge += np.uint64(value < pivot or (equal and value == pivot))
    return np.int64(edge)  # type: ignore[return-value]


@compiled_for("float64(float64[::1], int64, int64, int64)")
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
    insert(sample, 0, _PROBES)
    share = (place - left) / count * _PROBES
    beyond = math.sqrt(_PROBES) / 2
    rank = int(share + beyond if 2 * share < _PROBES else share - beyond)
    return float(sample[min(max(rank, 0), _PROBES - 1)])


@compiled_for("float64(float64[::1], int64, int64)")
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
        edge = _part(values, left, right, pivot, False)
        if place < edge:
            right = edge - 1
            continue
        edge = _part(values, edge, right, pivot, True)
        if place < edge:
            return float(pivot)
        left = edge
    insert(values, left, right + 1)
    return float(values[place])
