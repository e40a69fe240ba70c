"""Slopes of a field within its cells, as conservative averages of second order need them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from scipy import sparse

Array = NDArray[Any]


def slopes(centres: Array, period: float | None = None) -> sparse.csr_array:
    """Return the matrix that turns values into slopes along an axis: central differences, one-sided
    at the ends.

    Parameters
    ----------
    centres : ndarray of float64, shape (n,)
    period : float, optional
        Where the axis goes round.

    Returns
    -------
    sparse array, shape (n, n)

    Examples
    --------
    >>> (slopes(np.array([0.0, 1.0, 2.0])) @ np.array([0.0, 2.0, 6.0])).tolist()
    [2.0, 3.0, 4.0]
    """
    from scipy import sparse

    n = centres.size
    if n < 2:
        return sparse.csr_array((n, n))
    here = np.arange(n)
    before, after = np.maximum(here - 1, 0), np.minimum(here + 1, n - 1)
    apart = centres[after] - centres[before]
    if period is not None:
        before, after = (here - 1) % n, (here + 1) % n
        apart = np.mod(
            centres[after] - centres[before],
            np.copysign(period, centres[1] - centres[0]),
        )
    values = np.concatenate([1 / apart, -1 / apart])
    return sparse.csr_array(
        (values, (np.tile(here, 2), np.concatenate([after, before]))), shape=(n, n)
    )
