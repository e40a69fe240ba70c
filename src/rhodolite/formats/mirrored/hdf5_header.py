"""What describes an HDF5 file, fetched so that any library finds it in the copy."""

from __future__ import annotations

import io
import os
from typing import Any

import numpy as np

from rhodolite.arrays.positional import read_at
from rhodolite.errors import DataError
from rhodolite.formats.mirrored.mirror import Mirror


class _Parts(io.RawIOBase):
    """A file that fetches what is read of it."""

    def __init__(self, mirror: Mirror) -> None:
        super().__init__()
        self._mirror = mirror
        self._at = 0
        self._file = mirror.path.open("rb", buffering=0)

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        origin = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._mirror.size}
        self._at = origin[whence] + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer).cast("B")
        length = max(min(len(view), self._mirror.size - self._at), 0)
        if length:
            self._mirror.fetch_blocks(self._at, length)
            view[:length] = read_at(self._file.fileno(), length, self._at)
        self._at += length
        return length

    def close(self) -> None:
        self._file.close()
        super().close()


def fetch_header(mirror: Mirror) -> None:
    """Fetch the descriptions of all variables, and those that are no numbers.

    Raises
    ------
    DataError
        If the file is damaged.
    """
    import h5py

    def visit(name: str, member: Any) -> None:  # noqa: ARG001
        for value in member.attrs.values():
            np.asarray(value)
        if isinstance(member, h5py.Dataset):
            np.asarray(member.fillvalue)
            if member.dtype.kind not in "fiu":
                member[...]

    try:
        with _Parts(mirror) as parts, h5py.File(parts, "r") as file:
            visit("/", file)
            file.visititems(visit)
    except (OSError, RuntimeError, KeyError, ValueError) as error:
        raise DataError(
            f"{mirror.address}: cannot be read as NetCDF: {error}"
        ) from None


def fetch_index(mirror: Mirror, name: str) -> None:
    """Fetch where the chunks of a variable lie.

    Parameters
    ----------
    mirror : Mirror
    name : str
        With the groups that it lies in.
    """
    import h5py

    with _Parts(mirror) as parts, h5py.File(parts, "r") as file:
        stored = file[name]
        if stored.chunks is not None:
            stored.id.chunk_iter(lambda _: None)
