"""The inputs of a study file."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rhodolite.errors import nearest_names
from rhodolite.formats.concatenate import Overlap
from rhodolite.formats.reading_rules import ReadingRules
from rhodolite.pipeline.inputs import Input
from rhodolite.studies.step_entries import read_variables
from rhodolite.studies.study_file import Place, StudyFile

_INPUT_KEYS = (
    "files",
    "group",
    "members",
    "missing-value",
    "overlap",
    "variable",
    "description",
    "missing-text",
    "columns",
    "skip-unreadable",
)


def read_input(file: StudyFile, name: str, content: Any, place: Place) -> Input:
    """Return an input, by its name and what the file says of it."""
    file.check_name(name, place)
    table = content if isinstance(content, dict) else {"files": content}
    file.check_keys(table, _INPUT_KEYS, "key of an input", *place)
    files = table.get("files")
    files = [files] if isinstance(files, str) else files
    if (
        not isinstance(files, list)
        or not files
        or not all(isinstance(f, str) for f in files)
    ):
        raise file.refuse(
            'an input needs files, such as "data_*.nc" or a list of such', *place
        )
    _check_types(file, table, place)
    _check_company(file, table, place)
    missing, overlap = table.get("missing-value"), table.get("overlap")
    return Input(
        name,
        tuple(files),
        table.get("group"),
        table.get("members", False),
        None if missing is None else float(missing),
        None if overlap is None else Overlap(overlap),
        read_variables(file, table.get("variable", []), place),
        table.get("description"),
        ReadingRules(
            file.texts(table, "missing-text", place),
            file.texts(table, "columns", place),
            table.get("skip-unreadable", False),
        ),
    )


def _check_types(file: StudyFile, table: Mapping[str, Any], place: Place) -> None:
    """Refuse values of an input that are not of the type of their key."""
    for key, what in (("group", "text"), ("description", "the name of a file")):
        if not isinstance(table.get(key, ""), str):
            raise file.refuse(f"{key} is {what}", *place, key)
    for key in ("members", "skip-unreadable"):
        if not isinstance(table.get(key, False), bool):
            raise file.refuse(f"{key} is true or false", *place, key)
    missing = table.get("missing-value", 0)
    if isinstance(missing, bool) or not _is_number(missing):
        raise file.refuse("missing-value is a number", *place, "missing-value")
    overlap = table.get("overlap")
    if overlap is not None and overlap not in list(Overlap):
        said = f"no overlap '{overlap}'. {nearest_names(str(overlap), Overlap)}"
        raise file.refuse(said, *place, "overlap")


def _check_company(file: StudyFile, table: Mapping[str, Any], place: Place) -> None:
    """Refuse keys of an input that do not go together."""
    for key in ("members", "group", "overlap"):
        if "description" in table and table.get(key):
            raise file.refuse(f"description and {key} do not go together", *place, key)
    if table.get("members") and "overlap" in table:
        raise file.refuse("members and overlap do not go together", *place, "overlap")


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True
