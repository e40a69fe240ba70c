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
    """
    out = np.empty_like(block)
    for step, phase in enumerate(phases):
        np.subtract(block[step], normals[phase], out=out[step], casting="same_kind")
    return out


def percentages(block: Array, normals: Array, phases: Array) -> Array:
    """Return departures in percent of the normal; NaN where the normal is 0.

    Parameters and result are those of `differences`, the result in percent.
    """
    return _scaled(block, normals, 0.01 * normals, phases)


def standardised(block: Array, normals: Array, deviations: Array, phases: Array) -> Array:
    """Return departures in standard deviations; NaN where the standard deviation is 0.

    Parameters
    ----------
    block, normals, phases
        As for `differences`.
    deviations : ndarray of float64, shape (phases, *cells)
        Standard deviation of each phase.
    """
    return _scaled(block, normals, deviations, phases)


def _scaled(block: Array, normals: Array, scales: Array, phases: Array) -> Array:
    factors = np.full(scales.shape, np.nan)
    np.divide(1.0, scales, out=factors, where=scales != 0)
    out = np.empty_like(block)
    for step, phase in enumerate(phases):
        departure = block[step] - normals[phase]
        np.multiply(departure, factors[phase], out=out[step], casting="same_kind")
    return out
