"""Series with missing values in the place of steps that are left out."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def spread_over_gaps(values: Array, places: NDArray[np.int64] | None) -> Array:
    """Return series with missing values where steps are left out, so that what lies on both sides
    of a gap is no pair of neighbours.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    places : ndarray of int64, shape (n,), optional
        Where they stand among all steps; None where none is left out.

    Examples
    --------
    >>> spread_over_gaps(np.array([1.0, 2.0, 3.0]), np.array([0, 1, 3])).tolist()
    [1.0, 2.0, nan, 3.0]
    """
    if places is None:
        return values
    spread = np.full((int(places[-1]) + 1, *values.shape[1:]), np.nan)
    spread[places] = values
    return spread
