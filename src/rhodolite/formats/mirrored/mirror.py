"""A file that lies elsewhere, as a sparse copy of the parts that were read."""

from __future__ import annotations

import bisect
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rhodolite.arrays.positional import write_at
from rhodolite.errors import DataError
from rhodolite.formats.scratch_folders import new_folder
from rhodolite.formats.stores.object_stores import (
    fetch_ranges,
    fetch_whole,
    gives_parts,
    open_store,
    saying_what_failed,
    split_address,
)

BLOCK = 1 << 20
"""Bytes that are fetched together where a library reads here and there."""
_AT_ONCE = 64 << 20
"""Bytes of a file that is fetched as a whole that are asked for together."""
Range = tuple[int, int]
"""First byte and length."""


class Mirror:
    """A file that lies elsewhere.

    Parameters
    ----------
    address : str
    path : Path
        Of the copy.
    size : int
        Bytes of the file.
    version : str
        Another text where the file is replaced.
    """

    def __init__(self, address: str, path: Path, size: int, version: str) -> None:
        self.address, self.path, self.size, self.version = address, path, size, version
        self._there: list[Range] = []
        self._lock = threading.Lock()
        with path.open("wb") as file:
            file.truncate(size)

    @property
    def identity(self) -> tuple[int, int]:
        """What stands for number and time of the file, which its parts do not change."""
        return self.size, hash(self.version)

    def fetch(self, ranges: Sequence[Range]) -> None:
        """Have parts of the file here.

        Raises
        ------
        DataError
            If they cannot be fetched, the file has been replaced, or the disk for scratch files is
            full.
        """
        missing = [part for part in dict.fromkeys(ranges) if not self._has(part)]
        if not missing:
            return
        folder, name = split_address(self.address)
        contents = fetch_ranges(self.address, open_store(folder), name, missing)
        # Asked afterwards, so that no part of another version goes unnoticed.
        if _describe(self.address) != (self.size, self.version):
            raise DataError(
                f"{self.address}: was replaced while it was being read; run it again when nothing "
                "writes to it"
            )
        try:
            with self.path.open("r+b", buffering=0) as file:
                for content, (start, _) in zip(contents, missing, strict=True):
                    write_at(file.fileno(), memoryview(content), start)
        except OSError as error:
            raise DataError(
                f"{self.address}: no room for what is fetched of it ({error.strerror}); name a "
                "larger disk with TMPDIR"
            ) from None
        with self._lock:
            self._there = _merged([*self._there, *missing])

    def fetch_blocks(self, start: int, length: int) -> None:
        """Have a part here, with what is around it."""
        first = start // BLOCK * BLOCK
        end = min(-(-(start + length) // BLOCK) * BLOCK, self.size)
        self.fetch([(at, min(BLOCK, end - at)) for at in range(first, end, BLOCK)])

    def fetch_all(self) -> None:
        """Have the whole file here."""
        for first in range(0, self.size, _AT_ONCE):
            self.fetch_blocks(first, min(_AT_ONCE, self.size - first))

    def take_whole(self) -> None:
        """Have the whole file here at once, from a server that gives no parts."""
        folder, name = split_address(self.address)
        size = 0
        with self.path.open("wb") as file:
            for piece in fetch_whole(self.address, open_store(folder), name):
                file.write(piece)
                size += len(piece)
        if size != self.size:
            raise DataError(
                f"{self.address}: {size:,} of {self.size:,} bytes came; run it again"
            )
        self._there = [(0, self.size)]

    def _has(self, part: Range) -> bool:
        with self._lock:
            at = bisect.bisect_right(self._there, (part[0], self.size)) - 1
            if at < 0:
                return False
            start, length = self._there[at]
            return part[0] >= start and part[0] + part[1] <= start + length


def _merged(ranges: list[Range]) -> list[Range]:
    """Return ranges in order, with those that touch as one."""
    merged: list[Range] = []
    for start, length in sorted(ranges):
        if merged and start <= merged[-1][0] + merged[-1][1]:
            first, before = merged[-1]
            merged[-1] = first, max(before, start + length - first)
        else:
            merged.append((start, length))
    return merged


_mirrors: dict[Path, Mirror] = {}
_latest: dict[str, Mirror] = {}


def mirror_file(address: str) -> Mirror:
    """Return the copy of a file, of which nothing has been fetched yet but its size.

    Raises
    ------
    DataError
        If there is no such file.
    """
    size, version = _describe(address)
    folder, name = split_address(address)
    known = _latest.get(address)
    if known is None or (known.size, known.version) != (size, version):
        path = new_place(address)
        path.parent.mkdir(parents=True)
        known = Mirror(address, path, size, version)
        if size and not gives_parts(address, open_store(folder), name):
            known.take_whole()
        _mirrors[path] = _latest[address] = known
    return known


def _describe(address: str) -> tuple[int, str]:
    """Return the bytes of a file, and what is another text where it is replaced."""
    import obstore

    folder, name = split_address(address)
    with saying_what_failed(address):
        about: Any = obstore.head(open_store(folder), name)
    return about["size"], f"{about['e_tag']} {about['last_modified']}"


def mirror_of(path: object) -> Mirror | None:
    """Return what a path is the copy of; None for all other files."""
    return _mirrors.get(path) if isinstance(path, Path) else None


def new_place(address: str) -> Path:
    """Return where a copy of what lies at an address can be made; another one each time, since what
    was opened before may still be read."""
    parts = [part for part in address.split("/") if part not in ("", ".", "..")]
    return new_folder().joinpath(*(part.rstrip(":") for part in parts))


def place_name(path: Path | str) -> str:
    """Return what people call the place of a file: of a copy, the address that it is of."""
    mirror = mirror_of(path)
    return str(path) if mirror is None else mirror.address
