"""Reading and writing at a place in a file from several threads at once, on every system."""

from __future__ import annotations

import os
import threading

BINARY = getattr(os, "O_BINARY", 0)
"""For `os.open`, on systems that tell text from bytes."""
_seeking = threading.Lock()


def read_at(descriptor: int, size: int, offset: int) -> bytes:
    """Return bytes of a file from a place on; fewer where it ends before.

    Parameters
    ----------
    descriptor : int
        Open file.
    size : int
        Number of bytes.
    offset : int
        Place in the file, in bytes.
    """
    if hasattr(os, "pread"):
        return os.pread(descriptor, size, offset)
    with _seeking:
        os.lseek(descriptor, offset, os.SEEK_SET)
        parts = []
        while size and (part := os.read(descriptor, size)):
            parts.append(part)
            size -= len(part)
        return b"".join(parts)


def write_at(descriptor: int, data: memoryview, offset: int) -> None:
    """Write all bytes to a place in a file.

    Parameters
    ----------
    descriptor : int
        Open file.
    data : memoryview
        Bytes to write.
    offset : int
        Place in the file, in bytes.
    """
    if hasattr(os, "pwrite"):
        while data.nbytes:
            written = os.pwrite(descriptor, data, offset)
            data, offset = data[written:], offset + written
        return
    with _seeking:
        os.lseek(descriptor, offset, os.SEEK_SET)
        while data.nbytes:
            data = data[os.write(descriptor, data) :]
