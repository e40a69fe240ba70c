"""What files looked like when they were read, by which a change of them is noticed."""

from __future__ import annotations

import glob
import hashlib
import os
from collections.abc import Iterable
from pathlib import Path

_PIECES, _PIECE = 64, 4096


def fingerprint(path: Path) -> dict[str, int | str]:
    """Return the size of a file and a checksum of pieces of it, all over it.

    A file of up to 256 kB is read whole. Of a folder, such as a Zarr store, all files count.

    Parameters
    ----------
    path : Path

    Raises
    ------
    OSError
        If it cannot be read.
    """
    digest, size = hashlib.blake2b(digest_size=16), 0
    files = [path] if path.is_file() else sorted(p for p in path.rglob("*") if p.is_file())
    for one in files:
        if one != path:
            digest.update(str(one.relative_to(path)).encode())
        with one.open("rb") as file:
            length = os.fstat(file.fileno()).st_size
            size += length
            digest.update(length.to_bytes(8, "little"))
            step = max(_PIECE, (length - _PIECE) // (_PIECES - 1))
            for start in range(0, length, step):
                file.seek(start)
                digest.update(file.read(_PIECE))
            if length > _PIECE:
                file.seek(length - _PIECE)
                digest.update(file.read(_PIECE))
    return {"bytes": size, "checksum": digest.hexdigest()}


def last_change(path: Path) -> int:
    """Return when a file, or any file of a folder, was changed last, in nanoseconds.

    Parameters
    ----------
    path : Path
    """
    if path.is_file():
        return path.stat().st_mtime_ns
    return max((one.stat().st_mtime_ns for one in path.rglob("*")), default=0)


def files_named(texts: Iterable[str]) -> list[Path]:
    """Return the files that texts name, as paths or patterns; what names none is left out.

    Parameters
    ----------
    texts : iterable of str
    """
    found: list[Path] = []
    for text in texts:
        names = [text, text.rpartition(":")[0]]
        paths = [Path(name) for name in names if name and Path(name).exists()]
        if not paths and glob.has_magic(text):
            paths = sorted(Path(name) for name in glob.glob(text, recursive=True))  # noqa: PTH207
        found += paths[:1] if not glob.has_magic(text) else paths
    return found
