"""Means and sums of squared deviations that can be merged, and what of them is rounding alone.

Deviations are taken from a first value, so that equal values have none at all, in whatever blocks
they come. What is left of values that differ by the rounding of an earlier mean falls below one
floor.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
ROUNDING = 16 * np.finfo(np.float64).eps
"""Relative; values that differ by no more are equal up to the rounding of what computed them."""


def first_values(values: Array) -> Array:
    """Return the first value along the first axis that is not missing, in float64; 0 where all are
    missing.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    """
    if not len(values):
        return np.zeros(values.shape[1:])
    first = np.array(values[0], dtype=np.float64)
    gaps = np.isnan(first)
    if gaps.any():
        at = np.argmin(np.isnan(values), axis=0)
        first = np.take_along_axis(values, at[None], axis=0)[0].astype(np.float64)
        first = np.where(np.isnan(first), 0.0, first)
    return np.asarray(first)


def sum_rows(values: Array) -> Array:
    """Return the sum over the first axis, one row after another, whatever the number of cells.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)

    Examples
    --------
    >>> sum_rows(np.array([[1.0, 2.0], [3.0, 4.0]])).tolist()
    [4.0, 6.0]
    """
    total = np.zeros(values.shape[1:])
    for row in values:
        total = total + row
    return total


def moments(
    values: Array, weights: Array | None = None
) -> tuple[Array, Array, Array, Array]:
    """Return count, weight, mean, and weighted sum of squared deviations from the mean along the
    first axis.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        NaN marks missing values.
    weights : ndarray of float64, shape (n,), optional
        By default 1 for each.

    Returns
    -------
    tuple of ndarray of float64, shape (*cells)
        The mean is 0 where there is no value.

    Examples
    --------
    >>> count, _, mean, squares = moments(np.array([1.0, 2.0, np.nan, 6.0]))
    >>> int(count), float(mean), float(squares)
    (3, 3.0, 14.0)
    """
    origin = first_values(values)
    deviation = np.subtract(values, origin, dtype=np.float64)
    total = _sum(deviation, weights)
    if np.isfinite(total).all():
        count = np.full(total.shape, float(len(values)))
        weight = (
            count if weights is None else np.full(total.shape, float(weights.sum()))
        )
    else:
        present = ~np.isnan(deviation)
        count = present.sum(axis=0, dtype=np.float64)
        weight = count if weights is None else _sum(present, weights)
        deviation[~present] = 0.0
        total = _sum(deviation, weights)
    shift = np.divide(total, weight, out=np.zeros(total.shape), where=weight > 0)
    deviation -= shift
    if count is not weight or (count.size and count.min() < len(values)):
        np.copyto(deviation, 0.0, where=np.isnan(values))
    if weights is None:
        squares = np.einsum("t...,t...->...", deviation, deviation)
    else:
        squares = np.einsum("t,t...,t...->...", weights, deviation, deviation)
    return count, weight, origin + shift, np.asarray(squares)


def shares(weight: Array, more: Array) -> tuple[Array, Array]:
    """Return what a second part has of the weight of both, and the weight between them, for
    merging.

    With these the mean of both is m1 + share (m2 - m1), and the sum of products of deviations
    S1 + S2 + between dx dy (Chan, Golub and LeVeque 1983, The American Statistician 37, 242-247,
    equations 2.1).

    Parameters
    ----------
    weight : ndarray
        Sum of weights of the first part.
    more : ndarray
        Sum of weights of the second part.
    """
    total = weight + more
    share = more / np.where(total > 0, total, 1)  # 0 of nothing
    return share, weight * share


def vanishes(squares: Array, weight: Array, mean: Array) -> Array:
    """Return where a sum of squared deviations is no more than rounding of equal values leaves.

    Parameters
    ----------
    squares : ndarray
        Weighted sums of squared deviations.
    weight : ndarray
        Sum of weights of the first part.
    mean : ndarray
        Means of the values.
    """
    small = squares <= weight * (ROUNDING * np.abs(mean)) ** 2
    return np.asarray(small & np.isfinite(squares))


def equal_values(low: Array, high: Array) -> Array:
    """Return where the minimum and the maximum value are the same up to rounding.

    Parameters
    ----------
    low : ndarray
        Lower ends.
    high : ndarray
        Upper ends.
    """
    with np.errstate(invalid="ignore"):  # of infinite ones
        range_of = high - low
    small = range_of <= 2 * ROUNDING * np.maximum(np.abs(low), np.abs(high))
    return np.asarray(small & np.isfinite(range_of))


def _sum(values: Array, weights: Array | None) -> Array:
    if weights is None:
        return np.asarray(np.add.reduce(values, axis=0, dtype=np.float64))
    return np.asarray(np.einsum("t,t...->...", weights, values, dtype=np.float64))
