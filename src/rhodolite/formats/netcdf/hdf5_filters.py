"""Compressed chunks: from the bytes of a file to numbers and back.

This is the one place that knows how chunks are compressed. It serves the common filters of HDF5,
deflate, zstd, the byte shuffle and the Fletcher-32 checksum; for any other pipeline `supported`
says no and the NetCDF library does the work.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass
from typing import Any

import deflate
import numpy as np
from isal import isal_zlib

from rhodolite.arrays import Array
from rhodolite.formats.declared_sizes import zstd_size

Bytes = bytes | bytearray
_NAMES = {1: "deflate", 2: "shuffle", 3: "fletcher32", 32015: "zstd"}
"""Registered numbers of HDF5 filters."""
_THOROUGH = 6
_SAMPLE, _HARDLY = 4096, 0.97
_STORED_AT_MOST = 65535
"""Bytes that a stored block of deflate holds."""


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
    filters : tuple of str
        What is done to a chunk on the way into the file, in order: ``shuffle`` sorts the bytes of
        the numbers by significance, ``deflate`` and ``zstd`` compress, ``fletcher32`` adds a
        checksum.
    thorough : bool
        Whether to take the time for smaller chunks, which are also the same bytes every time; the
        quick encoder now and then sets a bit differently that means nothing.
    """

    dtype: np.dtype[Any]
    shape: tuple[int, ...]
    filters: tuple[str, ...] = ()
    thorough: bool = False

    @property
    def nbytes(self) -> int:
        return math.prod(self.shape) * self.dtype.itemsize

    def decode(self, data: Bytes, filter_mask: int, into: Array | None = None) -> Array:
        """Return the numbers of a chunk.

        Parameters
        ----------
        data : bytes
        filter_mask : int
            Bit i says that filter i of the pipeline was left out for this chunk.
        into : ndarray, optional
            Where the numbers are put if that saves copying them; of the chunk's shape, in one
            piece.

        Raises
        ------
        CorruptChunk
            If the bytes are damaged.
        """
        used = [
            name for at, name in enumerate(self.filters) if not filter_mask >> at & 1
        ]
        numbers: Array | None = None
        for at in reversed(range(len(used))):
            if used[at] == "fletcher32":
                data = _check_sum(data)
            elif used[at] == "shuffle" and at == 0:
                numbers = self._unshuffle(data, into)
            elif used[at] == "shuffle":
                data = _unshuffled_bytes(data, self.dtype.itemsize)
            else:
                data = self._inflate(
                    data, used[at], self.nbytes + 4 * used[:at].count("fletcher32")
                )
        return numbers if numbers is not None else self._plain(data)

    def _unshuffle(self, data: Bytes, into: Array | None) -> Array:
        self._check_length(data)
        out = np.empty(self.shape, self.dtype) if into is None else into
        unshuffle(np.frombuffer(data, np.uint8), out.reshape(-1))
        return out

    def _plain(self, data: Bytes) -> Array:
        self._check_length(data)
        return np.frombuffer(data, self.dtype).reshape(self.shape)

    def _check_length(self, data: Bytes) -> None:
        if len(data) != self.nbytes:
            raise CorruptChunk(f"{len(data)} bytes where {self.nbytes} belong")

    def encode(self, values: Array) -> bytes:
        """Return the bytes of a chunk, shuffled and as an ordinary zlib stream if the filters say
        so."""
        plain = np.ascontiguousarray(values, dtype=self.dtype)
        data = shuffle(plain) if "shuffle" in self.filters else plain
        packed = self._deflate(data) if "deflate" in self.filters else data.tobytes()
        return with_fletcher32(packed) if "fletcher32" in self.filters else packed

    def _deflate(self, data: Array) -> bytes:
        if self.thorough:
            return bytes(deflate.zlib_compress(data, _THOROUGH))
        return (
            quick_zlib(data)
            if "shuffle" in self.filters
            else isal_zlib.compress(data, 1)
        )

    def _inflate(self, data: Bytes, name: str, length: int) -> Bytes:
        try:
            if name == "zstd":
                return _unpack_zstd(data, length)
            unpacked: Bytes = deflate.zlib_decompress(data, length)
            return unpacked
        except (deflate.DeflateError, RuntimeError, ValueError):
            raise CorruptChunk("its compressed bytes are damaged") from None


def quick_zlib(planes: Array) -> bytes:
    """Return a zlib stream of planes of bytes, made quickly.

    The bytes of least significance of measured numbers are noise. As many of the first planes as do
    not compress go into stored blocks of the stream, which are written and read as fast as memory;
    the rest is deflated. Any reader of deflate reads both.

    Parameters
    ----------
    planes : ndarray of uint8, shape (bytes of a number, numbers)

    Notes
    -----
    The forms of blocks are those of RFC 1951, section 3.2.4, and of the stream those of RFC 1950.
    """
    count = planes.shape[1]
    stored = next(
        (at for at, plane in enumerate(planes[:-1]) if not _is_noise(plane)),
        len(planes) - 1,
    )
    if stored == 0 or count < _SAMPLE:
        return isal_zlib.compress(planes, 1)
    whole = planes.reshape(-1).data
    parts: list[bytes | memoryview] = [b"\x78\x01"]
    for start in range(0, stored * count, _STORED_AT_MOST):
        length = min(_STORED_AT_MOST, stored * count - start)
        parts += [
            struct.pack("<BHH", 0, length, length ^ 0xFFFF),
            whole[start : start + length],
        ]
    rest = isal_zlib.compressobj(1, isal_zlib.DEFLATED, -15)
    parts += [
        rest.compress(whole[stored * count :]),
        rest.flush(),
        struct.pack(">I", deflate.adler32(whole, 1)),
    ]
    return b"".join(parts)


def _is_noise(plane: Array) -> bool:
    """Return whether a plane of bytes does not compress, judged by a sample from its middle."""
    sample = plane[plane.size // 2 :][:_SAMPLE].tobytes()
    return len(isal_zlib.compress(sample, 1)) > _HARDLY * len(sample)


def supported_filters(
    filters: list[tuple[int, int, tuple[int, ...], bytes]],
) -> tuple[str, ...] | None:
    """Return the names of a pipeline's filters; None where it holds one that is not known here.

    Parameters
    ----------
    filters : list of tuple[int, int, tuple[int, ...], bytes]
        Filters as the HDF5 library lists them.
    """
    names = tuple(_NAMES.get(number, "") for number, *_ in filters)
    return None if "" in names else names


def _unpack_zstd(data: Bytes, length: int) -> Bytes:
    from numcodecs.zstd import decompress

    if (zstd_size(bytes(data[:18])) or 0) > length:
        raise ValueError("more would be unpacked than a chunk holds")
    unpacked: bytes = decompress(data)
    return unpacked


def _check_sum(data: Bytes) -> Bytes:
    """Return the bytes before a Fletcher-32 checksum.

    Raises
    ------
    CorruptChunk
        If the checksum is not that of the bytes.
    """
    if len(data) < 5:
        raise CorruptChunk("it is too short to hold a checksum")
    content, stored = data[:-4], int.from_bytes(data[-4:], "little")
    # Files of old versions of the HDF5 library have the bytes of each half the other way round.
    turned = (stored & 0x00FF00FF) << 8 | (stored & 0xFF00FF00) >> 8
    if fletcher32(content) not in (stored, turned):
        raise CorruptChunk("its checksum does not fit its bytes")
    return content


def with_fletcher32(data: Bytes) -> bytes:
    """Return bytes with their checksum after them."""
    from numcodecs import Fletcher32

    return bytes(Fletcher32().encode(data))


def fletcher32(data: Bytes) -> int:
    """Return the Fletcher-32 checksum of bytes, as the HDF5 library computes it."""
    return int.from_bytes(with_fletcher32(data)[-4:], "little")


def shuffle(values: Array) -> Array:
    """Return bytes sorted by significance: all first bytes of the numbers, all second bytes ..."""
    return np.ascontiguousarray(
        values.reshape(-1).view(np.uint8).reshape(-1, values.dtype.itemsize).T
    )


def _unshuffled_bytes(data: Bytes, itemsize: int) -> Bytes:
    """Return bytes in their order again; those beyond whole numbers were left where they are."""
    whole = len(data) // itemsize * itemsize
    numbers = np.frombuffer(data[:whole], np.uint8).reshape(itemsize, -1).T
    return numbers.tobytes() + data[whole:]


def unshuffle(data: Array, out: Array) -> None:
    """Put the numbers whose shuffled bytes these are into an array of one axis.

    Parameters
    ----------
    data : ndarray
    out : ndarray
        Where the result goes.
    """
    grouped = out.view(np.uint8).reshape(-1, out.itemsize)
    for place, plane in enumerate(data.reshape(out.itemsize, -1)):
        grouped[:, place] = plane
