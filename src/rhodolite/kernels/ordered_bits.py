"""Which of some values in order belong to a group, a bit for each; compiled.

A value that comes to the group or goes changes one bit. A cursor, a word of 64 bits and the number
of values in the words before it, stays near the quantile that was found last, so that the next one
is a few bits away.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.compiling import compiled_for

Array = NDArray[Any]
SHIFT, REST = 6, 63
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


@compiled_for("void(uint32[::1], int64, int32[::1])")
def place_rows(order: Array, known: int, places: Array) -> None:
    """Put the place of each row among the known values in order into `places`.

    Parameters
    ----------
    order : ndarray of uint32, shape (n,)
        The rows in ascending order of their values, missing ones last.
    known : int
        How many are not missing.
    places : ndarray of int32, shape (n,)
    """
    for at in range(order.size):
        places[order[at]] = at if at < known else _NOWHERE


@compiled_for(
    "int64(uint64[::1], int64[::1], int64[::1], int32[::1], int64[::1], int64)"
)
def turn_rows(
    words: Array, counts: Array, cursor: Array, places: Array, rows: Array, change: int
) -> int:
    """Add rows to the group, or take them out of it; return by how many values it changes.

    Parameters
    ----------
    words : ndarray of uint64
        Which places belong to the group.
    counts : ndarray of int64
        How many bits of each word are set.
    cursor : ndarray of int64, shape (2,)
    places : ndarray of int32, shape (n,)
        See `place_rows`.
    rows : ndarray of int64
    change : {1, -1}
        Whether they come or go.
    """
    known = 0
    for row in rows:
        place = places[row]
        if place >= 0:
            at = place >> SHIFT
            words[at] ^= _UNIT << np.uint64(place & REST)
            counts[at] += change
            cursor[1] += change * (at < cursor[0])
            known += change
    return known


@compiled_for("int64(uint64[::1], int64[::1], int64[::1], int64)")
def find_value(words: Array, counts: Array, cursor: Array, lower: int) -> int:
    """Return the place in order of the value of the group that so many are lower than, and move the
    cursor to its word.

    Parameters
    ----------
    words, counts, cursor : ndarray
        See `turn_rows`.
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
    return (at << SHIFT) + _lowest_bit(word)


@compiled_for("int64(uint64[::1], int64)")
def find_next(words: Array, place: int) -> int:
    """Return the place of the next value of the group, of which there is one.

    Parameters
    ----------
    words : ndarray of uint64
    place : int
    """
    at = place >> SHIFT
    word = words[at] & ~((np.uint64(2) << np.uint64(place & REST)) - _UNIT)
    while word == 0:
        at += 1
        word = words[at]
    return (at << SHIFT) + _lowest_bit(word)


@compiled_for("void(uint64[::1], int64, int64, int64[::1])")
def list_places(words: Array, first: int, count: int, listed: Array) -> None:
    """Put the places of so many values of the group, from a place of it on, into `listed`.

    Parameters
    ----------
    words : ndarray of uint64
    first, count : int
    listed : ndarray of int64
        At least as long.
    """
    at = first >> SHIFT
    word = words[at] & ~((_UNIT << np.uint64(first & REST)) - _UNIT)
    for number in range(count):
        while word == 0:
            at += 1
            word = words[at]
        listed[number] = (at << SHIFT) + _lowest_bit(word)
        word &= word - _UNIT
