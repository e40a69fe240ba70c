"""Sums of values that are packed into small integers, which are exact among the integers."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.unpacking import Unpacking

Array = NDArray[Any]


def scale_of_small(numbers: Array, unpack: Unpacking | None) -> float | None:
    """Return the scale of integers of 16 bits or fewer whose sums stand for those of their values;
    None where they do not.

    Parameters
    ----------
    numbers : ndarray, shape (n, *cells)
    unpack : Unpacking, optional
        What makes values of them.
    """
    if unpack is None or not len(numbers) or numbers.dtype.itemsize > 2:
        return None
    return unpack.scale_of(numbers)


def sum_of_differences(numbers: Array) -> Array:
    """Return the sum along the first axis of the differences of integers of 16 bits or fewer from
    the first, which is exact.

    Parameters
    ----------
    numbers : ndarray of int, shape (n, *cells)
    """
    # Differences are below 2^16, so that 2^15 of them fit into 32 bits.
    wide = np.int32 if len(numbers) < 1 << 15 else np.int64
    total = np.add.reduce(numbers, axis=0, dtype=wide)
    total -= len(numbers) * numbers[0].astype(wide)
    return np.asarray(total)
