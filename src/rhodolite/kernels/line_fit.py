"""Straight lines through series by least squares, from sums that can be merged."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import t_below
from rhodolite.kernels.moments import first_values, shares, vanishes

Array = NDArray[Any]
_TILE = 4096


@dataclass
class LineSums:
    """What least squares need of pairs (x, y) at each cell, about their means.

    Attributes
    ----------
    count : ndarray of float64
        Number of pairs without a missing value.
    mean_x, mean_y : ndarray of float64
    xx, xy, yy : ndarray of float64
        Sums of products of deviations from the means.
    """

    count: Array
    mean_x: Array
    mean_y: Array
    xx: Array
    xy: Array
    yy: Array

    @classmethod
    def empty(cls, cells: tuple[int, ...]) -> LineSums:
        """Return the sums of no pairs."""
        return cls(*(np.zeros(cells) for _ in fields(cls)))


@dataclass(frozen=True)
class Line:
    """A line at each cell, with how well it is known; NaN where there are fewer than three pairs.

    Attributes
    ----------
    slope, error : ndarray of float64
        Change of y for each unit of x, and its standard error.
    pvalue : ndarray of float64
        Probability of a slope at least as far from 0 where there is none and the residuals are
        independent and normal (two-sided t test with n - 2 degrees of freedom).
    """

    slope: Array
    error: Array
    pvalue: Array


def line_sums(x: Array, block: Array) -> LineSums:
    """Return the sums of one block.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
    block : ndarray of float, shape (n, *cells)
        Values of y; NaN marks missing ones.

    Notes
    -----
    Two passes over the block, about the means (Chan, Golub and LeVeque 1983, The American
    Statistician 37, 242-247).
    """
    cells = block.shape[1:]
    flat = block.reshape(len(x), -1)
    origin = first_values(flat)
    along = x - x.mean()
    mean, xy, yy = np.empty_like(origin), np.empty_like(origin), np.empty_like(origin)
    for start in range(0, mean.size, _TILE):  # small enough to fit in cache
        tile = slice(start, start + _TILE)
        deviation = np.subtract(flat[:, tile], origin[tile], dtype=np.float64)
        shift = deviation.sum(axis=0) / max(len(x), 1)
        if not np.isfinite(shift).all():
            return _with_gaps(x, block, origin.reshape(cells))
        deviation -= shift
        mean[tile] = origin[tile] + shift
        xy[tile] = np.einsum("t,tc->c", along, deviation)
        yy[tile] = np.einsum("tc,tc->c", deviation, deviation)
    whole = [
        np.full(cells, float(value)) for value in (len(x), x.mean(), along @ along)
    ]
    return LineSums(
        whole[0],
        whole[1],
        mean.reshape(cells),
        whole[2],
        xy.reshape(cells),
        yy.reshape(cells),
    )


def _with_gaps(x: Array, block: Array, origin: Array) -> LineSums:
    sums = LineSums.empty(block.shape[1:])
    shift = np.zeros(block.shape[1:])
    for at, step in zip(x, block, strict=True):
        present = ~np.isnan(step)
        sums.count += present
        np.add(sums.mean_x, at, out=sums.mean_x, where=present)
        np.add(shift, step - origin, out=shift, where=present)
    divisor = np.maximum(sums.count, 1)
    sums.mean_x /= divisor
    shift /= divisor
    for at, step in zip(x, block, strict=True):
        along = np.where(np.isnan(step), 0.0, at - sums.mean_x)
        deviation = np.where(np.isnan(step), 0.0, step - origin - shift)
        sums.xx += along * along
        sums.xy += along * deviation
        sums.yy += deviation * deviation
    sums.mean_y = np.where(sums.count > 0, origin + shift, 0.0)
    return sums


def merge_line_sums(into: LineSums, other: LineSums, cells: tuple[slice, ...]) -> None:
    """Merge the sums of other pairs at some cells into those of all; changes `into`.

    Parameters
    ----------
    into : LineSums
        Sums to add to.
    other : LineSums
        Sums to add.
    cells : tuple of slice
        Where the cells of `other` lie in `into`.

    Notes
    -----
    The pairwise update of Chan, Golub and LeVeque (1983), equations 2.1, for two variables.
    """
    share, between = shares(into.count[cells], other.count)
    shift_x, shift_y = (
        other.mean_x - into.mean_x[cells],
        other.mean_y - into.mean_y[cells],
    )
    into.xx[cells] += other.xx + shift_x * shift_x * between
    into.xy[cells] += other.xy + shift_x * shift_y * between
    into.yy[cells] += other.yy + shift_y * shift_y * between
    into.mean_x[cells] += shift_x * share
    into.mean_y[cells] += shift_y * share
    into.count[cells] += other.count


def fit_line(sums: LineSums) -> Line:
    """Return the line of least squares at each cell.

    Notes
    -----
    The slope is Sxy / Sxx and its standard error sqrt((Syy - slope Sxy) / (n - 2) / Sxx); see
    Draper and Smith 1998, Applied Regression Analysis, section 1.4. Where all pairs lie on the line
    the error is 0, and the p-value 0 for a slope and 1 for none. Values that are equal up to
    rounding have none.

    Examples
    --------
    >>> x = np.array([0.0, 1.0, 2.0])
    >>> line = fit_line(line_sums(x, np.array([[1.0], [3.0], [5.0]])))
    >>> line.slope.tolist()
    [2.0]
    """
    enough = (sums.count >= 3) & (sums.xx > 0)
    constant = vanishes(sums.yy, sums.count, sums.mean_y)
    xy, yy = (np.where(constant, 0.0, part) for part in (sums.xy, sums.yy))
    slope = np.divide(xy, sums.xx, out=np.full(sums.xx.shape, np.nan), where=enough)
    left = np.maximum(yy - slope * xy, 0.0)
    freedom = np.maximum(sums.count - 2, 1)
    error = np.sqrt(left / freedom / np.where(enough, sums.xx, 1.0))
    known_error = np.where(enough, error, np.nan)
    return Line(slope, known_error, pvalue_of_slope(slope, known_error, freedom))


def pvalue_of_slope(slope: Array, error: Array, freedom: Array) -> Array:
    """Return the p-value of a slope by a t test; missing where the slope or its error is.

    Parameters
    ----------
    slope, error : ndarray
        Where all values lie on a line the error is 0.
    freedom : ndarray
        Degrees of freedom.

    Examples
    --------
    >>> pvalue_of_slope(np.array([0.0, 1.0, np.nan]), np.zeros(3), np.ones(3)).tolist()
    [1.0, 0.0, nan]
    """
    ratio = np.divide(
        np.abs(slope), error, out=np.where(slope == 0, 0.0, np.inf), where=error > 0
    )
    unknown = np.isnan(slope) | np.isnan(error)
    return np.where(unknown, np.nan, 2 * t_below(freedom, -ratio))
