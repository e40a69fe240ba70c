"""Outputs appear under their name only when they are complete."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from rhodolite.errors import OutputError


def check_output(path: Path, overwrite: bool, inputs: Iterable[Path]) -> None:
    """Refuse an output before any work is done for it.

    Raises
    ------
    OutputError
        If it exists and `overwrite` is false, is one of the inputs, or its folder cannot be
        written to.
    """
    if path.exists():
        if any(source.exists() and path.samefile(source) for source in inputs):
            raise OutputError(f"{path}: this is also an input, and inputs are never written to; choose another name")
        if path.is_dir():
            raise OutputError(f"{path}: this is a folder; name a file in it")
        if not overwrite:
            raise OutputError(f"{path}: exists already; choose another name or add --overwrite")
    folder = path.resolve().parent
    if not folder.is_dir():
        raise OutputError(f"{path}: there is no folder {folder}; make it first")
    if not os.access(folder, os.W_OK):
        raise OutputError(f"{path}: the folder {folder} cannot be written to")


@contextmanager
def complete_or_nothing(path: Path, overwrite: bool, inputs: Iterable[Path]) -> Iterator[Path]:
    """Give a temporary path beside the output, renamed to it on success and removed otherwise."""
    check_output(path, overwrite, inputs)
    # The suffix stays, since writers go by it.
    temporary = path.with_name(f".{path.stem}.{secrets.token_hex(4)}.part{path.suffix}")
    try:
        yield temporary
        if path.exists() and not overwrite:
            raise OutputError(f"{path}: appeared while it was being written; choose another name or add --overwrite")
        temporary.replace(path)
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror or error}") from error
    finally:
        temporary.unlink(missing_ok=True)
