"""Arrays put into another order on disk, for work that needs them across the grain of their
chunks."""

from __future__ import annotations

import errno
import itertools
import math
import os
import shutil
import tempfile
from collections.abc import Iterator
from typing import Any, NamedTuple, Self

import numpy as np

from rhodolite.arrays.lazy import Array, LazyArray, Region, region_shape
from rhodolite.arrays.positional import write_at
from rhodolite.errors import OutputError
from rhodolite.plain_text import file_size


class RechunkedScratch(LazyArray):
    """An array that is decoded once into a scratch file of tiles, and read from there.

    The file has no name, so nothing of it stays, however the program ends.

    Parameters
    ----------
    source : LazyArray
    tile : tuple of int
        Shape of the tiles, each of which lies in one piece.
    """

    def __init__(self, source: LazyArray, tile: tuple[int, ...]) -> None:
        self.source = source
        self.shape, self.dtype = source.shape, source.dtype
        self.chunks = tuple(
            max(1, min(t, n)) for t, n in zip(tile, source.shape, strict=True)
        )
        self.filled = False
        self._file: Any = None

    def sources(self) -> tuple[LazyArray, ...]:
        return (self.source,)

    @property
    def pending(self) -> bool:
        return not self.filled

    def needed(self) -> tuple[LazyArray, ...]:
        return () if self.filled else self.sources()

    def open(self) -> None:
        """Make room.

        Raises
        ------
        OutputError
            If the disk has too little.
        """
        folder = tempfile.gettempdir()
        free = shutil.disk_usage(folder).free
        try:
            if self.nbytes > free:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            self._file = tempfile.TemporaryFile(prefix="rhodolite-")  # noqa: SIM115
            _reserve(self._file.fileno(), self.nbytes)
        except OSError as error:
            needed, there = file_size(self.nbytes), file_size(free)
            raise OutputError(
                f"{folder}: {needed} of scratch space are needed, and {there} are free "
                f"({error.strerror}); name a folder on a larger disk with --scratch, or TMPDIR"
            ) from None

    def take(self, region: Region) -> None:
        """Read a block of the source and put it into its tiles."""
        self.put(region, self.source.read(region))

    def put(self, region: Region, values: Array) -> None:
        """Put the values of a block into its tiles."""
        for shape, offset, in_block, in_tile in self._tiles(region):
            part = values[in_block]
            if part.shape[1:] == shape[1:]:
                before = in_tile[0].start * math.prod(shape[1:]) * self.dtype.itemsize
                data = np.ascontiguousarray(part).data.cast("B")
                write_at(self._file.fileno(), data, offset + before)
            else:
                mapped = np.memmap(self._file, self.dtype, "r+", offset, shape)
                mapped[in_tile] = part

    def read(self, region: Region) -> Array:
        if not self.filled:
            raise RuntimeError(
                "a scratch file was read before the engine had filled it"
            )
        out = np.empty(region_shape(region), self.dtype)
        for shape, offset, in_block, in_tile in self._tiles(region):
            mapped = np.memmap(self._file, self.dtype, "r", offset, shape)
            out[in_block] = mapped[in_tile]
        return out

    def _tiles(
        self, region: Region
    ) -> Iterator[tuple[tuple[int, ...], int, Region, Region]]:
        """Yield the tiles that a region touches: shape, place in the file, and what they share with
        the region, in the region and in the tile.

        Tiles lie in the order of storage. Before one of them lie, axis by axis, all cells of the
        tiles that come earlier along this axis within the same row of tiles before.
        """
        assert self.chunks is not None
        later = 1
        axes = []
        for part, size, n in reversed(
            list(zip(region, self.chunks, self.shape, strict=True))
        ):
            axes.append(
                [_Span.of(part, start, size, n, later) for start in _starts(part, size)]
            )
            later *= n
        for spans in itertools.product(*reversed(axes)):
            before, row = 0, self.dtype.itemsize
            for span in spans:
                before += span.before * row
                row *= span.extent
            yield (
                tuple([span.extent for span in spans]),
                before,
                tuple([span.in_block for span in spans]),
                tuple([span.in_tile for span in spans]),
            )

    def __getstate__(self) -> dict[str, Any]:
        raise TypeError("a scratch file cannot be sent to another process")


class ScratchBuffer(LazyArray):
    """A scratch file for values that are computed, and not read from anywhere."""

    def __init__(
        self, shape: tuple[int, ...], dtype: np.dtype[Any], tile: tuple[int, ...]
    ) -> None:
        self.shape, self.dtype = shape, dtype
        self._scratch = RechunkedScratch(self, tile)
        self._scratch.open()
        self._scratch.filled = True

    def put(self, region: Region, values: Array) -> None:
        """Put the values of a block into the file."""
        self._scratch.put(region, values)

    def read(self, region: Region) -> Array:
        return self._scratch.read(region)


def _reserve(descriptor: int, size: int) -> None:
    """Make a file as long as it is going to be, with room on the disk for all of it.

    A map of a file without room would end the process where the disk turns out to be full.
    """
    if size and hasattr(os, "posix_fallocate"):
        try:
            os.posix_fallocate(descriptor, 0, size)
            return
        except OSError as error:
            if error.errno not in (errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS):
                raise
    os.truncate(descriptor, size)


def decoding_factor(
    shape: tuple[int, ...], chunks: tuple[int, ...] | None, block: tuple[int, ...]
) -> float:
    """Return how often each chunk is decoded, on average, when an array is read in such blocks.

    Parameters
    ----------
    shape : tuple of int
    chunks : tuple of int, optional
        Shape of a chunk.
    block : tuple of int
        Shape of a block.
    """
    if chunks is None:
        return 1.0
    factor = 1.0
    for n, chunk, size in zip(shape, chunks, block, strict=True):
        if n:
            touched = sum(
                -(-min(start + size, n) // chunk) - start // chunk
                for start in range(0, n, size)
            )
            factor *= touched / -(-n // chunk)
    return factor


def _starts(part: slice, size: int) -> range:
    """Return where the tiles begin that a part of an axis touches."""
    return range(part.start // size * size, part.stop, size)


class _Span(NamedTuple):
    """A tile along one axis, and what a block has of it."""

    extent: int
    before: int
    """Cells in front of it, where tiles before it on earlier axes are one cell wide."""
    in_block: slice
    in_tile: slice

    @classmethod
    def of(cls, part: slice, start: int, size: int, n: int, later: int) -> Self:
        stop = min(start + size, n)
        low, high = max(part.start, start), min(part.stop, stop)
        in_block = slice(low - part.start, high - part.start)
        return cls(
            stop - start, start * later, in_block, slice(low - start, high - start)
        )
