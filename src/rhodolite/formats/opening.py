"""From what a user types to one dataset: patterns, single files, many files together."""

from __future__ import annotations

import glob
from collections.abc import Sequence
from pathlib import Path

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.joining import Overlap, join
from rhodolite.formats.registry import format_of
from rhodolite.model.dataset import Dataset


def open_dataset(inputs: str | Path | Sequence[str | Path], overlap: Overlap | None = None) -> Dataset:
    """Open files as the one dataset that they form.

    Parameters
    ----------
    inputs : str, Path or a sequence of them
        Files, and patterns with ``*``, ``?`` and ``[...]``; ``file.nc:/group`` names a group.
    overlap : Overlap, optional
        Which file counts where two hold the same stretch of time; by default such are refused.

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.
    """
    given = [inputs] if isinstance(inputs, (str, Path)) else list(inputs)
    if not given:
        raise UsageError("no input; name the files to read")
    places = [place for one in given for place in _places(str(one))]
    return join([format_of(path).read(path, group) for path, group in dict.fromkeys(places)], overlap)


def _places(text: str) -> list[tuple[Path, str | None]]:
    """Return the files that a text names, each with the group that follows them as `:/GROUP`."""
    files, mark, group = text.rpartition(":/")
    if mark and not Path(text).exists():
        return [(path, f"/{group}") for path in _expand(files)]
    return [(path, None) for path in _expand(text)]


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
