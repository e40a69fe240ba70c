"""Amounts that are counted since a start, such as that of a forecast: where they begin again."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_FEWEST = 2


def fixed_restarts(falls: NDArray[np.bool_]) -> tuple[int, int] | None:
    """Return the first step at which amounts begin again, and after how many steps they do each
    time.

    Parameters
    ----------
    falls : ndarray of bool, shape (n - 1,)
        Whether any value is lower than the one before, of each step but the first.

    Returns
    -------
    tuple of int, optional
        None where they fall less than twice, or after no fixed number of steps: amounts of single
        steps fall at any.

    Examples
    --------
    >>> falls = np.zeros(10, dtype=bool)
    >>> falls[[4, 8]] = True
    >>> fixed_restarts(falls)
    (1, 4)
    """
    steps = np.flatnonzero(falls) + 1
    if steps.size < _FEWEST:
        return None
    period = int(np.gcd.reduce(np.diff(steps)))
    return (int(steps[0] % period), period) if period > 1 else None


def amounts_of_steps(
    values: Array, before: Array | None, begins: NDArray[np.bool_]
) -> Array:
    """Return what fell during each step, of amounts that are counted since a start.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    before : ndarray of float, shape (*cells), optional
        Those of the step before; None where there is none.
    begins : ndarray of bool, shape (n,)
        At which steps they begin again.

    Returns
    -------
    ndarray of float64, shape (n, *cells)
        Nowhere below zero; NaN at a first step that is no beginning.

    Examples
    --------
    >>> since_midnight = np.array([1.0, 3.0, 2.0, 5.0])
    >>> begins = np.array([True, False, True, False])
    >>> amounts_of_steps(since_midnight, None, begins).tolist()
    [1.0, 2.0, 2.0, 3.0]
    """
    first = np.full((1, *values.shape[1:]), np.nan) if before is None else before[None]
    earlier = np.concatenate([first, values[:-1]]).astype(np.float64)
    earlier[begins] = 0.0
    return np.asarray(np.maximum(values - earlier, 0.0))
