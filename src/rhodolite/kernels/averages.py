"""Weighted sums over axes, with missing values left out of numerator and denominator."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def weighted_sums(block: Array, weights: Array, axes: tuple[int, ...]) -> tuple[Array, Array]:
    """Return the sum of weight times value, and of the weights of values that are there.

    Parameters
    ----------
    block : ndarray of float, any shape
        NaN marks missing values.
    weights : ndarray of float64
        Broadcasts against `block`.
    axes : tuple of int
        Axes to sum over.

    Returns
    -------
    tuple of ndarray of float64
        Both of the shape of `block` without `axes`. Their ratio is the weighted mean.
    """
    present = ~np.isnan(block)
    full = np.broadcast_to(weights, block.shape)
    values = np.where(present, block, 0).astype(np.float64)
    values *= full
    return values.sum(axis=axes), np.where(present, full, 0.0).sum(axis=axes)
