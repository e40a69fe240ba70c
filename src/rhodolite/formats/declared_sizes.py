"""How many bytes compressed chunks say that they hold, known before they are unpacked."""

from __future__ import annotations

import struct

_ZSTD = b"\x28\xb5\x2f\xfd"
_FIELD_SIZES = (0, 2, 4, 8)
_DICTIONARY_SIZES = (0, 1, 2, 4)
_UNUSUAL = 2
"""Chunks that do not compress grow by a little; nothing sensible is stored in twice its size."""
_HEADERS = 4096
"""Bytes of headers and indices that even the smallest chunks may have."""


def expands_beyond(data: bytes | memoryview, codec: str, limit: int) -> bool:
    """Return whether a chunk would unpack to more than so many bytes.

    Parameters
    ----------
    data : bytes
        The chunk as it is stored.
    codec : str
        Name of the compression, such as ``zstd``; of those that do not say how much they hold
        only the stored size is looked at.
    limit : int
        Bytes that a chunk of this variable has.
    """
    if len(data) > _UNUSUAL * limit + _HEADERS:
        return True
    finder = {"zstd": zstd_size, "blosc": _blosc_size, "gzip": _gzip_size}.get(codec)
    declared = finder(data) if finder is not None else None
    return declared is not None and declared > limit


def zstd_size(data: bytes | memoryview) -> int | None:
    """Return the size of the content of a Zstandard frame; None where it does not say it.

    Parameters
    ----------
    data : bytes
        The frame from its beginning.

    Notes
    -----
    The header of a frame is that of RFC 8878, section 3.1.1.1.
    """
    if len(data) < 6 or bytes(data[:4]) != _ZSTD:
        return None
    descriptor = data[4]
    single, flag = descriptor >> 5 & 1, descriptor >> 6
    length = _FIELD_SIZES[flag] or single
    start = 5 + (1 - single) + _DICTIONARY_SIZES[descriptor & 3]
    field = bytes(data[start : start + length])
    if not length or len(field) < length:
        return None
    # Two bytes count from 256 on, since smaller sizes fit into one.
    return int.from_bytes(field, "little") + (256 if length == 2 else 0)


def _blosc_size(data: bytes | memoryview) -> int | None:
    """Bytes 4 to 8 of the header of Blosc 1 are the size before compression."""
    return struct.unpack_from("<I", data, 4)[0] if len(data) >= 16 else None


def _gzip_size(data: bytes | memoryview) -> int | None:
    """The last four bytes of a member are the size before compression (RFC 1952, 2.3.1)."""
    return struct.unpack_from("<I", data, len(data) - 4)[0] if len(data) >= 18 else None
