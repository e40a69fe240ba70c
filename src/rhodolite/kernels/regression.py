"""Straight lines through series by least squares, from sums that can be merged."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import t_below

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
    mean = flat.sum(axis=0, dtype=np.float64) / max(len(x), 1)
    if not np.isfinite(mean).all():
        return _with_gaps(x, block)
    along = x - x.mean()
    xy, yy = np.empty_like(mean), np.empty_like(mean)
    for start in range(0, mean.size, _TILE):  # few enough cells to stay near the processor
        tile = slice(start, start + _TILE)
        deviation = flat[:, tile] - mean[tile]
        xy[tile] = np.einsum("t,tc->c", along, deviation)
        yy[tile] = np.einsum("tc,tc->c", deviation, deviation)
    whole = [np.full(cells, float(value)) for value in (len(x), x.mean(), along @ along)]
    return LineSums(whole[0], whole[1], mean.reshape(cells), whole[2], xy.reshape(cells), yy.reshape(cells))


def _with_gaps(x: Array, block: Array) -> LineSums:
    sums = LineSums.empty(block.shape[1:])
    for at, step in zip(x, block, strict=True):
        present = ~np.isnan(step)
        sums.count += present
        np.add(sums.mean_x, at, out=sums.mean_x, where=present)
        np.add(sums.mean_y, step, out=sums.mean_y, where=present)
    divisor = np.maximum(sums.count, 1)
    sums.mean_x /= divisor
    sums.mean_y /= divisor
    for at, step in zip(x, block, strict=True):
        along = np.where(np.isnan(step), 0.0, at - sums.mean_x)
        deviation = np.where(np.isnan(step), 0.0, step - sums.mean_y)
        sums.xx += along * along
        sums.xy += along * deviation
        sums.yy += deviation * deviation
    return sums


def merge_line_sums(into: LineSums, other: LineSums, cells: tuple[slice, ...]) -> None:
    """Merge the sums of other pairs at some cells into those of all; changes `into`.

    Notes
    -----
    The pairwise update of Chan, Golub and LeVeque (1983), equations 2.1, for two variables.
    """
    there, more = into.count[cells], other.count
    total = there + more
    share = np.divide(more, total, out=np.zeros(total.shape), where=total > 0)
    shift_x, shift_y = other.mean_x - into.mean_x[cells], other.mean_y - into.mean_y[cells]
    between = there * share
    into.xx[cells] += other.xx + shift_x * shift_x * between
    into.xy[cells] += other.xy + shift_x * shift_y * between
    into.yy[cells] += other.yy + shift_y * shift_y * between
    into.mean_x[cells] += shift_x * share
    into.mean_y[cells] += shift_y * share
    into.count[cells] = total


def fit_line(sums: LineSums) -> Line:
    """Return the line of least squares at each cell.

    Notes
    -----
    The slope is Sxy / Sxx and its standard error sqrt((Syy - slope Sxy) / (n - 2) / Sxx); see Draper
    and Smith 1998, Applied Regression Analysis, section 1.4. Where all pairs lie on the line the
    error is 0, and the p-value 0 for a slope and 1 for none.
    """
    enough = (sums.count >= 3) & (sums.xx > 0)
    slope = np.divide(sums.xy, sums.xx, out=np.full(sums.xx.shape, np.nan), where=enough)
    left = np.maximum(sums.yy - slope * sums.xy, 0.0)
    freedom = np.maximum(sums.count - 2, 1)
    error = np.sqrt(left / freedom / np.where(enough, sums.xx, 1.0))
    ratio = np.divide(np.abs(slope), error, out=np.where(slope == 0, 0.0, np.inf), where=error > 0)
    pvalue = 2 * t_below(freedom, -ratio)
    return Line(slope, np.where(enough, error, np.nan), np.where(enough, pvalue, np.nan))
