"""From the cells of a table that is no text to a dataset, by the rules for tables of text."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import pandas

from rhodolite.errors import DataError
from rhodolite.formats.scratch_folders import new_folder
from rhodolite.formats.text import csv
from rhodolite.model.dataset import Dataset, SourceFile


def read_as_text(path: Path, format_name: str, frame: pandas.DataFrame) -> Dataset:
    """Return the dataset of a table whose cells are known, as if they had been read from text: one
    set of rules finds times, places and units.

    Parameters
    ----------
    path : Path
        Where the table comes from.
    format_name : str
        Of that file, for people.
    frame : DataFrame
        With the titles of columns, or with these in its first row where they are numbered.

    Raises
    ------
    DataError
        If the table has no columns of times or places, or a cell cannot be read.
    """
    text = frame.apply(_as_text).to_csv(
        index=False, header=frame.columns.dtype.kind != "i", lineterminator="\n"
    )
    plain = new_folder() / f"{path.stem}.csv"
    plain.write_text(text, encoding="utf-8")
    try:
        dataset = csv.read(plain)
    except DataError as error:
        raise DataError(str(error).replace(str(plain), str(path))) from None
    finally:
        plain.unlink()
    source = SourceFile(path, format_name, path.stat().st_size)
    return replace(dataset, files=(source,))


def _as_text(column: pandas.Series[Any]) -> pandas.Series[Any]:
    """Return the cells of a column as they are written in a table of text."""
    if column.dtype.kind in "iufb":
        known = column.dropna()
        # A column of years with a gap holds numbers with a point.
        whole = bool((known % 1 == 0).all()) and column.dtype.kind == "f"
        return column.astype("Int64") if whole else column
    moments = [cell for cell in column if isinstance(cell, datetime.datetime)]
    whole_days = all(
        moment.time() == datetime.time()
        for moment in moments
        if moment is not pandas.NaT
    )
    return column.map(lambda cell: _written(cell, whole_days))


def _written(cell: Any, whole_days: bool) -> Any:
    """Return a cell as it is written: dates in ISO 8601, nothing for gaps."""
    if cell is None or cell is pandas.NaT or cell is pandas.NA:
        return ""
    if isinstance(cell, datetime.datetime):
        return cell.date().isoformat() if whole_days else cell.isoformat()
    if isinstance(cell, datetime.date):
        return cell.isoformat()
    whole = isinstance(cell, float) and cell.is_integer() and abs(cell) < 2**53
    return int(cell) if whole else cell


@contextmanager
def saying_what_is_wrong(path: Path) -> Iterator[None]:
    """Turn what a library raises of a file into an error that names it."""
    try:
        yield
    except (DataError, MemoryError):
        raise
    except Exception as error:  # libraries raise whatever unpacking does
        raise DataError(f"{path}: cannot be read: {error}") from None
