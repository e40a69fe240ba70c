"""Places among values in order, for compiled functions; compiled."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled_for

Array = NDArray[Any]


@compiled_for("int64(float64[::1], int64, float64)")
def count_less(ordered: Array, count: int, value: float) -> int:
    """Return how many of the first `count` values, in ascending order, lie below another.

    Parameters
    ----------
    ordered : ndarray of float64, shape (n,)
    count : int
    value : float
    """
    low, high = 0, count
    while low < high:
        middle = (low + high) >> 1
        if ordered[middle] < value:
            low = middle + 1
        else:
            high = middle
    return low
