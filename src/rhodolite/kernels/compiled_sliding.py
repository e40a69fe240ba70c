"""Weighted sums and means of every window, compiled; the same to the bit as by NumPy."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled

Array = NDArray[Any]


@compiled
def add_windows(
    values: Array, weights: Array, means: bool, length: int, out: Array
) -> None:
    """Put the sum or the mean of each window into `out`.

    The values of a window are met while they are in the first cache of a core.

    Parameters
    ----------
    values : ndarray of float64, shape (n, cells)
        None of them missing.
    weights : ndarray of float64, shape (n,)
    means : bool
        Whether means are wanted, and not sums.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    cells = values.shape[1]
    total, origin = np.empty(cells), np.zeros(cells)
    for first in range(out.shape[0]):
        total[:] = 0.0
        if means:
            origin[:] = values[first]
        weight = 0.0
        for step in range(first, first + length):
            factor = weights[step]
            weight += factor
            for cell in range(cells):
                total[cell] += factor * (values[step, cell] - origin[cell])
        for cell in range(cells):
            if means:
                out[first, cell] = origin[cell] + total[cell] / weight
            else:
                out[first, cell] = total[cell]
