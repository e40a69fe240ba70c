"""A CSV file as a table, and what its columns are."""

from __future__ import annotations

import io
import warnings
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.formats.text.csv.cells import (
    PLAIN_MARKS,
    declared_marks,
    likely_mark,
    parse_numbers,
    plain_cell,
    unusual_marks,
)
from rhodolite.formats.text.csv.columns import find_roles, is_kept_as_text
from rhodolite.formats.text.csv.dialect import Dialect, read_dialect

_MOST_NAMED = 3
"""Columns that a message names."""
_EXACT: dict[str, Any] = {"float_precision": "round_trip"}
"""By which each number is the nearest one to its text; what pandas does of itself from 3.1 on."""
if tuple(int(part) for part in pandas.__version__.split(".")[:2]) >= (3, 1):
    _EXACT = {}


@dataclass(frozen=True)
class Table:
    """The cells of a CSV file.

    Attributes
    ----------
    path : Path
    cells : pandas.DataFrame
        One column for each of the file: of float64 where it holds numbers and missing values
        only, and of str otherwise, as are those that may hold dates or names.
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

    def about_units(self, name: str) -> dict[str, str]:
        """Return the attribute that says the units of a column; nothing where there are none."""
        units = self.units.get(name)
        return {"units": units} if units else {}

    def numbers(self, name: str) -> Array:
        """Return a column as float64, NaN where it is empty.

        Raises
        ------
        DataError
            If a cell holds something else; the message names its line.
        """
        if self._is_parsed(name):
            return self.arrays[name]
        text = self._text(name)
        values, empty = parse_numbers(text, self.decimal)
        wrong = np.isnan(values) & ~empty
        if wrong.any():
            at = int(np.argmax(wrong))
            raise DataError(
                f"{self.path}, line {self.lines[at]}: '{text[at]}' in column '{name}' is not a "
                f"number; where it stands for a missing value, add --missing-text '{text[at]}'"
            )
        return values

    @cached_property
    def arrays(self) -> dict[str, Array]:
        """The columns by name."""
        return {str(name): column.to_numpy() for name, column in self.cells.items()}

    def _is_parsed(self, name: str) -> bool:
        return bool(self.arrays[name].dtype.kind == "f")

    def _text(self, name: str) -> Array:
        return np.asarray(self.arrays[name], dtype=object)

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
            values, empty = parse_numbers(self._text(name), ",")
            if np.isfinite(values).sum() > (~empty).sum() / 2:
                raise
            return False

    def has_words(self, name: str) -> bool:
        """Return whether a column holds text."""
        return not self._is_parsed(name) and any(self._text(name))


def read_table(path: Path, as_text: Collection[str] = ()) -> Table:
    """Read a CSV file; also one that is compressed by gzip, and columns that are separated by
    semicolons, tabs or spaces.

    Parameters
    ----------
    path : Path
    as_text : collection of str
        Columns that are read as they are written, besides those that are usually.

    Raises
    ------
    DataError
        If it has no header, no rows, or rows longer than the header.
    """
    dialect = read_dialect(path)
    columns = _read_columns(dialect, as_text)
    filled = _find_filled(columns)
    if not filled.any():
        raise DataError(f"{path}: there is a header and no row below it")
    lines = np.flatnonzero(filled) + dialect.skipped + 1
    titled = [
        bool(name) or bool(_hold_something(columns[at]).any())
        for at, name in enumerate(dialect.names)
    ]
    cells = columns if filled.all() else columns[filled].reset_index(drop=True)
    cells = cells if all(titled) else cells.loc[:, titled]
    cells.columns = pandas.Index(
        [
            name or f"column {at + 1}"
            for at, name in enumerate(dialect.names)
            if titled[at]
        ]
    )
    roles = find_roles(cells.columns)
    table = Table(path, cells, dialect.units, roles, lines, dialect.decimal)
    _tell_likely_marks(table)
    return table


def _tell_likely_marks(table: Table) -> None:
    """Say which numbers look as if they stood for missing values, by column."""
    by_mark: dict[float, list[str]] = {}
    for name, column in table.arrays.items():
        mark = likely_mark(column) if column.dtype.kind == "f" else None
        if mark is not None:
            by_mark.setdefault(mark, []).append(name)
    for mark, names in by_mark.items():
        more = (
            f" and {len(names) - _MOST_NAMED:,} more"
            if len(names) > _MOST_NAMED
            else ""
        )
        warn(
            f"{table.path.name}: {', '.join(names[:_MOST_NAMED])}{more}: {mark:g} is far from all "
            f"other values; if it stands for missing ones, add --missing-value {mark:g}"
        )


def _find_filled(columns: pandas.DataFrame) -> Array:
    """Return which rows hold anything."""
    filled = np.zeros(len(columns), bool)
    for at in columns:
        filled |= _hold_something(columns[at])
        if filled.all():
            break
    return filled


def _hold_something(column: pandas.Series[Any]) -> Array:
    holding = column.notna() if column.dtype.kind == "f" else column != ""
    return np.asarray(holding, dtype=bool)


def _read_columns(dialect: Dialect, as_text: Collection[str]) -> pandas.DataFrame:
    """Return all columns, numbered from zero, of float64 where they hold numbers only.

    Most are parsed by compiled code at once; what that does not take for numbers is read again as
    text, cell by cell.

    Parameters
    ----------
    dialect : Dialect
    as_text : collection of str
        Columns that stay text, besides those that may hold dates or names.

    Raises
    ------
    DataError
        If rows are longer than the header; a separator at the end of rows is passed over.
    """
    width = len(dialect.names)
    stay = [
        at
        for at, name in enumerate(dialect.names)
        if name in as_text or is_kept_as_text(name)
    ]
    columns = _parse(dialect, dict.fromkeys([*stay, width], str))
    _refuse_longer_rows(dialect, columns[width])
    kinds = [dtype.kind for dtype in columns.dtypes]
    others = [at for at in range(width) if kinds[at] not in "iuf" and at not in stay]
    _put_text(dialect, columns, [*stay, *others])
    marks: list[str] = []
    for at in others:
        columns[at] = _as_numbers(columns[at], dialect.decimal, marks)
    if marks:
        listed = ", ".join(f"'{mark}'" for mark in dict.fromkeys(marks))
        warn(f"{dialect.path.name}: taken for missing values: {listed}")
    for at in range(width):
        if kinds[at] in "iu":
            columns[at] = columns[at].astype(np.float64)
    return columns.drop(columns=width)


def _refuse_longer_rows(dialect: Dialect, beyond: pandas.Series[Any]) -> None:
    """Refuse rows with anything beyond the columns that the header has."""
    longer = np.flatnonzero([plain_cell(cell) != "" for cell in beyond])
    if longer.size:
        line = int(longer[0]) + dialect.skipped + 1
        raise DataError(
            f"{dialect.path}, line {line}: the row has more cells than the {len(dialect.names)} of "
            "the header"
        )


def _put_text(dialect: Dialect, columns: pandas.DataFrame, as_text: list[int]) -> None:
    """Put columns as they are written in the place of what was parsed of them."""
    # Text without gaps is what is written; elsewhere marks of missing values have been taken out.
    gaps = [
        at for at in as_text if columns[at].isna().any() or columns[at].dtype == bool
    ]
    again = (
        _parse(dialect, dict.fromkeys(range(len(dialect.names)), str), gaps)
        if gaps
        else columns
    )
    for at in as_text:
        source = again if at in gaps else columns
        columns[at] = [plain_cell(cell) for cell in source[at]]


def _as_numbers(
    column: pandas.Series[Any], decimal: str, marks: list[str]
) -> pandas.Series[Any]:
    """Return a column of text as numbers, where it holds nothing else, and add what stands for
    missing values in it to `marks`."""
    text = column.to_numpy(dtype=object)
    values, empty = parse_numbers(text, decimal)
    if (np.isnan(values) & ~empty).any() or not np.isfinite(values).any():
        return column
    marks += unusual_marks(text)
    return pandas.Series(values)


def _parse(
    dialect: Dialect, types: Mapping[int, Any], only: Collection[int] | None = None
) -> pandas.DataFrame:
    as_they_are = only is not None
    width = len(dialect.names)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", pandas.errors.ParserWarning)
            return pandas.read_csv(
                io.BytesIO(dialect.content),
                encoding=dialect.encoding,
                sep=dialect.separator,
                decimal=dialect.decimal,
                skiprows=dialect.skipped,
                header=None,
                names=range(width if as_they_are else width + 1),
                index_col=False,
                usecols=None if only is None else sorted(only),
                dtype=dict(types),
                keep_default_na=False,
                na_filter=not as_they_are,
                na_values=[*PLAIN_MARKS, *declared_marks()],
                skip_blank_lines=False,
                **_EXACT,
                low_memory=False,
            )
    except pandas.errors.EmptyDataError:
        return pandas.DataFrame({at: pandas.Series(dtype=str) for at in types})
    except (pandas.errors.ParserError, ValueError) as error:
        raise DataError(
            f"{dialect.path}: {str(error).strip().removeprefix('Error tokenizing data. C error: ')}"
        ) from None
