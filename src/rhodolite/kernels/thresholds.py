"""Values against a threshold, in the precision that the values have."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def in_precision(values: Array | float, dtype: str) -> Array:
    """Return values, or a threshold, rounded to the type in which they are compared.

    A value that was written as 0.1 in single precision is not above the threshold 0.1, although the
    nearest number to it in double precision is.

    Parameters
    ----------
    values : ndarray or float
    dtype : {"f4", "f8"}

    Examples
    --------
    >>> float(in_precision(0.1, "f4"))
    0.10000000149011612
    """
    return np.asarray(values).astype(dtype, copy=False)


def beyond(
    values: Array, threshold: Array | float, dtype: str, *, below: bool
) -> NDArray[np.bool_]:
    """Return which values lie above (or below) a threshold; missing ones do not.

    Parameters
    ----------
    values : ndarray of float, any shape
    threshold : float or ndarray
    dtype : {"f4", "f8"}
        Type in which both are compared.
    below : bool

    Examples
    --------
    >>> beyond(np.array([20.0, 25.0, np.nan]), 22.0, "f8", below=False).tolist()
    [False, True, False]
    """
    rounded, limit = in_precision(values, dtype), in_precision(threshold, dtype)
    return np.asarray(rounded < limit if below else rounded > limit)
