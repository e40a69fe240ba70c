"""Weighted sums over axes, with missing values left out of numerator and denominator."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def weighted_sums(block: Array, weights: Mapping[int, Array], axes: tuple[int, ...]) -> tuple[Array, Array]:
    """Return the sum of weight times value, and of the weights of values that are there.

    Parameters
    ----------
    block : ndarray of float, any shape
        NaN marks missing values.
    weights : mapping of int to ndarray of float64
        Weights along some of `axes`, each of the length of its axis; 1 along the others. The weight
        of a cell is their product.
    axes : tuple of int
        Axes to sum over.

    Returns
    -------
    tuple of ndarray of float64
        Both of the shape of `block` without `axes`. Their ratio is the weighted mean.
    """
    total = _summed(block, weights, axes)
    if np.isfinite(total).all():
        whole = np.prod([weights[axis].sum() if axis in weights else block.shape[axis] for axis in axes])
        return total, np.full(total.shape, whole)
    present = ~np.isnan(block)
    return _summed(np.where(present, block, 0), weights, axes), _summed(present, weights, axes)


def _summed(block: Array, weights: Mapping[int, Array], axes: tuple[int, ...]) -> Array:
    """Return weighted sums in float64, one axis after another from the last, as memory is laid out."""
    total = block
    for axis in sorted(axes, reverse=True):
        along = weights.get(axis)
        if along is None or np.ptp(along) == 0:
            total = total.sum(axis=axis, dtype=np.float64)
            total = total if along is None else total * along[0]
        else:
            letters = list(range(total.ndim))
            kept = [letter for letter in letters if letter != axis]
            # Not a matrix product, which may round differently with the threads that are free.
            total = np.einsum(total, letters, along, [axis], kept, dtype=np.float64)
    return np.asarray(total, dtype=np.float64)
