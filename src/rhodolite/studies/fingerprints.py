"""What files looked like when they were read, by which a change of them is noticed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path
from typing import Any

from rhodolite.errors import RhodoliteError
from rhodolite.formats.collection import inputs_of
from rhodolite.formats.open import find_files
from rhodolite.formats.registry import COLLECTION

_PIECES, _PIECE = 64, 4096
_MOST_READ = 1000
"""Files of a folder of which pieces are read; of more, only names and sizes count."""
_MOST_WHOLE = 64 << 20
"""Bytes that are read whole, which takes less than a tenth of a second."""
WHOLE = "whole:"
"""What the checksum of all bytes begins with."""


def fingerprint(path: Path, *, whole: bool = True) -> dict[str, int | str]:
    """Return the size of a file and its checksum, or one of pieces of it where it is large.

    Of a folder, such as a Zarr store, all files count. What has up to 64 MiB is read whole, and its
    checksum says so; of more than a thousand files names and sizes alone count.

    Parameters
    ----------
    path : Path
    whole : bool
        Whether all of it may be read.

    Raises
    ------
    OSError
        If it cannot be read.
    """
    if not path.is_file():
        return dict(_fingerprint(path, whole))
    status = path.stat()
    # Whatever is written changes the last of these, also where the others are put back.
    state = (status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns)
    return dict(_of_state(path.resolve(), whole, *state))


@lru_cache(maxsize=512)
def _of_state(path: Path, whole: bool, *_: int) -> dict[str, int | str]:
    """Return the fingerprint of a file in one state, which is computed once."""
    return _fingerprint(path, whole)


def _fingerprint(path: Path, whole: bool) -> dict[str, int | str]:
    digest = hashlib.blake2b(digest_size=16)
    files = (
        [path] if path.is_file() else sorted(p for p in path.rglob("*") if p.is_file())
    )
    lengths = [file.stat().st_size for file in files]
    size = sum(lengths)
    whole = whole and size <= _MOST_WHOLE and len(files) <= _MOST_READ
    for file, length in zip(files, lengths, strict=True):
        digest.update(length.to_bytes(8, "little"))
        if file != path:
            digest.update(str(file.relative_to(path)).encode())
        if whole:
            digest.update(file.read_bytes())
        elif len(files) <= _MOST_READ:
            _add_pieces(digest, file, length)
    return {"bytes": size, "checksum": (WHOLE if whole else "") + digest.hexdigest()}


def _add_pieces(digest: Any, path: Path, length: int) -> None:
    """Take pieces of a file into a checksum, the first and the last among them."""
    step = max(_PIECE, (length - _PIECE) // (_PIECES - 1))
    starts = [*range(0, length, step), *([length - _PIECE] if length > _PIECE else [])]
    with path.open("rb") as file:
        for start in starts:
            file.seek(start)
            digest.update(file.read(_PIECE))


def last_change(path: Path) -> int:
    """Return when a file, or any file of a folder, was changed last, in nanoseconds."""
    if path.is_file():
        return path.stat().st_mtime_ns
    return max((file.stat().st_mtime_ns for file in path.rglob("*")), default=0)


def files_named(
    texts: Iterable[str], within: frozenset[Path] = frozenset()
) -> list[Path]:
    """Return the files that texts name, as paths or patterns, and those that collections among them
    name; what names none is left out.

    Parameters
    ----------
    texts : iterable of str
        As people type them: `FILE:/GROUP`, `FILE:NAME` and `FILE#NAME` stand for the file.
    within : frozenset of Path
        Collections that name the texts, which are not looked into again.
    """
    files: list[Path] = []
    for text in texts:
        for name in (text, text.rpartition(":")[0], text.partition("#")[0]):
            if there := _files_of(name):
                files += there
                files += [
                    inner for path in there for inner in _files_beyond(path, within)
                ]
                break
    return list(dict.fromkeys(files))


def _files_beyond(path: Path, within: frozenset[Path]) -> list[Path]:
    """Return the files that are read where one is: those of a collection, and the other parts of a
    shapefile."""
    if path.suffix.lower() in COLLECTION.suffixes and path not in within:
        try:
            return files_named(inputs_of(path), within | {path})
        except (RhodoliteError, OSError):
            return []
    if path.suffix.lower() == ".shp":
        beside = [
            path.with_suffix(suffix) for suffix in (".dbf", ".shx", ".prj", ".cpg")
        ]
        return [part for part in beside if part.exists()]
    return []


def _files_of(name: str) -> list[Path]:
    if not name or Path(name).exists():
        return [Path(name)] if name else []
    try:
        return find_files(name)
    except RhodoliteError:
        return []
