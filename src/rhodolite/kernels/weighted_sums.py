"""Weighted sums over axes, with missing values left out of numerator and denominator."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


Weights = Mapping[int | tuple[int, ...], Array]
"""Weights along an axis, or of the cells of two axes together; 1 along the others."""


def weighted_sums(
    block: Array, weights: Weights, axes: tuple[int, ...]
) -> tuple[Array, Array]:
    """Return the sum of weight times value, and of the weights of values that are there.

    Parameters
    ----------
    block : ndarray of float, any shape
        NaN marks missing values.
    weights : mapping of int, or tuple of int, to ndarray of float64
        Weights along axes, each of the length of its axis, or of two axes together, of their shape.
        The weight of a cell is the product of all; 1 along axes that are not named.
    axes : tuple of int
        Axes to sum over.

    Returns
    -------
    tuple of ndarray of float64
        Both of the shape of `block` without `axes`. Their ratio is the weighted mean.

    Examples
    --------
    >>> total, weight = weighted_sums(np.array([1.0, 4.0]), {0: np.array([1.0, 2.0])}, (0,))
    >>> float(total), float(weight)
    (9.0, 3.0)
    """
    total = _sum_over(block, weights, axes)
    named = {axis for key in weights for axis in axes_of(key)}
    if np.isfinite(total).all() and named <= set(axes):
        plain = [block.shape[axis] for axis in axes if axis not in named]
        return total, np.full(
            total.shape, np.prod([*plain, *(along.sum() for along in weights.values())])
        )
    present = ~np.isnan(block)
    return _sum_over(np.where(present, block, 0), weights, axes), _sum_over(
        present, weights, axes
    )


def axes_of(key: int | tuple[int, ...]) -> tuple[int, ...]:
    """Return the axes that an entry of weights is for."""
    return key if isinstance(key, tuple) else (key,)


def _sum_over(block: Array, weights: Weights, axes: tuple[int, ...]) -> Array:
    """Return weighted sums in float64, one axis after another from the last, as memory is laid
    out."""
    total, names = block, list(range(block.ndim))
    owners = {axis: key for key in weights for axis in axes_of(key)}
    for axis in sorted(axes, reverse=True):
        # Weights along two axes have taken both away with the first of them.
        if axis not in names:
            continue
        key = owners.get(axis)
        if key is None:
            total = total.sum(axis=names.index(axis), dtype=np.float64)
            names.remove(axis)
            continue
        along = weights[key]
        gone = {a for a in axes_of(key) if a in axes}
        remaining = [name for name in names if name not in gone]
        if isinstance(key, int) and np.ptp(along) == 0:
            total = total.sum(axis=names.index(axis), dtype=np.float64) * along[0]
        else:
            # Not a matrix product, which may round differently with the threads that are free.
            total = np.einsum(
                total, names, along, list(axes_of(key)), remaining, dtype=np.float64
            )
        names = remaining
    return np.asarray(total, dtype=np.float64)
