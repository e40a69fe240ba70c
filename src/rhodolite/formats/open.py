"""From what a user types to one dataset: patterns, single files, many files together."""

from __future__ import annotations

import glob
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.concatenate import Overlap, join
from rhodolite.formats.dated_names import find_dated
from rhodolite.formats.header_cache import HeaderCache
from rhodolite.formats.input_lists import read_inputs
from rhodolite.formats.many_files import read_files
from rhodolite.formats.normalise import normalise
from rhodolite.formats.registry import is_store
from rhodolite.formats.standard_input import STREAMS, keep_standard_input
from rhodolite.formats.stores.object_stores import is_address
from rhodolite.model.dataset import Dataset
from rhodolite.plain_text import is_unicode


def open_dataset(
    inputs: str | Path | Sequence[str | Path],
    overlap: Overlap | None = None,
    group: str | None = None,
    *,
    generous: bool = True,
    carried: HeaderCache | None = None,
) -> Dataset:
    """Open files as the one dataset that they form.

    Parameters
    ----------
    inputs : str, Path or a sequence of them
        Files, patterns with ``*``, ``?`` and ``[...]`` or dates such as ``{year:2001..2010}``, and
        addresses of DAP2 servers;
        ``file.nc:/group`` names a group.
    overlap : Overlap, optional
        Which file counts where two hold the same stretch of time; by default such are refused.
    group : str, optional
        The group to read of every file that names none itself.
    generous : bool
        Whether what files say only halfway is understood, with a warning.
    carried : HeaderCache, optional
        Headers that were brought along with the files.

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.
    """
    given = [inputs] if isinstance(inputs, (str, Path)) else list(inputs)
    if not given:
        raise UsageError("no input; name the files to read")
    places = [place for text in given for place in _places(str(text), group)]
    joined = join(_read(list(dict.fromkeys(places)), carried), overlap)
    return normalise(joined) if generous else joined


def _read(
    places: Sequence[tuple[Path | str, str | None]], carried: HeaderCache | None
) -> list[Dataset]:
    files = [(path, group) for path, group in places if isinstance(path, Path)]
    if len(files) == len(places):
        return read_files(files, carried)
    from rhodolite.formats.addresses import read_address

    return [
        read_files([(place, group)])[0]
        if isinstance(place, Path)
        else read_address(place, group)
        for place, group in places
    ]


def _places(text: str, group: str | None) -> list[tuple[Path | str, str | None]]:
    """Return the files that a text names, each with the group that follows them as `:/GROUP`."""
    if is_address(text):
        before, mark, inner = text.partition("://")[2].rpartition(":/")
        if mark:
            scheme = text.partition("://")[0]
            return [(f"{scheme}://{before}", f"/{inner}")]
        return [(text, group)]
    if (lines := read_inputs(text)) != [text]:
        return [place for line in lines for place in _places(line, group)]
    files, mark, inner = text.rpartition(":/")
    if mark and not Path(text).exists():
        return [(path, f"/{inner}") for path in expand(files)]
    return [(path, group) for path in expand(text)]


def expand(text: str) -> list[Path]:
    """Return the files that a name, a pattern or a list stands for.

    Raises
    ------
    DataError
        If there is none.
    """
    if text in STREAMS:
        return [keep_standard_input()]
    if files := find_files(text):
        return files
    path = Path(text)
    _refuse_what_is_no_file(text, path)
    if glob.has_magic(text):
        raise DataError(f"{text}: no file fits this pattern in {path.resolve().parent}")
    folder = path.resolve().parent
    if not folder.is_dir():
        raise DataError(f"{text}: there is no folder {folder}")
    there = [near.name for near in folder.iterdir() if not near.name.startswith(".")]
    there = sorted(name for name in there if _is_input(folder / name))
    hint = nearest_names(path.name, there).split(" There are:")[0]
    raise DataError(
        f"{text}: there is no such file.{' ' + hint if 'Did you mean' in hint else ''}"
    )


def find_files(text: str) -> list[Path]:
    """Return the files that a name, a pattern or a list stands for; none where it names none.

    Raises
    ------
    DataError
        If a list cannot be read, or no file is of the dates of a pattern.
    """
    path = Path(text)
    if is_unicode(path) and _is_input(path):
        return [path]
    if (lines := read_inputs(text)) != [text]:
        return [inner for line in lines for inner in expand(line)]
    if dated := find_dated(text):
        return dated
    if not glob.has_magic(text):
        return []
    matches = sorted(Path(name) for name in glob.glob(text, recursive=True))  # noqa: PTH207
    return [match for match in matches if _is_input(match)]


def _is_input(path: Path) -> bool:
    try:
        return path.is_file() or is_store(path)
    except ValueError:  # a text that is no path at all
        return False


def _refuse_what_is_no_file(text: str, path: Path) -> None:
    """Refuse names that no library opens, streams, and folders of files."""
    if not is_unicode(path):
        raise DataError(
            f"{text}: this name is not in UTF-8, so libraries cannot open it; rename it"
        )
    if path.is_fifo() or path.is_char_device() or path.is_socket():
        raise DataError(
            f"{text}: this is a stream, and data are read in any order; pipe it in, with - for "
            "the input, or write it into a file first"
        )
    if path.is_dir():
        suffixes = Counter(
            inner.suffix for inner in path.iterdir() if inner.suffix and inner.is_file()
        )
        usual = suffixes.most_common(1)[0][0] if suffixes else ".nc"
        raise DataError(
            f"{text}: this is a folder; name the files in it, such as '{path / f'*{usual}'}'"
        )
