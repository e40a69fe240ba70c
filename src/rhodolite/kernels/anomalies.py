"""Departures of values from the normal of their phase of a cycle."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def differences(block: Array, normals: Array, phases: Array) -> Array:
    """Return values minus the normal of their phase.

    Parameters
    ----------
    block : ndarray of float, shape (n, *cells)
    normals : ndarray of float64, shape (phases, *cells)
    phases : ndarray of int, shape (n,)
        Phase of each step.

    Returns
    -------
    ndarray
        Of the shape and type of `block`; the subtraction itself is in float64.

    Examples
    --------
    >>> differences(np.array([[3.0], [8.0]]), np.array([[1.0], [5.0]]), np.array([0, 1])).tolist()
    [[2.0], [3.0]]
    """
    out = np.empty_like(block)
    for step, phase in enumerate(phases):
        np.subtract(
            block[step], normals[phase], out=out[step, ...], casting="same_kind"
        )
    return out


def scaled(
    block: Array, normals: Array, scales: Array, factor: float, phases: Array
) -> Array:
    """Return departures divided by a scale of their phase and multiplied by a factor; NaN where the
    scale is 0.

    Parameters
    ----------
    block, normals, phases
        As for `differences`.
    scales : ndarray of float64, shape (phases, *cells)
        Normals for departures in parts of them, standard deviations for standardised ones.
    factor : float
        100 for percent.

    Examples
    --------
    >>> normals, scales = np.array([[10.0]]), np.array([[10.0]])
    >>> scaled(np.array([[12.0]]), normals, scales, 100.0, np.array([0])).tolist()
    [[20.0]]
    """
    factors = np.full(scales.shape, np.nan)
    np.divide(factor, scales, out=factors, where=scales != 0)
    out = np.empty_like(block)
    for step, phase in enumerate(phases):
        departure = block[step] - normals[phase]
        np.multiply(departure, factors[phase], out=out[step, ...], casting="same_kind")
    return out
