"""Weighted sums, means and variances of every window, compiled.

Series are cut into blocks as long as a window (van Herk 1992, Pattern Recognition Letters 13,
517-521). A window is the end of one block and the beginning of the next, and sums over these are
found from the one before by one addition. So each is the sum of its own values and of no others,
whatever its length. Differences are taken from the last value of the first block and from the first
of the second, which are in every window that meets them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for

Array = NDArray[Any]
_ROOM = 1 << 14
"""Numbers of the ends of a block that stay in the caches of a core."""
_FEWEST, _MOST = 16, 256
"""Cells that are worked on together."""


@compiled_for("int64(int64)")
def _width_of_tiles(length: int) -> int:
    return max(_FEWEST, min(_MOST, _ROOM // length))


@compiled
def add_windows(
    values: Array, weights: Array, means: bool, length: int, out: Array
) -> None:
    """Put the sum or the mean of each window into `out`.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        A window with a missing value has none.
    weights : ndarray of float64, shape (n,)
    means : bool
        Whether means are wanted, and not sums.
    length : int
        From 1 to n.
    out : ndarray of float64, shape (n - length + 1, cells)
    """
    count, cells = out.shape
    tile = _width_of_tiles(length)
    ends, end_weights = np.empty((length, tile)), np.empty(length)
    origin = np.zeros(tile)
    for left in range(0, cells, tile):
        width: int = min(tile, cells - left)
        for block in range(0, count, length):
            if means:
                row = values[block + length - 1, left : left + width]
                for cell in range(width):
                    origin[cell] = row[cell]
            _add_from_the_end(
                values, weights, origin, block, left, width, ends, end_weights
            )
            divisor = end_weights[0] if means else 1.0
            end, result = ends[0], out[block, left : left + width]
            for cell in range(width):
                result[cell] = origin[cell] + end[cell] / divisor
            _add_beginnings(
                values, weights, means, block, left, origin, ends, end_weights, out
            )


@compiled
def _add_beginnings(
    values: Array,
    weights: Array,
    means: bool,
    block: int,
    left: int,
    origin: Array,
    ends: Array,
    end_weights: Array,
    out: Array,
) -> None:
    """Put into `out` what begins in a block after its first step: its end, and the beginning of the
    next block."""
    length, tile = ends.shape
    width: int = min(tile, out.shape[1] - left)
    start, shift, start_weight = np.zeros(tile), np.zeros(tile), 0.0
    for at in range(1, min(length, out.shape[0] - block)):
        step = block + length + at - 1
        row = values[step, left : left + width]
        if at == 1 and means:
            for cell in range(width):
                shift[cell] = row[cell] - origin[cell]
        weight = weights[step]
        start_weight += weight
        divisor = end_weights[at] + start_weight if means else 1.0
        end, result = ends[at], out[block + at, left : left + width]
        for cell in range(width):
            change = row[cell] - origin[cell] - shift[cell]
            start[cell] += weight * change
            total = end[cell] + start[cell] + start_weight * shift[cell]
            result[cell] = origin[cell] + total / divisor


@compiled
def _add_from_the_end(
    values: Array,
    weights: Array,
    origin: Array,
    block: int,
    left: int,
    width: int,
    ends: Array,
    end_weights: Array,
) -> None:
    """Put the sums of differences from each step of a block to its end into `ends`."""
    before, weight_before = np.zeros(width), 0.0
    for at in range(len(ends) - 1, -1, -1):
        row, end = values[block + at, left : left + width], ends[at]
        weight = weights[block + at]
        weight_before += weight
        end_weights[at] = weight_before
        for cell in range(width):
            before[cell] += weight * (row[cell] - origin[cell])
            end[cell] = before[cell]


@compiled
def find_variances(
    values: Array, weights: Array, length: int, rounding: float, out: Array
) -> None:
    """Put the variance of each window into `out`, as `grouped_statistics.Spread` has it.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (n, cells)
        A window with a missing value has none.
    weights : ndarray of float64, shape (n,)
    length : int
        From 2 to n.
    rounding : float
        Part of a mean up to which deviations are those of equal values.
    out : ndarray of float64, shape (n - length + 1, cells)

    Notes
    -----
    Means and squares are kept as values come (West 1979, Communications of the ACM 22, 532-535),
    and those of two parts put together (Chan, Golub and LeVeque 1983, The American Statistician 37,
    242-247).
    """
    count, cells = out.shape
    tile = _width_of_tiles(length)
    ends, squares = np.empty((length, tile)), np.empty((length, tile))
    end_weights, origin = np.empty(length), np.empty(tile)
    for left in range(0, cells, tile):
        width: int = min(tile, cells - left)
        for block in range(0, count, length):
            row = values[block + length - 1, left : left + width]
            for cell in range(width):
                origin[cell] = row[cell]
            _spread_from_the_end(
                values, weights, origin, block, left, width, ends, squares, end_weights
            )
            _spread_of_beginnings(
                values,
                weights,
                rounding,
                block,
                left,
                origin,
                ends,
                squares,
                end_weights,
                out,
            )


@compiled
def _spread_of_beginnings(
    values: Array,
    weights: Array,
    rounding: float,
    block: int,
    left: int,
    origin: Array,
    ends: Array,
    squares: Array,
    end_weights: Array,
    out: Array,
) -> None:
    """Put the variances of the windows that begin in a block into `out`: of its end, and of the
    beginning of the next block."""
    length, tile = ends.shape
    width: int = min(tile, out.shape[1] - left)
    start, start_squares = np.zeros(tile), np.zeros(tile)
    shift, start_weight = np.zeros(tile), 0.0
    for at in range(min(length, out.shape[0] - block)):
        step = block + length + at - 1
        row = values[step, left : left + width]
        # The first window is the block itself, and has nothing of the next.
        weight = weights[step] if at > 0 else 0.0
        if at == 1:
            for cell in range(width):
                shift[cell] = row[cell] - origin[cell]
        start_weight += weight
        part = weight / start_weight if at > 0 else 0.0
        whole = end_weights[at] + start_weight
        share = start_weight / whole
        between = end_weights[at] * share
        freedom = whole * ((length - 1) / length)
        end, square = ends[at], squares[at]
        result = out[block + at, left : left + width]
        for cell in range(width):
            change = row[cell] - origin[cell] - shift[cell]
            apart = change - start[cell]
            start[cell] += apart * part
            start_squares[cell] += weight * apart * (change - start[cell])
            apart = start[cell] + shift[cell] - end[cell]
            mean = origin[cell] + end[cell] + apart * share
            total = square[cell] + start_squares[cell] + between * apart * apart
            least = rounding * abs(mean)
            vanishes = total <= whole * (least * least)
            result[cell] = 0.0 if vanishes else total / freedom


@compiled
def _spread_from_the_end(
    values: Array,
    weights: Array,
    origin: Array,
    block: int,
    left: int,
    width: int,
    ends: Array,
    squares: Array,
    end_weights: Array,
) -> None:
    """Put the means and the sums of squares about them, from each step of a block to its end, into
    `ends` and `squares`."""
    mean, total, weight_before = np.zeros(width), np.zeros(width), 0.0
    for at in range(len(ends) - 1, -1, -1):
        row = values[block + at, left : left + width]
        end, square = ends[at], squares[at]
        weight = weights[block + at]
        weight_before += weight
        end_weights[at] = weight_before
        part = weight / weight_before
        for cell in range(width):
            change = row[cell] - origin[cell]
            apart = change - mean[cell]
            mean[cell] += apart * part
            total[cell] += weight * apart * (change - mean[cell])
            end[cell], square[cell] = mean[cell], total[cell]
