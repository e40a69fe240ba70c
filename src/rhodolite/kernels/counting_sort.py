"""Sorting that counts the pairs that were in the wrong order; compiled.

Places are numbers without a sign, since for others each access asks whether they count from the
end, which takes longer than the access.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled_for

Array = NDArray[Any]
_SHORT = 10
"""Runs of no more keys are sorted by insertion."""


@compiled_for("int64(float64[::1], int64[::1], int64, int64)")
def insert_counting(keys: Array, order: Array, start: int, stop: int) -> int:
    """Sort a run by insertion, and return by how many places keys were moved in all.

    Parameters
    ----------
    keys : ndarray of float64, shape (n,)
    order : ndarray of int, shape (n,)
    start, stop : int
        Where the run lies.
    """
    swaps: Any = np.uint64(0)
    first, unit = np.uint64(start), np.uint64(1)
    for at in range(first + unit, np.uint64(max(stop, start + 1))):
        key, index = keys[at], order[at]
        place: Any = at
        while place > first and keys[place - unit] > key:
            keys[place], order[place] = keys[place - unit], order[place - unit]
            place -= unit
        keys[place], order[place] = key, index
        swaps += at - place
    return np.int64(swaps)  # type: ignore[return-value]


@compiled_for(
    "int64(float64[::1], int64[::1], int64, int64, int64, float64[::1], int64[::1])"
)
def _merge(
    keys: Array,
    order: Array,
    start: int,
    middle: int,
    stop: int,
    to_keys: Array,
    to_order: Array,
) -> int:
    """Merge two runs whose lengths differ by one at most, and return how many pairs of one of each
    had the larger key first.

    They are merged from both ends at once, and which of them gives the next key is chosen without a
    branch, so that a processor has two chains of work that do not wait for each other.
    """
    unit, half = np.uint64(1), np.uint64(middle)
    left, right, at = np.uint64(start), half, np.uint64(start)
    last_left, last_right, last = (
        half - unit,
        np.uint64(stop) - unit,
        np.uint64(stop) - unit,
    )
    swaps = np.uint64(0)
    for _ in range(min(middle - start, stop - middle)):
        turned = np.uint64(keys[right] < keys[left])
        taken = left + (right - left) * turned
        to_keys[at], to_order[at] = keys[taken], order[taken]
        swaps += (half - left) * turned
        right += turned
        left += unit - turned
        at += unit
        turned = np.uint64(keys[last_right] < keys[last_left])
        taken = last_right - (last_right - last_left) * turned
        to_keys[last], to_order[last] = keys[taken], order[taken]
        swaps += (half - unit - last_left) * (unit - turned)
        last_left -= turned
        last_right -= unit - turned
        last -= unit
    if at == last:
        from_left = left < last_left + unit
        rest = left if from_left else right
        swaps += np.uint64(0) if from_left else half - unit - last_left
        to_keys[at], to_order[at] = keys[rest], order[rest]
    return np.int64(swaps)  # type: ignore[return-value]


@compiled_for("int64(float64[::1])")
def tied_pairs(ordered: Array) -> int:
    """Return how many pairs of values in order are equal.

    Parameters
    ----------
    ordered : ndarray of float64, shape (n,)
    """
    pairs = 0
    run = 0
    for at in range(1, ordered.size):
        run = run + 1 if ordered[at] == ordered[at - 1] else 0
        pairs += run
    return pairs


@compiled_for("int64(float64[::1], int64[::1])")
def sort_counting(keys: Array, order: Array) -> int:
    """Sort keys in place, `order` with them, and return how many pairs had the larger key first.

    Equal keys keep their order. Short runs are sorted by insertion, and merged.

    Parameters
    ----------
    keys : ndarray of float64, shape (n,)
    order : ndarray of int, shape (n,)
    """
    n = keys.size
    runs = 1
    while n // runs > _SHORT:
        runs *= 2
    swaps = 0
    for run in range(runs):
        swaps += insert_counting(keys, order, run * n // runs, (run + 1) * n // runs)
    current, index = keys, order
    other_keys, other_index = np.empty(n), np.empty(n, np.int64)
    while runs > 1:
        for run in range(0, runs, 2):
            start, middle, stop = (
                run * n // runs,
                (run + 1) * n // runs,
                (run + 2) * n // runs,
            )
            swaps += _merge(
                current, index, start, middle, stop, other_keys, other_index
            )
        current, other_keys = other_keys, current
        index, other_index = other_index, index
        runs //= 2
    # Whole arrays put into others take seconds to compile.
    for at in range(n):
        keys[at] = current[at]
        order[at] = index[at]
    return swaps
