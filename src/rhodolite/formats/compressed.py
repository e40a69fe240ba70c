"""Files that are compressed as a whole, and archives of files: unpacked into scratch files, and
read as what is inside."""

from __future__ import annotations

import bz2
import gzip
import lzma
import shutil
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path, PurePosixPath
from typing import IO, Any

from rhodolite.errors import DataError
from rhodolite.formats.extras import need_extra
from rhodolite.formats.open import open_dataset
from rhodolite.formats.registry import FORMATS, TAR_MARK, TAR_MARK_AT, is_store
from rhodolite.formats.scratch_folders import new_folder
from rhodolite.formats.tables import workbook
from rhodolite.formats.tables.workbook import is_workbook
from rhodolite.model.dataset import Dataset
from rhodolite.plain_text import file_size

_PLAIN_TAR = ".archive.tar"
_ENDINGS = (".gz", ".bz2", ".xz", ".zst", ".tgz", ".tbz2", ".txz")
_OF_OFFICE = "[Content_Types].xml"
"""What archives hold that are documents (ECMA-376), workbooks among them."""
_PIECE = 1 << 20
_LEFT_FREE = 0.05
"""Of the disk, which is left to others."""
_MOST_FILES = 100_000
_DAMAGE = (
    OSError,
    EOFError,
    zlib.error,
    lzma.LZMAError,
    zipfile.BadZipFile,
    tarfile.TarError,
)
_LOCKED = RuntimeError
"""What zipfile raises where a member is encrypted, or compressed in a way that it does not know."""


def _open_zstandard(path: Path, mode: str) -> Any:  # noqa: ARG001
    """Open a file that is compressed by Zstandard (RFC 8878), from the beginning on."""
    need_extra("tables", path, "a file compressed by Zstandard")
    import pyarrow

    return pyarrow.CompressedInputStream(pyarrow.OSFile(str(path)), "zstd")


_OPENERS: dict[bytes, Callable[..., Any]] = {
    b"\x1f\x8b": gzip.open,
    b"BZh": bz2.open,
    b"\xfd7zXZ\x00": lzma.open,
    b"\x28\xb5\x2f\xfd": _open_zstandard,
}
_unpacked: dict[tuple[Path, int, int], Path] = {}


def read(path: Path, group: str | None = None) -> Dataset:
    """Open what is in a compressed file or an archive; several files as the one dataset that they
    form, and of a workbook a sheet.

    Parameters
    ----------
    path : Path
    group : str, optional
        Of the files inside, or the name of a sheet.

    Raises
    ------
    DataError
        If it is damaged, larger than the disk for scratch files has room for, or holds nothing that
        can be read.
    """
    if zipfile.is_zipfile(path):
        with _saying_what_is_wrong(path), zipfile.ZipFile(path) as archive:
            in_sheets = is_workbook(archive)
        if in_sheets:
            return workbook.read(path, group)
    about = path.stat()
    key = (path.resolve(), about.st_mtime_ns, about.st_size)
    if key not in _unpacked:
        folder = new_folder()
        with _saying_what_is_wrong(path):
            _unpack(path, folder)
        _unpacked[key] = folder
    inner = _chosen(sorted(_files_in(_unpacked[key])))
    if not inner:
        raise DataError(f"{path}: there is no file in it")
    try:
        dataset = open_dataset(inner, group=group, generous=False)
    except DataError as error:
        reason = str(error).replace(f"{_unpacked[key]}/", "")
        raise DataError(f"{path}, in it {reason}") from None
    kinds = ", ".join(dict.fromkeys(file.format for file in dataset.files))
    source = replace(
        dataset.files[0], path=path, format=f"compressed {kinds}", size=about.st_size
    )
    return replace(dataset, files=(source,))


@contextmanager
def _saying_what_is_wrong(path: Path) -> Iterator[None]:
    try:
        yield
    except DataError:
        raise
    except _LOCKED:
        raise DataError(
            f"{path}: this is encrypted, or compressed in a way that is not known; unpack it first"
        ) from None
    except _DAMAGE as error:
        raise DataError(
            f"{path}: this is damaged, or ends too early ({error})"
        ) from None


def _unpack(path: Path, folder: Path) -> None:
    with path.open("rb") as file:
        start = file.read(TAR_MARK_AT + len(TAR_MARK))
    room = _Room(path, folder)
    if start.startswith(b"PK"):
        _unpack_zip(path, folder, room)
        return
    opener = next(
        (known for mark, known in _OPENERS.items() if start.startswith(mark)), Path.open
    )
    with opener(path, "rb") as source:
        packed_tar = source.read(TAR_MARK_AT + len(TAR_MARK))[TAR_MARK_AT:] == TAR_MARK
    if packed_tar and opener is not _open_zstandard:
        _unpack_tar(path, folder, room)
        return
    place = folder / (_PLAIN_TAR if packed_tar else _name_inside(path) or "data")
    with opener(path, "rb") as source:
        room.copy(source, place)
    # The library for archives knows no Zstandard, so that what is in it is laid down first.
    if packed_tar:
        _unpack_tar(place, folder, room)
        place.unlink()


def _unpack_zip(path: Path, folder: Path, room: _Room) -> None:
    with zipfile.ZipFile(path) as archive:
        members = [entry for entry in archive.infolist() if not entry.is_dir()]
        if any(member.filename == _OF_OFFICE for member in members):
            raise DataError(
                f"{path}: this is a document of an office program, which is not read; save "
                "its table as CSV"
            )
        _take_members(members, lambda m: m.filename, archive.open, folder, room)


def _unpack_tar(path: Path, folder: Path, room: _Room) -> None:
    with tarfile.open(path) as archive:
        files = [entry for entry in archive.getmembers() if entry.isfile()]
        _take_members(files, lambda m: m.name, archive.extractfile, folder, room)


def _name_inside(path: Path) -> str:
    name = path.name
    for ending in _ENDINGS:
        name = name.removesuffix(ending)
    return name


def _take_members(
    members: list[Any],
    name_of: Callable[[Any], str],
    open_member: Callable[[Any], Any],
    folder: Path,
    room: _Room,
) -> None:
    """Unpack the files of an archive below a folder, wherever their names say that they belong."""
    if len(members) > _MOST_FILES:
        raise DataError(
            f"{room.path}: {len(members):,} files in one archive are too many"
        )
    for member in members:
        parts = [
            part
            for part in PurePosixPath(name_of(member)).parts
            if part not in ("/", "..")
        ]
        if not parts or parts[-1].startswith("._"):
            continue
        place = folder.joinpath(*parts)
        place.parent.mkdir(parents=True, exist_ok=True)
        with open_member(member) as source:
            room.copy(source, place)


class _Room:
    """Copies what is unpacked, as long as the disk has room."""

    def __init__(self, path: Path, folder: Path) -> None:
        self.path = path
        usage = shutil.disk_usage(folder)
        self._left = usage.free - int(_LEFT_FREE * usage.total)
        self._allowed = self._left

    def copy(self, source: IO[bytes], place: Path) -> None:
        """Copy all that a source gives into a file.

        Raises
        ------
        DataError
            If there is no room for it.
        """
        with place.open("wb") as target:
            while piece := source.read(_PIECE):
                self._left -= len(piece)
                if self._left < 0:
                    raise DataError(
                        f"{self.path}: what is in it takes more than {file_size(self._allowed)}, "
                        "which is what the disk for scratch files has to spare; name a larger one "
                        "with --scratch"
                    )
                target.write(piece)


def _chosen(files: list[Path]) -> list[Path]:
    """Return the files of one format, gridded ones before tables; what lies beside them, such as a
    text about them, is passed over."""
    for known in FORMATS:
        alike = [path for path in files if known.has_suffix_of(path)]
        if alike:
            return alike
    return files


def _files_in(folder: Path) -> Iterator[Path]:
    """Yield the files and stores in a folder, stores as a whole; the folder may be one itself."""
    if is_store(folder):
        yield folder
        return
    for path in folder.iterdir():
        if is_store(path):
            yield path
        elif path.is_dir():
            yield from _files_in(path)
        elif not path.name.startswith("."):
            yield path
