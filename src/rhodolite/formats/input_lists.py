"""Inputs that a file lists, so that they need not be typed; inputs named from another folder."""

from __future__ import annotations

import os
from pathlib import Path

from rhodolite.errors import DataError
from rhodolite.formats.stores.object_stores import is_elsewhere

LIST = "@"
"""What stands before the name of a file that lists inputs."""


def read_inputs(text: str) -> list[str]:
    """Return the inputs that a text names: itself, or those of the list of which it is the name.

    Parameters
    ----------
    text : str
        Such as ``@files.txt``.

    Raises
    ------
    DataError
        If the list cannot be read, names nothing, or names another list.
    """
    if not text.startswith(LIST) or Path(text).exists():
        return [text]
    path = Path(text.removeprefix(LIST))
    try:
        lines = path.read_text(encoding="utf-8-sig").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or error
        raise DataError(f"@{path}: the list cannot be read ({reason})") from None
    named = [line.strip() for line in lines]
    named = [line for line in named if line and not line.startswith("#")]
    if not named:
        raise DataError(f"@{path}: the list names no file")
    if nested := next((line for line in named if line.startswith(LIST)), None):
        raise DataError(f"@{path}: a list cannot name another list ({nested})")
    return named


def named_from(text: str, folder: Path) -> str:
    """Return an input as it is written from another folder than the one that it is named in now.

    Parameters
    ----------
    text : str
        A file or a pattern; addresses stay as they are.
    folder : Path
        Here, or of an object store.
    """
    if "://" in text:
        return text
    if is_elsewhere(folder):
        # Nothing is told from there to here but by a whole path.
        return Path(text).absolute().as_posix()
    return Path(os.path.relpath(Path(text).absolute(), folder.absolute())).as_posix()


def named_in(folder: Path, text: str) -> str:
    """Return an input that is written as seen from a folder as it is named here.

    Parameters
    ----------
    folder : Path
    text : str
    """
    return text if "://" in text else str(folder / text)
