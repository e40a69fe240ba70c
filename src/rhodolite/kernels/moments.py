"""Counts, means and sums of squares by group along the first axis, and how to merge them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass
class Moments:
    """Moments of the values in each group at each cell.

    Attributes
    ----------
    count : ndarray of int32, shape (groups, *cells)
        Number of values that are not missing.
    mean : ndarray of float64, shape (groups, *cells)
        Their mean; 0 where there are none.
    squares : ndarray of float64, shape (groups, *cells), or None
        Sum of squared deviations from that mean; None where it was not asked for.
    """

    count: Array
    mean: Array
    squares: Array | None

    @classmethod
    def empty(cls, shape: tuple[int, ...], squares: bool) -> Moments:
        """Return the moments of no values, for shape (groups, *cells)."""
        return cls(np.zeros(shape, np.int32), np.zeros(shape), np.zeros(shape) if squares else None)


def grouped_moments(block: Array, groups: Array, size: int, squares: bool) -> Moments:
    """Return moments of a block by group along its first axis.

    Parameters
    ----------
    block : ndarray of float, shape (n, *cells)
        NaN marks missing values.
    groups : ndarray of int, shape (n,)
        Group of each step, from 0 to size - 1; negative where a step is left out.
    size : int
        Number of groups.
    squares : bool
        Whether sums of squared deviations are wanted.

    Returns
    -------
    Moments

    Notes
    -----
    Two passes over the block in float64, which is the form with the least rounding error
    (Chan, Golub and LeVeque 1983, The American Statistician 37, 242-247).
    """
    result = Moments.empty((size, *block.shape[1:]), squares)
    sums = result.mean
    for step, group in enumerate(groups):
        if group >= 0:
            np.add(sums[group], block[step], out=sums[group])
    per_group = np.bincount(groups[groups >= 0], minlength=size)
    result.count[...] = per_group.reshape(-1, *(1,) * (block.ndim - 1))
    if not np.isfinite(sums).all():
        _recount_with_gaps(block, groups, result)
    np.divide(sums, result.count, out=sums, where=result.count > 0)
    if result.squares is not None:
        for step, group in enumerate(groups):
            if group >= 0:
                deviation = block[step] - sums[group]
                deviation *= deviation
                np.copyto(deviation, 0, where=np.isnan(deviation))
                result.squares[group] += deviation
    return result


def merge_moments(into: Moments, other: Moments, groups: Array, cells: tuple[slice, ...]) -> None:
    """Merge moments of other values of some groups and cells into those of all.

    Parameters
    ----------
    into : Moments
        Of shape (all groups, *all cells); changed in place.
    other : Moments
        Of shape (len(groups), *cells of the region).
    groups : ndarray of int
        Which groups `other` holds.
    cells : tuple of slice
        Which cells `other` holds.

    Notes
    -----
    The pairwise update of Chan, Golub and LeVeque (1983), equations 2.1.
    """
    for row, group in enumerate(groups):
        at = (group, *cells)
        there, more = into.count[at], other.count[row]
        total = there + more
        share = np.divide(more, total, out=np.zeros(total.shape), where=total > 0)
        shift = other.mean[row] - into.mean[at]
        if into.squares is not None and other.squares is not None:
            into.squares[at] += other.squares[row] + shift * shift * there * share
        into.mean[at] += shift * share
        into.count[at] = total


def standard_deviation(moments: Moments) -> Array:
    """Return the sample standard deviation (divisor count - 1); NaN for fewer than two values."""
    assert moments.squares is not None
    free = np.maximum(moments.count - 1, 1)
    return np.where(moments.count > 1, np.sqrt(moments.squares / free), np.nan)


def _recount_with_gaps(block: Array, groups: Array, result: Moments) -> None:
    """Sum and count again where a plain sum met NaN."""
    result.mean[...] = 0
    result.count[...] = 0
    for step, group in enumerate(groups):
        if group >= 0:
            present = ~np.isnan(block[step])
            np.add(result.mean[group], block[step], out=result.mean[group], where=present)
            result.count[group] += present
