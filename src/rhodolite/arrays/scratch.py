"""Arrays put into another order on disk, for work that needs them across the grain of their
chunks."""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from typing import Any

import numpy as np

from rhodolite.arrays.blocks import iterate_blocks
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
        self.chunks = tuple(max(1, min(t, n)) for t, n in zip(tile, source.shape, strict=True))
        self.filled = False
        self._file: Any = None

    def sources(self) -> tuple[LazyArray, ...]:
        return (self.source,)

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
                f"({error.strerror}); set TMPDIR to a folder on a larger disk"
            ) from None

    def take(self, region: Region) -> None:
        """Read a block of the source and put it into its tiles."""
        self.put(region, self.source.read(region))

    def put(self, region: Region, values: Array) -> None:
        """Put the values of a block into its tiles."""
        for tile, offset in self._tiles(region):
            inner = _overlap(tile, region)
            part = values[_within(inner, region)]
            place, shape = _within(inner, tile), region_shape(tile)
            if all(n == whole for n, whole in zip(part.shape[1:], shape[1:], strict=True)):
                start = (
                    offset
                    + place[0].start * int(np.prod(shape[1:], dtype=np.int64)) * self.dtype.itemsize
                )
                write_at(self._file.fileno(), np.ascontiguousarray(part).data.cast("B"), start)
            else:
                mapped = np.memmap(self._file, self.dtype, "r+", offset, shape)
                mapped[place] = part

    def read(self, region: Region) -> Array:
        if not self.filled:
            raise RuntimeError("a scratch file was read before the engine had filled it")
        out = np.empty(region_shape(region), self.dtype)
        for tile, offset in self._tiles(region):
            inner = _overlap(tile, region)
            mapped = np.memmap(self._file, self.dtype, "r", offset, region_shape(tile))
            out[_within(inner, region)] = mapped[_within(inner, tile)]
        return out

    def _tiles(self, region: Region) -> list[tuple[Region, int]]:
        """Return the tiles that a region touches, each with its place in the file."""
        assert self.chunks is not None
        starts = [part.start // size * size for part, size in zip(region, self.chunks, strict=True)]
        stops = [
            min(n, -(-part.stop // size) * size)
            for part, size, n in zip(region, self.chunks, self.shape, strict=True)
        ]
        span = tuple(stop - start for start, stop in zip(starts, stops, strict=True))
        found = []
        for local in iterate_blocks(span, self.chunks):
            tile = tuple(slice(s + p.start, s + p.stop) for s, p in zip(starts, local, strict=True))
            found.append((tile, self._offset(tile)))
        return found

    def _offset(self, tile: Region) -> int:
        """Return where a tile begins: after all tiles before it, in the order of storage."""
        before, rest = 0, self.size
        sizes = list(self.shape)
        for axis, part in enumerate(tile):
            # Cells of the tiles that come earlier along this axis, within the same row of tiles
            # before.
            rest = rest // sizes[axis] if sizes[axis] else 0
            before += part.start * rest
            rest *= part.stop - part.start
        return before * self.dtype.itemsize

    def __getstate__(self) -> dict[str, Any]:
        raise TypeError("a scratch file cannot be sent to another process")


class ScratchBuffer(LazyArray):
    """A scratch file for values that are computed, and not read from anywhere."""

    def __init__(self, shape: tuple[int, ...], dtype: np.dtype[Any], tile: tuple[int, ...]) -> None:
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
                -(-min(start + size, n) // chunk) - start // chunk for start in range(0, n, size)
            )
            factor *= touched / -(-n // chunk)
    return factor


def _overlap(a: Region, b: Region) -> Region:
    return tuple(
        slice(max(x.start, y.start), min(x.stop, y.stop)) for x, y in zip(a, b, strict=True)
    )


def _within(inner: Region, outer: Region) -> Region:
    return tuple(
        slice(x.start - y.start, x.stop - y.start) for x, y in zip(inner, outer, strict=True)
    )
