"""Which blocks an array is read in, given the memory allowed and what must not be cut."""

from __future__ import annotations

import math

from rhodolite.arrays.blocks import block_shape
from rhodolite.arrays.lazy import LazyArray
from rhodolite.arrays.scratch import decoding_factor

LARGEST_BLOCK = 24 << 20
"""Blocks beyond this many bytes hardly gain speed (docs/performance.md) and cost memory."""
COPIES = 4
"""A block exists about this many times while it is worked on: stored, decoded, calculated, encoded.
"""
_MOST_DECODINGS = 3.0
"""A chunk decoded more often than this is decoded once into a scratch file instead."""


def block_limit(memory: int) -> int:
    """Return the bytes of one block. Depends on the memory alone, so that results never depend on
    the workers.

    Parameters
    ----------
    memory : int
        Bytes allowed.
    """
    return max(1 << 16, min(LARGEST_BLOCK, memory // (3 * COPIES)))


def shape_of_blocks(
    array: LazyArray,
    limit: int,
    chunks: tuple[int, ...] | None = None,
    *,
    as_stored: bool = False,
) -> tuple[int, ...]:
    """Return the shape of the blocks that an array is read in.

    Sums run in float64, so that is what a block may become on the way, unless it is taken
    `as_stored`.

    Parameters
    ----------
    array : LazyArray
    limit : int
        Bytes of a block.
    chunks : tuple of int, optional
        Shape of what must not be cut; the chunks of the array by default.
    as_stored : bool
    """
    itemsize = array.dtype.itemsize if as_stored else max(array.dtype.itemsize, 8)
    # A block of few values out of many chunks takes as long as those chunks do.
    limit = max(1 << 12, round(limit / array.decoded_share))
    return block_shape(array.shape, chunks or array.chunks, itemsize, limit)


def shape_in_units(
    array: LazyArray, unit: tuple[int, ...], limit: int
) -> tuple[tuple[int, ...], bool]:
    """Return the shape of blocks of whole units, and whether an array costs too much to read in
    them, so that it is rather decoded once into a scratch file.

    Where blocks that hold whole units as well as whole chunks are small enough, these are
    taken; otherwise blocks of units alone. It costs too much where chunks would then be decoded
    more than about three times, or a single unit comes from more than a few blocks' worth of
    decoded values.

    Parameters
    ----------
    array : LazyArray
    unit : tuple of int
        Shape of the pieces that must not be cut.
    limit : int
        Bytes of a block.
    """
    cover = tuple(
        u * -(-min(c, n) // u)
        for u, c, n in zip(unit, array.chunks or unit, array.shape, strict=True)
    )
    itemsize = max(array.dtype.itemsize, 8) * array.decoded_share
    bytes_in_cover = (
        math.prod(min(c, n) for c, n in zip(cover, array.shape, strict=True)) * itemsize
    )
    block = shape_of_blocks(
        array, limit, cover if bytes_in_cover <= 2 * limit else unit
    )
    decoded = (
        math.prod(min(b, n) for b, n in zip(block, array.shape, strict=True)) * itemsize
    )
    finer = array.chunks is not None and any(
        c < b for c, b in zip(array.chunks, block, strict=True)
    )
    again = decoding_factor(array.shape, array.chunks, block) > _MOST_DECODINGS
    return block, again or (finer and decoded > COPIES * limit)
