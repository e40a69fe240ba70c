"""The study that an output carries, and whether its inputs are still the same."""

from __future__ import annotations

import html
import re
from pathlib import Path, PurePosixPath
from typing import Any
from xml.etree import ElementTree

from rhodolite.errors import DataError, RhodoliteError
from rhodolite.formats.open import open_dataset
from rhodolite.formats.stores.object_stores import address_of
from rhodolite.model.cf.vocabulary import STUDY
from rhodolite.pipeline.gif_comment import find_comment
from rhodolite.studies import journal
from rhodolite.studies.fingerprints import WHOLE, fingerprint
from rhodolite.studies.journal import Entry

_SUBJECT = re.compile(rb"/Subject \(((?:[^()\\]|\\.)*)\)", re.DOTALL)
_IN_PAGE = re.compile(r'<pre id="rhodolite-study"[^>]*>(.*?)</pre>', re.DOTALL)
_ESCAPED = re.compile(rb"\\([0-7]{3}|.)", re.DOTALL)
_BYTE_ORDER_MARKS = (b"\xfe\xff", b"\xff\xfe")
_LETTERS = {b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"f": b"\f"}
_DESCRIPTION = "{http://purl.org/dc/elements/1.1/}description"


def find_study(path: Path) -> Entry:
    """Return the study that made an output, as text, and where it made it.

    It is the one that the output carries, and otherwise that of the journal.

    Parameters
    ----------
    path : Path
        Data or a picture.

    Raises
    ------
    DataError
        If none is known.
    """
    if (address := address_of(path)) is not None:
        return _study_at(address)
    if not path.exists():
        raise DataError(f"{path}: there is no such file")
    suffix = path.suffix.lower()
    text = None
    if suffix not in _WITHOUT_PLACE:
        text = _PLACES.get(suffix, _find_in_data)(path)
    if isinstance(text, str) and text.strip():
        return Entry(text, path)
    entry = journal.find(path)
    if entry is None:
        raise DataError(
            f"{path}: carries no study, and the journal of this machine knows no output of this "
            "content; outputs that rhodolite has written carry one, except tables and text grids, "
            "for which --record FILE.toml writes one"
        )
    return entry


def _study_at(address: str) -> Entry:
    """Return the study that data elsewhere carry; paths in it are seen from the current folder.

    Raises
    ------
    DataError
        If they carry none.
    """
    text = open_dataset(address, generous=False).attributes.get(STUDY)
    if not isinstance(text, str) or not text.strip():
        raise DataError(f"{address}: carries no study")
    return Entry(text, Path(address.rpartition("/")[2]))


SAME = "the same"
SAME_WHERE_COMPARED = "the same size, and the same in the parts that are on record"


def home_of(path: Path, output: str) -> Path:
    """Return the folder from which the paths of a study are seen, given where its output lies.

    Parameters
    ----------
    path : Path
        The output as it lies now.
    output : str
        The output as the study names it.
    """
    folders = path.resolve().parents
    depth = len(PurePosixPath(output).parts) - 1
    # A file that has been moved up may lie less deep than it did.
    return folders[min(depth, len(folders) - 1)]


def verify_inputs(making: Any, home: Path) -> list[tuple[str, str]]:
    """Return, for each input that was put on record, what has become of it.

    Parameters
    ----------
    making : object
        What the table [made] of a study holds.
    home : Path
        Folder from which the inputs are named.

    Raises
    ------
    DataError
        If no inputs are on record.
    """
    files = making.get("from") if isinstance(making, dict) else None
    if not isinstance(files, list):
        raise DataError(
            "the study names no files with their checksums, so they cannot be verified"
        )
    return [(entry[0], _state_of(home, *entry)) for entry in map(_need_entry, files)]


def _need_entry(entry: Any) -> tuple[str, Any, Any]:
    if isinstance(entry, list) and len(entry) == 3 and isinstance(entry[0], str):
        return entry[0], entry[1], entry[2]
    raise DataError("the study names its files in a way that is not understood")


def _state_of(home: Path, name: str, size: Any, checksum: Any) -> str:
    """Return what has become of a file, given its size and checksum of then."""
    read_whole = str(checksum).startswith(WHOLE)
    try:
        there = (home / name).exists()
        now = fingerprint(home / name, whole=read_whole) if there else None
    except OSError as error:
        raise RhodoliteError(f"{home / name}: {error.strerror or error}") from None
    if now is None:
        return "gone"
    if now != {"bytes": size, "checksum": checksum}:
        return "changed"
    return SAME if read_whole else SAME_WHERE_COMPARED


def _find_in_png(path: Path) -> str | None:
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(path) as image:
            text = getattr(image, "text", {})
    except (OSError, SyntaxError, ValueError, UnidentifiedImageError) as error:
        raise DataError(f"{path}: cannot be read as a picture: {error}") from None
    return text.get(STUDY)


def _find_in_svg(path: Path) -> str | None:
    try:
        tree = ElementTree.parse(path)
    except (OSError, ElementTree.ParseError, ValueError) as error:
        raise DataError(f"{path}: cannot be read as SVG: {error}") from None
    element = tree.getroot().find(f".//{_DESCRIPTION}")
    return None if element is None else element.text


def _find_in_pdf(path: Path) -> str | None:
    """Return the subject of a document (ISO 32000-1, 7.3.4.2 and 14.3.3)."""
    match = _SUBJECT.search(path.read_bytes())
    if match is None:
        return None
    text = _ESCAPED.sub(_unescape, match.group(1))
    return (
        text.decode("utf-16")
        if text[:2] in (b"\xfe\xff", b"\xff\xfe")
        else text.decode("latin-1")
    )


def _find_in_page(path: Path) -> str | None:
    match = _IN_PAGE.search(path.read_text(encoding="utf-8", errors="replace"))
    return None if match is None else html.unescape(match.group(1))


def _unescape(match: re.Match[bytes]) -> bytes:
    sign = match.group(1)
    return bytes([int(sign, 8) & 255]) if len(sign) == 3 else _LETTERS.get(sign, sign)


def _find_in_data(path: Path) -> str | None:
    return open_dataset(path, generous=False).attributes.get(STUDY)


_WITHOUT_PLACE = (".csv", ".asc")
"""Suffixes of outputs that carry no study themselves."""
_PLACES = {
    ".png": _find_in_png,
    ".svg": _find_in_svg,
    ".pdf": _find_in_pdf,
    ".html": _find_in_page,
    ".htm": _find_in_page,
    ".gif": find_comment,
}
"""Where kinds of outputs carry their study; all others are data."""
