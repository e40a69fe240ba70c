"""Outputs appear under their name only when they are complete."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from enum import Enum
from pathlib import Path
from tempfile import TemporaryDirectory

from rhodolite.errors import OutputError, RhodoliteError
from rhodolite.formats.replacing import (
    clean_up,
    discard,
    hidden_name,
    lock,
    move_all,
    put_in_place,
    recover,
)
from rhodolite.formats.stores.object_stores import address_of, split_address
from rhodolite.formats.stores.upload import check_address, upload
from rhodolite.plain_text import is_unicode

_SYSTEM_ERROR = re.compile(r"errno = (\d+)")
"""As the HDF5 library tells it among much else."""
_STORE_MARKS = ("zarr.json", ".zgroup", ".zarray")


class OutputKind(Enum):
    """What an output is on disk."""

    FILE = "one file"
    FOLDER = "a folder that is one dataset"
    MANY = "files beside each other, which the writer names"


def is_store(path: Path) -> bool:
    """Return whether a path is a folder that is one dataset."""
    return path.is_dir() and any((path / mark).is_file() for mark in _STORE_MARKS)


def check_output(
    path: Path,
    overwrite: bool,
    inputs: Iterable[Path],
    kind: OutputKind = OutputKind.FILE,
) -> None:
    """Refuse an output before any work is done for it.

    Parameters
    ----------
    path : Path
    overwrite : bool
        Whether existing files may be replaced.
    inputs : iterable of Path
        Files that must not be replaced.
    kind : OutputKind
        What the output is on disk.

    Raises
    ------
    OutputError
        If it exists and `overwrite` is false, is one of the inputs, or its folder cannot be
        written to.
    """
    if (address := address_of(path)) is not None:
        check_address(address, overwrite)
        return
    path = _followed(path, overwrite)
    if not is_unicode(path):
        raise OutputError(
            f"{path}: this name is not in UTF-8, and the history of the output would have to hold "
            "it; choose another name"
        )
    recover(path)
    if path.exists():
        _check_replaced(path, overwrite, inputs, kind)
    folder = path.resolve().parent
    if not folder.is_dir():
        raise OutputError(f"{path}: there is no folder {folder}; make it first")
    if not os.access(folder, os.W_OK):
        raise OutputError(f"{path}: the folder {folder} cannot be written to")


def _check_replaced(
    path: Path, overwrite: bool, inputs: Iterable[Path], kind: OutputKind
) -> None:
    """Refuse to replace what is there: an input, a folder that is no output of ours, or, without
    leave, anything."""
    if any(source.exists() and path.samefile(source) for source in inputs):
        raise OutputError(
            f"{path}: this is also an input, and inputs are never written to; choose another name"
        )
    if path.is_dir() and not (kind is OutputKind.FOLDER and is_store(path)):
        raise OutputError(f"{path}: this is a folder; name a file in it")
    if not overwrite:
        raise OutputError(
            f"{path}: exists already; choose another name or add --overwrite"
        )


def _followed(path: Path, overwrite: bool) -> Path:
    """Return where a name leads, which is another place where it is a symbolic link.

    Raises
    ------
    OutputError
        If it leads nowhere, or to nothing that is there and `overwrite` is false.
    """
    if not path.is_symlink():
        return path
    try:
        target = path.resolve()
    except (OSError, RuntimeError):
        raise OutputError(
            f"{path}: this is a link to itself; choose another name"
        ) from None
    if not target.exists() and not overwrite:
        raise OutputError(
            f"{path}: this is a link to {target}, where there is nothing; choose another name, or "
            "add --overwrite to write there"
        )
    return target


@contextmanager
def complete_or_nothing(
    path: Path,
    overwrite: bool,
    inputs: Iterable[Path],
    kind: OutputKind = OutputKind.FILE,
) -> Iterator[Path]:
    """Give a temporary path beside the output, renamed to it on success and removed otherwise.

    For many files the path given lies in a temporary folder, from which all files are moved.

    Parameters
    ----------
    path : Path
    overwrite : bool
        Whether existing files may be replaced.
    inputs : iterable of Path
        Files that must not be replaced.
    kind : OutputKind
        What the output is on disk.
    """
    inputs = list(inputs)
    check_output(path, overwrite, inputs, kind)
    if (address := address_of(path)) is not None:
        with _uploaded(address, path.name, kind) as place:
            yield place
        return
    path = _followed(path, overwrite)
    before = _look_at(inputs)
    hidden = hidden_name(path)
    try:
        with lock(path):
            clean_up(path)
            check_output(path, overwrite, inputs, kind)
            if kind is OutputKind.MANY:
                hidden.mkdir()
                yield hidden / path.name
                finished = {
                    file: path.parent / file.name for file in sorted(hidden.iterdir())
                }
            else:
                yield hidden
                finished = {hidden: path}
            _refuse_changed(path, before)
            for file, target in finished.items():
                store = OutputKind.FOLDER if file.is_dir() else kind
                _check_again(target, overwrite, inputs, store)
            if kind is OutputKind.MANY:
                move_all(hidden)
            else:
                put_in_place(hidden, path)
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {_why_not(error)}") from error
    except RhodoliteError as error:
        # What writes the file knows its hidden name alone.
        said = str(error).replace(hidden.name, path.name)
        raise type(error)(said.replace(hidden.stem, path.stem)) from error
    finally:
        discard(hidden)


@contextmanager
def _uploaded(address: str, name: str, kind: OutputKind) -> Iterator[Path]:
    """Give a place in a scratch folder, from which all is put to an address on success."""
    folder, _ = split_address(address)
    with TemporaryDirectory(prefix="rhodolite-") as scratch:
        place = Path(scratch) / name
        try:
            yield place
        except OSError as error:
            raise OutputError(
                f"{address}: cannot be written, since the scratch folder {scratch} fails: "
                f"{_why_not(error)}"
            ) from error
        if kind is not OutputKind.MANY:
            upload(place, address)
            return
        for file in sorted(Path(scratch).iterdir()):
            upload(file, f"{folder}/{file.name}")


def _why_not(error: OSError) -> str:
    """Return why the system refuses, without what libraries below say around it."""
    text = error.strerror or str(error)
    wrapped = _SYSTEM_ERROR.search(text)
    number = int(wrapped.group(1)) if wrapped else error.errno
    if number in (errno.ENOSPC, errno.EDQUOT):
        return "no space is left on its disk; make room, or write to another disk"
    return text if wrapped is None else os.strerror(int(wrapped.group(1)))


def _check_again(
    target: Path, overwrite: bool, inputs: list[Path], kind: OutputKind
) -> None:
    """Refuse a target that appeared while the output was being written."""
    check_output(target, True, inputs, kind)
    if target.is_symlink():  # only one of a set, since others were followed
        raise OutputError(
            f"{target}: this is a link; remove it, or choose another name"
        )
    if target.exists() and not overwrite:
        appeared = "appeared while it was being written"
        when = "exists already" if kind is OutputKind.MANY else appeared
        raise OutputError(f"{target}: {when}; choose another name or add --overwrite")


def _look_at(inputs: list[Path]) -> dict[Path, tuple[int, int]]:
    """Return size and time of change of each input that is a file."""
    found_names = {}
    for path in inputs:
        if path.is_file():
            status = path.stat()
            found_names[path] = (status.st_size, status.st_mtime_ns)
    return found_names


def _refuse_changed(output: Path, before: dict[Path, tuple[int, int]]) -> None:
    """Refuse an output whose inputs have changed while they were read."""
    after = _look_at(list(before))
    for path, seen in before.items():
        if after.get(path) != seen:
            raise OutputError(
                f"{output}: was not written, since {path} changed while it was being read; run it "
                "again when nothing writes to it"
            )


def size_on_disk(path: Path) -> tuple[int, int]:
    """Return the number of files and bytes of an output, which may be a folder."""
    files = (
        [path]
        if path.is_file()
        else [file for file in path.rglob("*") if file.is_file()]
    )
    return len(files), sum(file.stat().st_size for file in files)
