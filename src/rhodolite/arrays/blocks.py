"""Cutting an array into blocks that follow its chunks and fit in memory."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.arrays.lazy import Region

IN_CACHE = 2 << 20
"""Bytes of float64 that are worked on at once where a processor's cache is to hold them."""


def block_shape(
    shape: tuple[int, ...], chunks: tuple[int, ...] | None, itemsize: int, limit: int
) -> tuple[int, ...]:
    """Return the shape of blocks made of whole chunks, as large as `limit` bytes allow.

    Blocks grow along the last axis first, as files are laid out; a block is never smaller than
    one chunk, since a part of a chunk costs as much to decode as the whole.

    Parameters
    ----------
    shape : tuple of int
    chunks : tuple of int, optional
        Shape of a chunk.
    itemsize : int
        Bytes of one value.
    limit : int
        Bytes of a block at most.

    Examples
    --------
    >>> block_shape((3650, 181, 360), (1, 181, 360), 4, 32 << 20)
    (128, 181, 360)
    """
    sizes = [
        max(1, min(c, n))
        for c, n in zip(chunks or (1,) * len(shape), shape, strict=True)
    ]
    volume = itemsize
    for size in sizes:
        volume *= size
    for axis in reversed(range(len(shape))):
        times = max(1, min(limit // volume, -(-shape[axis] // sizes[axis])))
        volume *= times
        sizes[axis] = min(sizes[axis] * times, max(shape[axis], 1))
    return tuple(sizes)


def iterate_blocks(shape: tuple[int, ...], block: tuple[int, ...]) -> Iterator[Region]:
    """Yield the regions that tile an array, in the order of its storage.

    Parameters
    ----------
    shape : tuple of int
    block : tuple of int
        Shape of a block.
    """
    if not shape:
        yield ()
        return
    for start in range(0, shape[0], block[0]):
        part = slice(start, min(start + block[0], shape[0]))
        for others in iterate_blocks(shape[1:], block[1:]):
            yield (part, *others)


def count_blocks(shape: tuple[int, ...], block: tuple[int, ...]) -> int:
    """Return how many blocks `iterate_blocks` yields.

    Parameters
    ----------
    shape : tuple of int
    block : tuple of int
        Shape of a block.
    """
    total = 1
    for n, step in zip(shape, block, strict=True):
        total *= -(-n // step)
    return total
