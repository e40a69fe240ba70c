"""Workbooks of spreadsheets (ECMA-376, `.xlsx`): a sheet is read as a table of text would be."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pandas

from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.formats.extras import need_extra
from rhodolite.formats.tables.frames import read_as_text, saying_what_is_wrong
from rhodolite.model.dataset import Dataset

_MARK = "xl/workbook.xml"
"""What an archive holds that is a workbook."""


def is_workbook(archive: zipfile.ZipFile) -> bool:
    """Return whether an archive is a workbook."""
    return _MARK in archive.namelist()


def read(path: Path, group: str | None = None) -> Dataset:
    """Open a sheet as a dataset: the one that is named, or the first that holds anything.

    Raises
    ------
    DataError
        If there is no such sheet, it is damaged, or has no columns of times or places.
    """
    need_extra("tables", path, "a workbook")
    with saying_what_is_wrong(path):
        sheets: dict[str, pandas.DataFrame] = pandas.read_excel(
            path, sheet_name=None, header=None, dtype=object
        )
    filled = {name: sheet for name, sheet in sheets.items() if not sheet.empty}
    if not filled:
        raise DataError(f"{path}: there is nothing in this workbook")
    name = next(iter(filled)) if group is None else group.strip("/")
    if name not in filled:
        raise DataError(
            f"{path}: no sheet '{name}' that holds anything. {nearest_names(name, list(filled))}"
        )
    others = [other for other in filled if other != name]
    if group is None and others:
        warn(
            f"{path.name}: the sheet '{name}' is read; {', '.join(others)} are left out, and read "
            f"as {path.name}:/{others[0]}"
        )
    return read_as_text(path, "workbook", filled[name])
