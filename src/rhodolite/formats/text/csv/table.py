"""A CSV file as a table of text, and what its columns are."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.model.units.udunits import is_unit

ROLES = {
    "time": {"time", "date", "datetime", "day", "month_start", "timestamp"},
    "lat": {
        "lat",
        "latitude",
        "lats",
        "y",
        "nav_lat",
        "latitud",
        "breite",
        "lat_deg",
        "latitude_deg",
        "lat_dd",
        "ycoord",
    },
    "lon": {
        "lon",
        "longitude",
        "long",
        "lons",
        "lng",
        "x",
        "nav_lon",
        "longitud",
        "laenge",
        "länge",
        "lon_deg",
        "longitude_deg",
        "lon_dd",
        "xcoord",
    },
    "level": {"level", "lev", "plev", "pressure", "depth", "height"},
    "site": {
        "site",
        "station",
        "name",
        "id",
        "site_name",
        "station_name",
        "station_id",
        "reservoir",
    },
    "variable": {"variable"},
}
"""What columns of coordinates are called, in small letters."""
_HEADER = re.compile(r"(.*?)\s*(?:\[([^\]]*)\]|\(([^)]*)\))")
_QUOTED_FORMULA = re.compile(r"^'(?=[=+\-@])")
"""The apostrophe that keeps spreadsheets from running text."""
_MISSING = ("", "NA", "N/A", "NaN", "nan", "null", "-", "missing")


@dataclass(frozen=True)
class Table:
    """The cells of a CSV file as text.

    Attributes
    ----------
    path : Path
    cells : pandas.DataFrame
        One column for each of the file, all of type str.
    units : dict of str to str
        Units that a header gives in brackets after the name.
    roles : dict of str to str
        Which column is which coordinate.
    lines : ndarray of int
        Number of the line of each row.
    decimal : str
    """

    path: Path
    cells: pandas.DataFrame
    units: dict[str, str]
    roles: dict[str, str]
    lines: Array
    decimal: str

    def with_roles(self, roles: Mapping[str, str]) -> Table:
        """Return the table with some columns said to be coordinates."""
        return replace(self, roles={**self.roles, **roles})

    def numbers(self, name: str) -> Array:
        """Return a column as float64, NaN where it is empty.

        Raises
        ------
        DataError
            If a cell holds something else; the message names its line.
        """
        text = self._text(name)
        values, empty = _parse_numbers(text, self.decimal)
        wrong = np.isnan(values) & ~empty
        if wrong.any():
            at = int(np.argmax(wrong))
            raise DataError(
                f"{self.path}, line {self.lines[at]}: '{text[at]}' in column '{name}' is not a "
                "number"
            )
        return values

    def _text(self, name: str) -> Array:
        return np.asarray(self.cells[name], dtype=object)

    def is_numeric(self, name: str) -> bool:
        """Return whether a column holds numbers and empty cells only.

        Raises
        ------
        DataError
            If most of its cells are numbers, but not all of them.
        """
        try:
            return bool(np.isfinite(self.numbers(name)).any())
        except DataError:
            values, empty = _parse_numbers(self._text(name), ",")
            if np.isfinite(values).sum() > (~empty).sum() / 2:
                raise
            return False

    def has_words(self, name: str) -> bool:
        """Return whether a column holds text."""
        return any(self._text(name))


def read_table(path: Path) -> Table:
    """Read a CSV file.

    Raises
    ------
    DataError
        If it has no header, no rows, or rows of different lengths.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        warn(f"{path.name} is not in UTF-8 and was read as Latin-1")
        text = path.read_text(encoding="latin-1")
    header, skipped = _header_line(text)
    separator = max(",;\t", key=header.count)
    if header.count(separator) == 0:
        raise DataError(
            f"{path}: the first line holds no comma, semicolon or tab, so this is not a table"
        )
    decimal = (
        ","
        if separator != "," and re.search(r"\d,\d", text) and not re.search(r"\d\.\d", text)
        else "."
    )
    if decimal == ",":
        warn(
            f"{path.name}: columns are separated by '{separator}' and commas were read as decimal "
            "commas"
        )
    rows = _read_rows(path, text, separator, skipped)
    titles, held = rows[0], rows[1:]
    filled = (held != "").any(axis=1)
    if not filled.any():
        raise DataError(f"{path}: there is a header and no row below it")
    lines = np.flatnonzero(filled) + skipped + 2
    names, units = _names_and_units(path, [" ".join(title.split()) for title in titles])
    kept = [at for at, name in enumerate(names) if name or (held[:, at] != "").any()]
    cells = pandas.DataFrame(
        held[filled][:, kept], columns=[names[at] or f"column {at + 1}" for at in kept]
    )
    roles: dict[str, str] = {}
    for name in cells.columns:
        role = next((role for role, known in ROLES.items() if name.strip().lower() in known), None)
        if role is not None:
            roles.setdefault(role, name)
    return Table(path, cells, units, roles, lines, decimal)


def _read_rows(path: Path, text: str, separator: str, skipped: int) -> Array:
    """Return the header and all rows below it as an array of text, without spaces around it.

    Raises
    ------
    DataError
        If rows are longer than the header; a separator at the end of rows is passed over.
    """
    below = io.StringIO("".join(text.splitlines(keepends=True)[skipped:]))
    width = len(next(csv.reader(below, delimiter=separator)))
    below.seek(0)
    try:
        cells = pandas.read_csv(
            below,
            sep=separator,
            header=None,
            names=range(width + 1),
            dtype=str,
            keep_default_na=False,
            skip_blank_lines=False,
        )
    except (pandas.errors.ParserError, ValueError) as error:
        raise DataError(
            f"{path}: {str(error).strip().removeprefix('Error tokenizing data. C error: ')}"
        ) from None
    rows = cells.to_numpy(dtype=object)
    plain = np.array([[_plain_cell(cell) for cell in row] for row in rows], dtype=object)
    longer = np.flatnonzero(plain[:, width] != "")
    if longer.size:
        line = int(longer[0]) + skipped + 1
        raise DataError(
            f"{path}, line {line}: the row has more cells than the {width} of the header"
        )
    return plain[:, :width]


def _parse_numbers(text: Array, decimal: str) -> tuple[Array, Array]:
    """Return numbers, NaN for what is none, and where cells stand for missing values."""
    empty = np.array([cell in _MISSING for cell in text], dtype=bool)
    if decimal == ",":
        text = np.array([cell.replace(",", ".") for cell in text], dtype=object)
    nothing: Any = None
    values: Any = pandas.to_numeric(np.where(empty, nothing, text), errors="coerce")
    return np.asarray(values, dtype=np.float64), empty


def _plain_cell(cell: Any) -> str:
    """Return the text of a cell without spaces around it, nor what keeps spreadsheets from running
    it."""
    return _QUOTED_FORMULA.sub("", cell).strip() if isinstance(cell, str) else ""


def _names_and_units(path: Path, titles: list[str]) -> tuple[list[str], dict[str, str]]:
    """Return what columns are called, and the units that their titles give.

    Raises
    ------
    DataError
        If two have the same name.
    """
    names, units = [], {}
    seen: dict[str, int] = {}
    for number, title in enumerate(titles, 1):
        name, unit = split_title(title)
        if name and seen.setdefault(name, number) != number:
            raise DataError(
                f"{path}: columns {seen[name]} and {number} are both called '{name}'; give each a "
                "name of its own"
            )
        if name != title:
            units[name] = unit
        names.append(name)
    return names, units


def _header_line(text: str) -> tuple[str, int]:
    """Return the first line that is not a comment and not empty, and how many come before it."""
    for number, line in enumerate(text.splitlines()):
        if line.strip() and not line.startswith("#"):
            return line, number
    return "", 0


def split_title(title: str) -> tuple[str, str]:
    """Return name and units of what a column title, or the word in a column `variable`, says.

    Examples
    --------
    >>> split_title("tas [K]"), split_title("tas"), split_title("Rain (mm)")
    (('tas', 'K'), ('tas', ''), ('Rain', 'mm'))
    """
    found = _HEADER.fullmatch(title.strip())
    unit = (found.group(2) or found.group(3) or "") if found else ""
    if found and (found.group(2) is not None or is_unit(unit)):
        return found.group(1), unit
    return title.strip(), ""


def column_title(name: str, units: str | None) -> str:
    """Return the header of a column: the name, and the units in brackets where there are some.

    Examples
    --------
    >>> column_title("tas", "K")
    'tas [K]'
    """
    return f"{name} [{units}]" if units and units != "1" else name
