"""Quantiles of groups that share most of their values with the group before, compiled; the same to
the bit as by NumPy.

The values of a cell are put in order once. Which of them belong to a group is a bit for each place
in this order, so that a value that comes or goes changes one bit, and the quantile of the next
group lies a few bits away. The time that a group takes does not grow with its size.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled, compiled_for

Array = NDArray[Any]
_TILE = 16
"""Cells whose results lie in one or two lines of a cache."""
_SHIFT, _REST = 6, 63
"""What makes the number of a word, and that of a bit in it, of a place."""
_UNIT = np.uint64(1)
_NOWHERE = -1


@compiled_for("int64(uint64)")
def _lowest_bit(word: Any) -> int:
    """Return the place of the lowest bit that is set."""
    # Numba has no instruction that counts bits; its compiler makes one of this.
    below = (word - _UNIT) & ~word
    below -= (below >> np.uint64(1)) & np.uint64(0x5555555555555555)
    below = (below & np.uint64(0x3333333333333333)) + (
        (below >> np.uint64(2)) & np.uint64(0x3333333333333333)
    )
    below = (below + (below >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return np.int64((below * np.uint64(0x0101010101010101)) >> np.uint64(56))  # type: ignore[return-value]


@compiled_for("int64(uint64[::1], int64[::1], int64[::1], int64)")
def _find_value(words: Array, counts: Array, cursor: Array, lower: int) -> int:
    """Return the place in order of the value of the group that so many are lower than, and move the
    cursor to its word.

    Parameters
    ----------
    words : ndarray of uint64
        Which places belong to the group.
    counts : ndarray of int64
        How many bits of each word are set.
    cursor : ndarray of int64, shape (2,)
        A word, and how many bits are set in those before it.
    lower : int
    """
    at: int = cursor[0]
    before: int = cursor[1]
    while before > lower:
        at -= 1
        before -= counts[at]
    while before + counts[at] <= lower:
        before += counts[at]
        at += 1
    cursor[0], cursor[1] = at, before
    word = words[at]
    for _ in range(lower - before):
        word &= word - _UNIT
    return (at << _SHIFT) + _lowest_bit(word)


@compiled_for("int64(uint64[::1], int64)")
def _find_next(words: Array, place: int) -> int:
    """Return the place of the next value of the group, of which there is one."""
    at = place >> _SHIFT
    word = words[at] & ~((np.uint64(2) << np.uint64(place & _REST)) - _UNIT)
    while word == 0:
        at += 1
        word = words[at]
    return (at << _SHIFT) + _lowest_bit(word)


@compiled_for(
    "int64(uint64[::1], int64[::1], int64[::1], int32[::1], int64[::1], int64)"
)
def _turn(
    words: Array, counts: Array, cursor: Array, places: Array, rows: Array, change: int
) -> int:
    """Add rows to the group, or take them out of it; return by how many values it changes."""
    known = 0
    for row in rows:
        place = places[row]
        if place >= 0:
            at = place >> _SHIFT
            words[at] ^= _UNIT << np.uint64(place & _REST)
            counts[at] += change
            cursor[1] += change * (at < cursor[0])
            known += change
    return known


@compiled_for("void(uint32[::1], int64, int32[::1])")
def _find_places(order: Array, known: int, places: Array) -> None:
    """Put the place of each row among the known values in order into `places`."""
    for at in range(order.size):
        places[order[at]] = at if at < known else _NOWHERE


@compiled
def find_quantiles(
    values: Array,
    order: Array,
    known: Array,
    comes: tuple[Array, Array],
    goes: tuple[Array, Array],
    share: float,
    out: Array,
    sizes: Array,
) -> None:
    """Put a quantile of each group, and of how many values it is, into `out` and `sizes`.

    Parameters
    ----------
    values : ndarray of float32 or float64, shape (cells, n)
    order : ndarray of uint32, shape (cells, n)
        The rows in ascending order of their values, missing ones last.
    known : ndarray of int64, shape (cells,)
        How many of the values are not missing.
    comes, goes : (ndarray of int64, shape (groups + 1,), ndarray of int64)
        Where the rows begin that come to each group, beside those of the group before, and these
        rows; and those that are taken away from it first.
    share : float
        From 0 to 1.
    out : ndarray of float64, shape (groups, cells)
        NaN where no value is known.
    sizes : ndarray of int64, shape (groups, cells)

    Notes
    -----
    Definition 7 of Hyndman and Fan 1996; see `order_statistics.percentile`.

    Examples
    --------
    >>> values, order = np.array([[5.0, 1.0, 2.0]]), np.array([[1, 2, 0]], np.uint32)
    >>> comes = np.array([0, 2, 3]), np.array([0, 1, 2])
    >>> goes = np.array([0, 0, 1]), np.array([0])
    >>> out, sizes = np.empty((2, 1)), np.empty((2, 1), np.int64)
    >>> find_quantiles(values, order, np.array([3]), comes, goes, 0.5, out, sizes)
    >>> out.tolist(), sizes.tolist()
    ([[3.0], [1.5]], [[2], [2]])
    """
    cells, rows = values.shape
    places, ordered = np.empty(rows, np.int32), np.empty(rows, values.dtype)
    words = np.empty((rows >> _SHIFT) + 1, np.uint64)
    counts, cursor = np.empty(words.size, np.int64), np.empty(2, np.int64)
    tile = np.empty((_TILE, out.shape[0]))
    tile_sizes = np.empty((_TILE, out.shape[0]), np.int64)
    for left in range(0, cells, _TILE):
        width = min(_TILE, cells - left)
        for cell in range(width):
            series, ranked = values[left + cell], order[left + cell]
            _find_places(ranked, known[left + cell], places)
            for at in range(rows):
                ordered[at] = series[ranked[at]]
            words[:] = 0
            counts[:] = 0
            cursor[:] = 0
            size = 0
            for group in range(out.shape[0]):
                gone = goes[1][goes[0][group] : goes[0][group + 1]]
                come = comes[1][comes[0][group] : comes[0][group + 1]]
                size += _turn(words, counts, cursor, places, gone, -1)
                size += _turn(words, counts, cursor, places, come, 1)
                tile_sizes[cell, group] = size
                tile[cell, group] = math.nan
                if size == 0:
                    continue
                exact = (size - 1) * share
                below = math.floor(exact)
                part = exact - below
                at = _find_value(words, counts, cursor, below)
                quantile = np.float64(ordered[at])
                if part != 0.0:
                    high = np.float64(ordered[_find_next(words, at)])
                    quantile += (high - quantile) * part
                tile[cell, group] = quantile
        for group in range(out.shape[0]):
            for cell in range(width):
                out[group, left + cell] = tile[cell, group]
                sizes[group, left + cell] = tile_sizes[cell, group]
