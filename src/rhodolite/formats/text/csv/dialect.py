"""How a table is written: its bytes, header, separator and decimal mark."""

from __future__ import annotations

import csv
import io
import re
import zlib
from dataclasses import dataclass
from pathlib import Path

from rhodolite.errors import DataError, warn
from rhodolite.formats.reading_rules import rules_in_force
from rhodolite.formats.text.csv.cells import is_mark
from rhodolite.formats.text.csv.columns import names_and_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.plain_text import file_size

SPACES = r"\s+"
"""The separator of columns that are apart by spaces."""
_SEPARATORS = ",;\t"
_WORDS = {",": "commas", ";": "semicolons", "\t": "tabs", SPACES: "spaces"}
_GZIP = b"\x1f\x8b"
_MOST_BYTES = 1 << 30
"""Of what a compressed table may hold."""
_IN_BRACKETS = re.compile(r"[\[(](.*)[\])]")


@dataclass(frozen=True)
class Dialect:
    """A table as it is written.

    Attributes
    ----------
    path : Path
    content : bytes
        In the encoding, without a byte-order mark.
    encoding : str
    separator : str
    decimal : str
    skipped : int
        Lines before the first row.
    names : list of str
        Of the columns; empty where a title is.
    units : dict of str to str
    """

    path: Path
    content: bytes
    encoding: str
    separator: str
    decimal: str
    skipped: int
    names: list[str]
    units: dict[str, str]


def read_dialect(path: Path) -> Dialect:
    """Return how a table is written.

    Raises
    ------
    DataError
        If it has no header, or columns cannot be told apart.
    """
    content = _content(path)
    encoding = _encoding(path, content)
    given = rules_in_force().columns
    lines = _first_lines(content, encoding)
    if not lines:
        raise DataError(f"{path}: there is no line that is not a comment")
    separator = _find_separator(path, [line for _, line in lines])
    rows = [_split(line, separator) for _, line in lines]
    number, titles = lines[0][0], rows[0]
    names, units = names_and_units(path, given or titles)
    if given:
        _check_given(path, names, titles)
    elif len(rows) > 1 and (units_line := _line_of_units(names, rows[1], rows[2:])):
        number = lines[1][0]
        warn(f"{path.name}: line {number + 1} was read as the units of the columns")
        units = {**units_line, **units}
    decimal = _find_decimal(path, content, separator)
    skipped = number + (0 if given else 1)
    return Dialect(path, content, encoding, separator, decimal, skipped, names, units)


def _content(path: Path) -> bytes:
    content = path.read_bytes()
    if content.startswith(_GZIP):
        content = _expand(path, content)
    return content.removeprefix(b"\xef\xbb\xbf")


def _expand(path: Path, packed: bytes) -> bytes:
    """Return what was compressed by gzip (RFC 1952)."""
    parts, size = [], 0
    try:
        while packed:
            # 16 asks for the header of gzip; a file may hold several, one after another.
            reader = zlib.decompressobj(16 + zlib.MAX_WBITS)
            parts.append(reader.decompress(packed, _MOST_BYTES - size))
            size += len(parts[-1])
            if not reader.eof:
                break
            packed = reader.unused_data
    except zlib.error as error:
        raise DataError(f"{path}: this is no whole gzip file ({error})") from None
    if reader.unconsumed_tail:
        raise DataError(
            f"{path}: this holds more than {file_size(_MOST_BYTES)}, which is too much for a table"
        )
    if not reader.eof:
        raise DataError(f"{path}: this gzip file ends too early; copy it once more")
    return b"".join(parts)


def _encoding(path: Path, content: bytes) -> str:
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        warn(f"{path.name} is not in UTF-8 and was read as Latin-1")
        return "latin-1"
    return "utf-8"


def _first_lines(content: bytes, encoding: str) -> list[tuple[int, str]]:
    """Return the first lines that are not empty, nor comments above the header, with their
    numbers from zero."""
    lines: list[tuple[int, str]] = []
    for number, line in enumerate(io.TextIOWrapper(io.BytesIO(content), encoding)):
        if line.strip() and (lines or not line.startswith("#")):
            lines.append((number, line.rstrip("\r\n")))
        if len(lines) == 3:
            break
    return lines


def _find_separator(path: Path, lines: list[str]) -> str:
    """Return what stands between columns: what is most frequent in the header, and spaces where
    there is none of it."""
    separator = max(_SEPARATORS, key=lines[0].count)
    if lines[0].count(separator):
        return separator
    widths = {len(line.split()) for line in lines}
    if len(lines) > 1 and len(widths) == 1 and min(widths) > 1:
        return SPACES
    raise DataError(
        f"{path}: the first line holds no comma, semicolon or tab, so this is not a table; where "
        "spaces stand between columns, each line has as many words"
    )


def _split(line: str, separator: str) -> list[str]:
    if separator == SPACES:
        return line.split()
    return next(csv.reader([line], delimiter=separator))


def _check_given(path: Path, names: list[str], first: list[str]) -> None:
    if len(names) != len(first):
        raise DataError(
            f"{path}: {len(names)} names are given for the columns, and the first line has "
            f"{len(first)}"
        )


def _line_of_units(
    names: list[str], line: list[str], following: list[list[str]]
) -> dict[str, str]:
    """Return the units of columns, where a line below the header gives these and numbers follow it;
    nothing where it is a row."""
    if not following:
        return {}
    units = {}
    for name, cell, below in zip(names, line, following[0], strict=False):
        word = cell.strip()
        inner = _IN_BRACKETS.fullmatch(word)
        unit = inner.group(1) if inner else word
        if not _is_number(below):
            continue
        if _is_number(word) or not (unit in ("", "-") or is_unit(unit)):
            return {}
        if unit not in ("", "-"):
            units[name] = unit
    return units


def _is_number(cell: str) -> bool:
    try:
        float(cell.replace(",", "."))
    except ValueError:
        return False
    return not is_mark(cell.strip())


def _find_decimal(path: Path, content: bytes, separator: str) -> str:
    if (
        separator == ","
        or not re.search(rb"\d,\d", content)
        or re.search(rb"\d\.\d", content)
    ):
        return "."
    warn(
        f"{path.name}: columns are separated by {_WORDS[separator]} and commas were read as "
        "decimal commas"
    )
    return ","
