"""How far apart two numbers may lie and still be the same place on an axis."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Array

_SHARE = 1e-4
"""Part of the spacing of an axis that computing its values step by step may have cost."""
SAME_CELL = 0.1
"""Part of the distance of neighbours within which two files that state a place mean the same, as
where one has rounded it."""


def slack(values: Array, dtype: np.dtype[Any]) -> float:
    """Return by how much a value of an axis may miss what somebody typed or another file holds.

    At least two spacings of the type that the values were kept in, so that 270.3 finds its float32;
    never so much that neighbours could be mistaken for each other.

    Parameters
    ----------
    values : ndarray of float64, shape (n,)
        Of the axis, or of all that is compared.
    dtype : dtype
        Type in the file.

    Returns
    -------
    float
        In the units of the axis.
    """
    finite = values[np.isfinite(values)]
    if not finite.size:
        return 0.0
    own = rounding(finite, dtype)
    gaps = np.diff(np.unique(finite))
    if not gaps.size:
        return max(own, 1e-6)
    # Values that differ by their rounding alone are repeats, not neighbours.
    apart = gaps[gaps > own]
    return max(own, _SHARE * float(apart.min())) if apart.size else own


def effective_type(values: Array, dtype: np.dtype[Any]) -> np.dtype[Any]:
    """Return the floating-point type that values really have.

    Float64 that holds float32 throughout is float32, unless the values are short decimals and so
    exact in both.

    Parameters
    ----------
    values : ndarray
    dtype : dtype
        Type of the values.
    """
    if dtype.kind == "f" and dtype.itemsize <= 4:
        return np.dtype(dtype.newbyteorder("="))
    with np.errstate(over="ignore"):
        single = np.array_equal(values.astype(np.float32).astype(np.float64), values)
    return (
        np.dtype("f4")
        if single and not np.array_equal(np.round(values, 6), values)
        else np.dtype("f8")
    )


def rounding(values: Array, dtype: np.dtype[Any]) -> float:
    """Return two spacings of the type that values really have, at the largest of them; 0 where none
    is finite.

    Parameters
    ----------
    values : ndarray
    dtype : dtype
        Type of the values.
    """
    finite = values[np.isfinite(values)]
    if not finite.size:
        return 0.0
    return 2.0 * float(
        np.spacing(np.abs(finite).max().astype(effective_type(finite, dtype)))
    )
