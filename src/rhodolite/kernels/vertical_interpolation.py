"""Interpolation between levels, column by column."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.thresholds import beyond

Array = NDArray[Any]


def at_levels(
    values: Array, heights: Array, wanted: Array, *, extrapolate: bool
) -> Array:
    """Return values at other levels, by straight lines between the levels on both sides.

    Parameters
    ----------
    values : ndarray of float, shape (levels, *cells)
    heights : ndarray of float64, shape (levels,) or (levels, *cells)
        Of the levels, in the coordinate in which interpolation is linear, such as the logarithm of
        pressure; increasing or decreasing along the first axis, in all columns alike.
    wanted : ndarray of float64, shape (n,)
        Heights in the same coordinate.
    extrapolate : bool
        Whether the outermost line goes on beyond its ends.

    Returns
    -------
    ndarray of float64, shape (n, *cells)
        NaN beyond the outermost levels, and where a level that is needed is missing.

    Examples
    --------
    >>> heights = np.array([1000.0, 500.0])
    >>> at_levels(np.array([280.0, 250.0]), heights, np.array([750.0]), extrapolate=False).tolist()
    [265.0]
    """
    if heights.ndim == 1:
        heights = heights.reshape(-1, *(1,) * (values.ndim - 1))
    if heights.shape[0] > 1 and np.nanmean(heights[-1] - heights[0]) < 0:
        values, heights = values[::-1], heights[::-1]
    result = np.full((wanted.size, *values.shape[1:]), np.nan)
    count = heights.shape[0]
    for at, height in enumerate(wanted):
        above = (heights < height).sum(axis=0)  # the first level that is not below
        exact = np.isclose(
            np.take_along_axis(heights, np.minimum(above, count - 1)[None], 0)[0],
            height,
            rtol=1e-12,
        )
        inside = exact | ((above > 0) & (above < count))
        upper = np.clip(above, min(1, count - 1), count - 1)
        lower = np.maximum(upper - 1, 0)
        x0, x1, y0, y1 = (
            _take(of, index)
            for of, index in (
                (heights, lower),
                (heights, upper),
                (values, lower),
                (values, upper),
            )
        )
        part = np.divide(
            height - x0, x1 - x0, out=np.zeros(np.shape(x0)), where=x1 != x0
        )
        # A level that is hit needs no other.
        between = np.where(
            part == 1, y1, np.where(part == 0, y0, y0 + part * (y1 - y0))
        )
        between = np.where(exact, _take(values, np.minimum(above, count - 1)), between)
        result[at] = between if extrapolate else np.where(inside, between, np.nan)
    return result


def first_crossing(
    values: Array,
    heights: Array,
    threshold: float,
    *,
    above: bool,
    or_equal: bool,
    dtype: str = "f8",
) -> Array:
    """Return the height at which values lie beyond a threshold for the first time.

    Parameters
    ----------
    values : ndarray of float64, shape (levels, *cells)
        In the order in which levels are looked at; missing ones are passed over.
    heights : ndarray of float64, shape (levels,)
    threshold : float
    above : bool
        Whether values have to lie above it, and not below.
    or_equal : bool
        Whether values on it count.
    dtype : {"f4", "f8"}
        Type in which they are compared.

    Returns
    -------
    ndarray of float64, shape (*cells)
        On the straight line from the level before, where that is there; NaN where no level is
        beyond.

    Examples
    --------
    >>> heights = np.array([0.0, 100.0, 200.0])
    >>> column = np.array([5.0, 1.0, -3.0])
    >>> float(first_crossing(column, heights, 0.0, above=False, or_equal=False))
    125.0
    """
    meets = beyond(values, threshold, dtype, below=not above)
    if or_equal:
        meets |= values == threshold
    first = meets.argmax(axis=0)
    before = np.maximum(first - 1, 0)
    y0, y1 = _take(values, before), _take(values, first)
    x0, x1 = heights[before], heights[first]
    part = np.ones(np.shape(y0))
    # Without a level before it, or with a missing one, the level itself is all that is known.
    known = (first > 0) & ~np.isnan(y0) & (y1 != y0)
    np.divide(threshold - y0, y1 - y0, out=part, where=known)
    return np.where(meets.any(axis=0), x0 + part * (x1 - x0), np.nan)


def _take(of: Array, index: Array) -> Array:
    if index.size == 1:
        return np.asarray(of[int(index.reshape(-1)[0])], dtype=np.float64)
    return np.asarray(
        np.take_along_axis(of, np.broadcast_to(index, of.shape[1:])[None], 0)[0],
        dtype=np.float64,
    )
