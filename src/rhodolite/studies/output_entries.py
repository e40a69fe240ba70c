"""The outputs of a study file: data, pictures and reports."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rhodolite.drawing import drawing, drawing_names, is_drawing
from rhodolite.errors import UsageError, nearest_names
from rhodolite.formats.layout import USUAL_LAYOUT, Layout, make_layout
from rhodolite.formats.table_style import make_style
from rhodolite.studies.description import Output, Report
from rhodolite.studies.step_entries import read_of, read_settings
from rhodolite.studies.study_file import Place, StudyFile

_LAYOUT_KEYS = (
    "format",
    "chunks",
    "compression",
    "unlimited",
    "raw",
    "checksums",
    "all",
    "decimal",
    "sort",
    "first",
    "across",
)


def read_output(
    file: StudyFile, path: str, content: Any, place: Place, names: Mapping[str, Any]
) -> Output:
    """Return data or a picture that is to be written."""
    _check_path(file, path, place)
    table = file.as_table(
        {"of": content} if isinstance(content, str) else content, place
    )
    said = {key: file.take_words(table, key, place) for key in ("heading", "note")}
    kind = table.pop("draw", None)
    if kind is None:
        file.check_keys(table, ("of", *_LAYOUT_KEYS), "key of an output", *place)
        of = read_of(file, table, place, names)
        return Output(path, of, _read_layout(file, table, place), None, **said)
    if not is_drawing(kind):
        raise file.refuse(
            f"no drawing '{kind}'. {nearest_names(str(kind), drawing_names())}",
            *place,
            "draw",
        )
    picture = read_settings(
        file, path, drawing(kind), f"draw {kind}", table, place, names
    )
    return Output(path, picture.of, USUAL_LAYOUT, picture, **said)


def read_report(
    file: StudyFile,
    path: str,
    content: Any,
    place: Place,
    outputs: Mapping[str, Output],
) -> Report:
    """Return a page that shows outputs."""
    _check_path(file, path, place)
    table = file.as_table(content, place)
    file.check_keys(table, ("report", "text"), "key of a report", *place)
    if Path(path).suffix.lower() not in (".html", ".htm"):
        raise file.refuse(f"'{path}': a report is a page; write .html", *place)
    shows = [table["report"]] if isinstance(table["report"], str) else table["report"]
    if not isinstance(shows, list) or not shows:
        raise file.refuse('report is a list of outputs: ["map.png"]', *place, "report")
    for show in shows:
        if show not in outputs:
            said = f"there is no output '{show}' to show. {nearest_names(str(show), outputs)}"
            raise file.refuse(said, *place, "report")
    return Report(path, tuple(shows), file.take_words(table, "text", place))


def _read_layout(file: StudyFile, table: Mapping[str, Any], place: Place) -> Layout:
    for key in ("unlimited", "raw", "checksums", "all"):
        if not isinstance(table.get(key, False), bool):
            raise file.refuse(f"{key} is true or false", *place, key)
    if isinstance(table.get("first", 1), bool) or not isinstance(
        table.get("first", 1), int
    ):
        raise file.refuse("first is a number of rows", *place, "first")
    for key in ("format", "chunks", "compression", "decimal", "sort", "across"):
        if not isinstance(table.get(key, ""), str):
            raise file.refuse(f"{key} is text", *place, key)
    try:
        return make_layout(
            table.get("format"),
            table.get("chunks"),
            table.get("compression"),
            unlimited=table.get("unlimited", False),
            checksums=table.get("checksums", True),
            table=make_style(
                raw=table.get("raw", False),
                all_rows=table.get("all", False),
                decimal=table.get("decimal"),
                sort=table.get("sort"),
                first=table.get("first"),
                across=table.get("across"),
            ),
        )
    except UsageError as error:
        raise file.refuse(str(error), *place) from None


def _check_path(file: StudyFile, path: str, place: Place) -> None:
    parts = Path(path).parts
    if Path(path).is_absolute() or ".." in parts or not parts or path.startswith("-"):
        raise file.refuse(
            f"'{path}': outputs lie in the folder of the study, or in that of --into; write a "
            "path within it",
            *place,
        )
    if (plain := posixpath.normpath(path)) != path:  # so that one output has one name
        raise file.refuse(f"'{path}': write it as '{plain}'", *place)


def is_report(content: Any) -> bool:
    """Return whether an output is a page that shows others."""
    return isinstance(content, dict) and "report" in content
