"""Study files; whatever is wrong with one is said with the line it stands in."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from rhodolite.errors import UsageError, nearest_names
from rhodolite.limits import check_nesting
from rhodolite.studies.description import Study
from rhodolite.studies.input_entries import read_input
from rhodolite.studies.output_entries import is_report, read_output, read_report
from rhodolite.studies.repetition import repeat_tables
from rhodolite.studies.step_entries import put_in_order, read_step
from rhodolite.studies.study_file import Place, StudyFile
from rhodolite.studies.toml_lines import TomlLines

_TABLES = ("title", "settings", "lists", "inputs", "steps", "outputs", "made")
_MOST_TABLES = 10_000


def read_study(path: Path, settings: Mapping[str, str] | None = None) -> Study:
    """Read a study file.

    Parameters
    ----------
    path : Path
    settings : mapping of str to str, optional
        Values that replace those under [settings].

    Raises
    ------
    UsageError
        If anything in it makes no sense; the message has the line.
    """
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise UsageError(f"{path}: cannot be read: {error.strerror or error}") from None
    try:
        text = raw.decode("utf-8-sig")
    except ValueError as error:
        raise UsageError(f"{path}: this is not valid TOML: {error}") from None
    return read_study_text(text, path, settings)


def read_study_text(
    text: str, path: Path, settings: Mapping[str, str] | None = None
) -> Study:
    """Read a study from its text.

    Parameters
    ----------
    text : str
    path : Path
        Where it comes from, for messages, and to see relative paths from.
    settings : mapping of str to str, optional
        Values that replace those under [settings].

    Raises
    ------
    UsageError
        If anything in it makes no sense; the message has the line.
    """
    check_nesting(text.encode(), path)
    try:
        content = tomllib.loads(text)
    except ValueError as error:
        raise UsageError(f"{path}: this is not valid TOML: {error}") from None
    file = StudyFile(path, TomlLines(text))
    return _Reader(file, content).read(settings or {})


class _Reader:
    """Makes a study of the tables of its file."""

    def __init__(self, file: StudyFile, content: dict[str, Any]) -> None:
        self._file = file
        self._content = content

    def read(self, given: Mapping[str, str]) -> Study:
        """Return the study, with settings that replace its own."""
        self._file.check_keys(self._content, _TABLES, "table or key")
        title = self._content.get("title", "")
        if not isinstance(title, str):
            raise self._file.refuse("title is text", "title")
        tables = {name: self._table(name) for name in _TABLES[1:]}
        settings = self._settings(tables["settings"], given)
        lists = self._lists(tables["lists"], settings)
        filled = {
            kind: self._filled(kind, tables[kind], settings, lists)
            for kind in ("inputs", "steps", "outputs")
        }
        file, names = self._file, {**filled["inputs"], **filled["steps"]}
        for name in filled["inputs"].keys() & filled["steps"].keys():
            said = f"'{name}' is an input and a step"
            raise file.refuse(said, *filled["steps"][name][1])
        inputs = {n: read_input(file, n, *e) for n, e in filled["inputs"].items()}
        steps = {n: read_step(file, n, *e, names) for n, e in filled["steps"].items()}
        asked = filled["outputs"]
        outputs = {
            name: read_output(file, name, *entry, names)
            for name, entry in asked.items()
            if not is_report(entry[0])
        }
        # Pages show outputs, wherever these stand.
        reports = {
            name: read_report(file, name, *entry, outputs)
            for name, entry in asked.items()
            if is_report(entry[0])
        }
        if not outputs:
            raise self._file.refuse(
                'there are no outputs; write [outputs."result.nc"] and of = "..."'
            )
        places = {name: place for name, (_, place) in filled["steps"].items()}
        in_order = put_in_order(self._file, steps, places)
        return Study(
            self._file.path, title, inputs, in_order, outputs, reports, self._file.lines
        )

    def _filled(
        self,
        kind: str,
        table: dict[str, Any],
        settings: Mapping[str, str],
        lists: Mapping[str, list[str]],
    ) -> dict[str, tuple[Any, Place]]:
        """Return tables by name, repeated for each value of the lists, with where they stand."""
        filled: dict[str, tuple[Any, Place]] = {}
        for name, content, place in self._repeated(kind, table, settings, lists):
            if name in filled:
                raise self._file.refuse(f"two {kind} are called '{name}'", *place)
            filled[name] = content, place
            if len(filled) > _MOST_TABLES:
                raise self._file.refuse(
                    f"these are more than {_MOST_TABLES:,} {kind}", *place
                )
        return filled

    def _table(self, name: str) -> dict[str, Any]:
        table = self._content.get(name, {})
        if not isinstance(table, dict):
            raise self._file.refuse(f"{name} is a table; write [{name}]", name)
        return table

    def _settings(
        self, table: dict[str, Any], given: Mapping[str, str]
    ) -> dict[str, str]:
        for key, value in table.items():
            if isinstance(value, (dict, list)):
                raise self._file.refuse(
                    "a setting is text or a number", "settings", key
                )
        unknown = [key for key in given if key not in table]
        if unknown:
            raise UsageError(
                f"--set {unknown[0]}: {self._file.path} has no such setting. "
                f"{nearest_names(unknown[0], table)}"
            )
        return {key: str(value) for key, value in {**table, **given}.items()}

    def _lists(
        self, table: dict[str, Any], settings: Mapping[str, str]
    ) -> dict[str, list[str]]:
        for key, value in table.items():
            fits = isinstance(value, list) and value
            if not fits or any(isinstance(item, (dict, list)) for item in value):
                raise self._file.refuse(
                    'a list is of texts or numbers: ["a", "b"]', "lists", key
                )
            if key in settings:
                raise self._file.refuse(
                    f"'{key}' is a setting and a list", "lists", key
                )
        return {key: [str(item) for item in value] for key, value in table.items()}

    def _repeated(
        self,
        kind: str,
        table: dict[str, Any],
        settings: Mapping[str, str],
        lists: Mapping[str, list[str]],
    ) -> Iterator[tuple[str, Any, Place]]:
        for name, content in table.items():
            try:
                copies = list(repeat_tables(name, content, settings, lists))
            except ValueError as error:
                raise self._file.refuse(str(error), kind, name) from None
            for copy_name, filled in copies:
                yield copy_name, filled, (kind, name)
