"""Where steps are left out: told by distances that are much longer than the usual one."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

_LONGER = 1.6
"""Times the usual distance. The months of a year, and the parts of months, differ by less."""


def find_breaks(times: NDArray[Any]) -> NDArray[np.intp]:
    """Return the steps before which others are left out.

    Parameters
    ----------
    times : ndarray of int64 or float64, shape (n,)
        In their order, in any unit.

    Examples
    --------
    >>> find_breaks(np.array([1.0, 2.0, 3.0, 7.0, 8.0])).tolist()
    [3]
    """
    distances = np.diff(times)
    if distances.size < 2:
        return np.zeros(0, np.intp)
    return np.flatnonzero(distances > _LONGER * np.median(distances)) + 1
