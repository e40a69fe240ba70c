"""The outermost values at each of many cells, brought up to date with more values; compiled.

Importing this module takes half a second, and the first use on a machine compiles it, which takes
some more; so it is imported where it is used.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled

Array = NDArray[Any]
_ROW = 1 << 11
"""Bytes of a row of cells that are worked on while the cache next to a processor holds them all."""


@compiled
def sort_rows(rows: Array, exchanges: Array) -> None:
    """Carry out exchanges between rows of cells, such as bring them into order.

    Parameters
    ----------
    rows : ndarray, shape (n, cells)
        Changed in place.
    exchanges : ndarray of int, shape (m, 2)
        Rows, of which the first gets the smaller value at each cell, and the second the larger.
    """
    width = _ROW // rows.itemsize
    tile = np.empty((len(rows), width), rows.dtype)
    for start in range(0, rows.shape[1], width):
        stop = min(start + width, rows.shape[1])
        for row in range(len(rows)):
            _copy(rows[row, start:stop], tile[row, : stop - start])
        for at in range(len(exchanges)):
            _exchange(
                tile[exchanges[at, 0], : stop - start],
                tile[exchanges[at, 1], : stop - start],
            )
        for row in range(len(rows)):
            _copy(tile[row, : stop - start], rows[row, start:stop])


@compiled
def merge_rows(
    tails: Array, group: int, rows: Array, exchanges: Array, upper: bool
) -> None:
    """Put those values of rows in order into the tail of a group, in order, that belong there.

    Parameters
    ----------
    tails : ndarray, shape (kept, groups, cells)
        Changed in place; the outermost values last.
    group : int
    rows : ndarray, shape (n, cells)
        No more than the tail has; the outermost values last.
    exchanges : ndarray of int, shape (m, 2)
        What brings rows into this order that first go the other way.
    upper : bool
        Whether the outermost values are the largest.
    """
    width, depth, last = _ROW // tails.itemsize, len(tails), len(rows) - 1
    tile = np.empty((depth, width), tails.dtype)
    for start in range(0, tails.shape[2], width):
        stop = min(start + width, tails.shape[2])
        size = stop - start
        if not _reaches(tails[0, group, start:stop], rows[last, start:stop], upper):
            continue
        for row in range(depth):
            _copy(tails[row, group, start:stop], tile[row, :size])
        # Of both, reversed against each other, the outer values are those of the tail to be.
        for row in range(len(rows)):
            _take_outer(tile[row, :size], rows[last - row, start:stop], upper)
        for at in range(len(exchanges)):
            _exchange(tile[exchanges[at, 0], :size], tile[exchanges[at, 1], :size])
        for row in range(depth):
            _copy(tile[row, :size], tails[row, group, start:stop])


@compiled
def _exchange(first: Array, second: Array) -> None:
    for cell in range(first.shape[0]):
        pair, other = first[cell], second[cell]
        first[cell] = min(pair, other)
        second[cell] = max(pair, other)


@compiled
def _reaches(innermost: Array, values: Array, upper: bool) -> bool:
    """Return whether any value lies beyond the innermost of a tail."""
    beyond = 0
    for cell in range(values.shape[0]):
        above, below = values[cell] > innermost[cell], values[cell] < innermost[cell]
        beyond += above if upper else below
    return beyond > 0


@compiled
def _take_outer(values: Array, others: Array, upper: bool) -> None:
    if upper:
        for cell in range(values.shape[0]):
            values[cell] = max(values[cell], others[cell])
    else:
        for cell in range(values.shape[0]):
            values[cell] = min(values[cell], others[cell])


@compiled
def _copy(source: Array, target: Array) -> None:
    for cell in range(source.shape[0]):
        target[cell] = source[cell]
