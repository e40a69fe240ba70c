"""From what a user types to one dataset: patterns, single files, many files together."""

from __future__ import annotations

import glob
from collections.abc import Sequence
from pathlib import Path

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.joining import join
from rhodolite.formats.registry import format_of
from rhodolite.model.dataset import Dataset


def open_dataset(inputs: str | Path | Sequence[str | Path]) -> Dataset:
    """Open files as the one dataset that they form.

    Parameters
    ----------
    inputs : str, Path or a sequence of them
        Files, and patterns with ``*``, ``?`` and ``[...]``.

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.
    """
    given = [inputs] if isinstance(inputs, (str, Path)) else list(inputs)
    if not given:
        raise UsageError("no input; name the files to read")
    paths = [path for one in given for path in _expand(str(one))]
    return join([format_of(path).read(path) for path in dict.fromkeys(paths)])


def _expand(text: str) -> list[Path]:
    path = Path(text)
    if path.is_file():
        return [path]
    if path.is_dir():
        raise DataError(f"{text}: this is a folder; name the files in it, such as '{path / '*.nc'}'")
    if glob.has_magic(text):
        found = sorted(Path(name) for name in glob.glob(text, recursive=True) if Path(name).is_file())  # noqa: PTH207
        if found:
            return found
        raise DataError(f"{text}: no file fits this pattern in {path.resolve().parent}")
    folder = path.resolve().parent
    if not folder.is_dir():
        raise DataError(f"{text}: there is no folder {folder}")
    there = sorted(p.name for p in folder.iterdir() if p.is_file() and not p.name.startswith("."))
    hint = nearest_names(path.name, there).split(" There are:")[0]
    raise DataError(f"{text}: there is no such file.{' ' + hint if 'Did you mean' in hint else ''}")
