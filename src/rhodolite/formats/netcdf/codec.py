"""Compressed chunks: from the bytes of a file to numbers and back.

This is the one place that knows how chunks are compressed. It serves the common case, deflate
with or without the byte shuffle; for any other pipeline `supported` says no and the NetCDF
library does the work.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import deflate
import numpy as np
from isal import isal_zlib

from rhodolite.arrays import Array

_SHUFFLE, _DEFLATE = 2, 1  # registered HDF5 filter numbers
_THOROUGH = 6


class CorruptChunk(Exception):
    """The bytes of a chunk do not decode."""


@dataclass(frozen=True)
class ChunkCodec:
    """Decodes and encodes the chunks of one variable.

    Parameters
    ----------
    dtype : dtype
        Type of the stored numbers.
    shape : tuple of int
        Shape of a chunk.
    shuffle : bool
        Whether the bytes of the numbers are sorted by significance before deflating.
    compressed : bool
        Whether chunks are deflated.
    thorough : bool
        Whether to take the time for smaller chunks, which are also the same bytes every time; the
        quick encoder now and then sets a bit differently that means nothing.
    """

    dtype: np.dtype[Any]
    shape: tuple[int, ...]
    shuffle: bool
    compressed: bool
    thorough: bool = False

    @property
    def nbytes(self) -> int:
        return int(np.prod(self.shape, dtype=np.int64)) * self.dtype.itemsize

    def decode(self, data: bytes, filter_mask: int) -> Array:
        """Return the numbers of a chunk.

        Raises
        ------
        CorruptChunk
            If the bytes are damaged.
        """
        # Bit i of the mask says that filter i of the pipeline was left out for this chunk.
        if self.compressed and not filter_mask >> int(self.shuffle) & 1:
            try:
                data = bytes(deflate.zlib_decompress(data, self.nbytes))
            except deflate.DeflateError:
                raise CorruptChunk("its compressed bytes are damaged") from None
        if len(data) != self.nbytes:
            raise CorruptChunk(f"{len(data)} bytes where {self.nbytes} belong")
        if self.shuffle and not filter_mask & 1:
            return unshuffled(np.frombuffer(data, np.uint8), self.dtype).reshape(self.shape)
        return np.frombuffer(data, self.dtype).reshape(self.shape)

    def encode(self, values: Array) -> bytes:
        """Return the bytes of a chunk, as an ordinary zlib stream if compressed."""
        plain = np.ascontiguousarray(values, dtype=self.dtype)
        data = shuffled(plain) if self.shuffle else plain
        if not self.compressed:
            return data.tobytes()
        return bytes(deflate.zlib_compress(data, _THOROUGH)) if self.thorough else isal_zlib.compress(data, 1)


def supported(filters: list[tuple[int, int, tuple[int, ...], bytes]]) -> tuple[bool, bool] | None:
    """Return (shuffle, deflate) for a filter pipeline; None where it holds anything else."""
    numbers = [number for number, *_ in filters]
    if numbers in ([], [_DEFLATE], [_SHUFFLE, _DEFLATE], [_SHUFFLE]):
        return _SHUFFLE in numbers, _DEFLATE in numbers
    return None


def shuffled(values: Array) -> Array:
    """Return bytes sorted by significance: all first bytes of the numbers, all second bytes ..."""
    return np.ascontiguousarray(values.reshape(-1).view(np.uint8).reshape(-1, values.dtype.itemsize).T)


def unshuffled(data: Array, dtype: np.dtype[Any]) -> Array:
    """Return the numbers whose shuffled bytes these are."""
    planes = data.reshape(dtype.itemsize, -1)
    out = np.empty(planes.shape[1], dtype)
    grouped = out.view(np.uint8).reshape(-1, dtype.itemsize)
    for place, plane in enumerate(planes):
        grouped[:, place] = plane
    return out
