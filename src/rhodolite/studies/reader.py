"""Study files; whatever is wrong with one is said with the line it stands in."""

from __future__ import annotations

import posixpath
import re
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from rhodolite.drawing import drawing, drawing_names, is_drawing
from rhodolite.errors import UsageError, nearest_names
from rhodolite.formats.concatenate import Overlap
from rhodolite.formats.layout import USUAL_LAYOUT, Layout, make_layout
from rhodolite.formats.reading_rules import ReadingRules
from rhodolite.formats.table_style import make_style
from rhodolite.limits import check_nesting
from rhodolite.operations import is_operation, operation, operation_names
from rhodolite.operations.declaration import Step, parameters
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.pipeline.deep_calls import MOST_IN_A_ROW
from rhodolite.pipeline.inputs import Input
from rhodolite.studies.description import NamedStep, Output, Report, Study
from rhodolite.studies.repetition import repeat_tables
from rhodolite.studies.toml_lines import TomlLines

_TABLES = ("title", "settings", "lists", "inputs", "steps", "outputs", "made")
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
Place = tuple[str, str]
"""The kind of a table, and its name in the file."""

_NAME = re.compile(r"\w[\w.-]*")
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
    return _Reader(path, content, TomlLines(text)).read(settings or {})


class _Reader:
    """Makes a study of the tables of its file."""

    def __init__(self, path: Path, content: dict[str, Any], lines: TomlLines) -> None:
        self._path = path
        self._content = content
        self._lines = lines

    def refuse(self, message: str, *place: str) -> UsageError:
        """Return an error that says where in the file it is."""
        return UsageError(f"{self._path}, line {self._lines.find(*place)}: {message}")

    def read(self, given: Mapping[str, str]) -> Study:
        self._check_keys(self._content, _TABLES, "table or key")
        title = self._content.get("title", "")
        if not isinstance(title, str):
            raise self.refuse("title is text", "title")
        tables = {name: self._table(name) for name in _TABLES[1:]}
        settings = self._settings(tables["settings"], given)
        lists = self._lists(tables["lists"], settings)
        filled = {
            kind: self._filled(kind, tables[kind], settings, lists)
            for kind in ("inputs", "steps", "outputs")
        }
        inputs = {
            n: self._input(n, entry[0], entry[1])
            for n, entry in filled["inputs"].items()
        }
        names = {**filled["inputs"], **filled["steps"]}
        for name in inputs.keys() & filled["steps"].keys():
            raise self.refuse(
                f"'{name}' is an input and a step", *filled["steps"][name][1]
            )
        steps = {
            n: self._step(n, entry[0], entry[1], names)
            for n, entry in filled["steps"].items()
        }
        pages = {
            n: entry for n, entry in filled["outputs"].items() if _is_report(entry[0])
        }
        outputs = {
            n: self._output(n, entry[0], entry[1], names)
            for n, entry in filled["outputs"].items()
            if n not in pages
        }
        reports = {
            n: self._report(n, entry[0], entry[1], outputs)
            for n, entry in pages.items()
        }
        if not outputs:
            raise self.refuse(
                'there are no outputs; write [outputs."result.nc"] and of = "..."'
            )
        places = {name: place for name, (_, place) in filled["steps"].items()}
        in_order = self._in_order(steps, places)
        return Study(self._path, title, inputs, in_order, outputs, reports, self._lines)

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
                raise self.refuse(f"two {kind} are called '{name}'", *place)
            filled[name] = content, place
            if len(filled) > _MOST_TABLES:
                raise self.refuse(
                    f"these are more than {_MOST_TABLES:,} {kind}", *place
                )
        return filled

    def _table(self, name: str) -> dict[str, Any]:
        table = self._content.get(name, {})
        if not isinstance(table, dict):
            raise self.refuse(f"{name} is a table; write [{name}]", name)
        return table

    def _check_keys(
        self, table: Mapping[str, Any], known: Any, what: str, *place: str
    ) -> None:
        for key in table:
            if key not in known:
                raise self.refuse(
                    f"there is no {what} '{key}'. {nearest_names(key, known)}",
                    *place,
                    key,
                )

    def _settings(
        self, table: dict[str, Any], given: Mapping[str, str]
    ) -> dict[str, str]:
        for key, value in table.items():
            if isinstance(value, (dict, list)):
                raise self.refuse("a setting is text or a number", "settings", key)
        unknown = [key for key in given if key not in table]
        if unknown:
            raise UsageError(
                f"--set {unknown[0]}: {self._path} has no such setting. "
                f"{nearest_names(unknown[0], table)}"
            )
        return {key: str(value) for key, value in {**table, **given}.items()}

    def _lists(
        self, table: dict[str, Any], settings: Mapping[str, str]
    ) -> dict[str, list[str]]:
        for key, value in table.items():
            fits = isinstance(value, list) and value
            if not fits or any(isinstance(item, (dict, list)) for item in value):
                raise self.refuse(
                    'a list is of texts or numbers: ["a", "b"]', "lists", key
                )
            if key in settings:
                raise self.refuse(f"'{key}' is a setting and a list", "lists", key)
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
                raise self.refuse(str(error), kind, name) from None
            for copy_name, filled in copies:
                yield copy_name, filled, (kind, name)

    def _input(self, name: str, content: Any, place: Place) -> Input:
        self._check_name(name, place)
        table = content if isinstance(content, dict) else {"files": content}
        self._check_keys(table, _INPUT_KEYS, "key of an input", *place)
        files = table.get("files")
        files = [files] if isinstance(files, str) else files
        if (
            not isinstance(files, list)
            or not files
            or not all(isinstance(f, str) for f in files)
        ):
            raise self.refuse(
                'an input needs files, such as "data_*.nc" or a list of such', *place
            )
        self._check_types(table, place)
        self._check_company(table, place)
        missing, overlap = table.get("missing-value"), table.get("overlap")
        return Input(
            name,
            tuple(files),
            table.get("group"),
            table.get("members", False),
            None if missing is None else float(missing),
            None if overlap is None else Overlap(overlap),
            self._variables(table.get("variable", []), place),
            table.get("description"),
            ReadingRules(
                self._texts(table, "missing-text", place),
                self._texts(table, "columns", place),
                table.get("skip-unreadable", False),
            ),
        )

    def _texts(
        self, table: Mapping[str, Any], key: str, place: Place
    ) -> tuple[str, ...]:
        """Return a text, or a list of texts, as several."""
        value = table.get(key, [])
        texts = [value] if isinstance(value, str) else value
        if not isinstance(texts, list) or not all(
            isinstance(text, str) for text in texts
        ):
            raise self.refuse(f"{key} is a text, or a list of texts", *place, key)
        return tuple(texts)

    def _check_types(self, table: Mapping[str, Any], place: Place) -> None:
        """Refuse values of an input that are not of the type of their key."""
        for key, what in (("group", "text"), ("description", "the name of a file")):
            if not isinstance(table.get(key, ""), str):
                raise self.refuse(f"{key} is {what}", *place, key)
        for key in ("members", "skip-unreadable"):
            if not isinstance(table.get(key, False), bool):
                raise self.refuse(f"{key} is true or false", *place, key)
        missing = table.get("missing-value", 0)
        if isinstance(missing, bool) or not _is_number(missing):
            raise self.refuse("missing-value is a number", *place, "missing-value")
        overlap = table.get("overlap")
        if overlap is not None and overlap not in list(Overlap):
            said = f"no overlap '{overlap}'. {nearest_names(str(overlap), Overlap)}"
            raise self.refuse(said, *place, "overlap")

    def _check_company(self, table: Mapping[str, Any], place: Place) -> None:
        """Refuse keys of an input that do not go together."""
        for key in ("members", "group", "overlap"):
            if "description" in table and table.get(key):
                raise self.refuse(
                    f"description and {key} do not go together", *place, key
                )
        if table.get("members") and "overlap" in table:
            raise self.refuse(
                "members and overlap do not go together", *place, "overlap"
            )

    def _step(
        self, name: str, content: Any, place: Place, names: Mapping[str, Any]
    ) -> NamedStep:
        self._check_name(name, place)
        table = self._as_table(content, place)
        verb = table.pop("do", None)
        if not isinstance(verb, str) or not is_operation(verb):
            said = f"no verb '{verb}'. {nearest_names(str(verb), operation_names())}"
            raise self.refuse(
                said if verb else 'a step needs do = "VERB"', *place, "do"
            )
        return self._made(name, operation(verb), verb, table, place, names)

    def _report(
        self, path: str, content: Any, place: Place, outputs: Mapping[str, Output]
    ) -> Report:
        self._check_path(path, place)
        table = self._as_table(content, place)
        self._check_keys(table, ("report", "text"), "key of a report", *place)
        if Path(path).suffix.lower() not in (".html", ".htm"):
            raise self.refuse(f"'{path}': a report is a page; write .html", *place)
        shows = (
            [table["report"]] if isinstance(table["report"], str) else table["report"]
        )
        if not isinstance(shows, list) or not shows:
            raise self.refuse(
                'report is a list of outputs: ["map.png"]', *place, "report"
            )
        for show in shows:
            if show not in outputs:
                said = f"there is no output '{show}' to show. {nearest_names(str(show), outputs)}"
                raise self.refuse(said, *place, "report")
        return Report(path, tuple(shows), self._words(table, "text", place))

    def _words(self, table: dict[str, Any], key: str, place: Place) -> str:
        value = table.pop(key, "")
        if not isinstance(value, str):
            raise self.refuse(f"{key} is text", *place, key)
        return value

    def _check_path(self, path: str, place: Place) -> None:
        parts = Path(path).parts
        if (
            Path(path).is_absolute()
            or ".." in parts
            or not parts
            or path.startswith("-")
        ):
            raise self.refuse(
                f"'{path}': outputs lie in the folder of the study, or in that of --into; write a "
                "path within it",
                *place,
            )
        if (
            plain := posixpath.normpath(path)
        ) != path:  # so that one output has one name
            raise self.refuse(f"'{path}': write it as '{plain}'", *place)

    def _output(
        self, path: str, content: Any, place: Place, names: Mapping[str, Any]
    ) -> Output:
        self._check_path(path, place)
        table = self._as_table(
            {"of": content} if isinstance(content, str) else content, place
        )
        said = {key: self._words(table, key, place) for key in ("heading", "note")}
        kind = table.pop("draw", None)
        if kind is None:
            self._check_keys(table, ("of", *_LAYOUT_KEYS), "key of an output", *place)
            of = self._of(table, place, names)
            return Output(path, of, self._layout(table, place), None, **said)
        if not is_drawing(kind):
            raise self.refuse(
                f"no drawing '{kind}'. {nearest_names(str(kind), drawing_names())}",
                *place,
                "draw",
            )
        picture = self._made(path, drawing(kind), f"draw {kind}", table, place, names)
        return Output(path, picture.of, USUAL_LAYOUT, picture, **said)

    def _layout(self, table: Mapping[str, Any], place: Place) -> Layout:
        for key in ("unlimited", "raw", "checksums", "all"):
            if not isinstance(table.get(key, False), bool):
                raise self.refuse(f"{key} is true or false", *place, key)
        if isinstance(table.get("first", 1), bool) or not isinstance(
            table.get("first", 1), int
        ):
            raise self.refuse("first is a number of rows", *place, "first")
        for key in ("format", "chunks", "compression", "decimal", "sort", "across"):
            if not isinstance(table.get(key, ""), str):
                raise self.refuse(f"{key} is text", *place, key)
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
            raise self.refuse(str(error), *place) from None

    def _made(
        self,
        name: str,
        kind: type[Step],
        verb: str,
        table: dict[str, Any],
        place: Place,
        names: Mapping[str, Any],
    ) -> NamedStep:
        of = self._of(table, place, names)
        declared = {parameter.name: parameter for parameter in parameters(kind)}
        settings: dict[str, Any] = {}
        others: dict[str, str] = {}
        variables: tuple[str, ...] = ()
        for key, value in table.items():
            if key == "of":
                continue
            if key == "variable" and key not in declared:
                variables = self._variables(value, place)
                continue
            if key not in declared:
                known = nearest_names(key, declared)
                raise self.refuse(
                    f"{verb} has no parameter '{key}'. {known}", *place, key
                )
            setting = declared[key]
            if (
                setting.type is OtherDataset
                and isinstance(value, str)
                and value in names
            ):
                others[setting.field] = value
                continue
            try:
                settings[setting.field] = setting.parse(value)
            except UsageError as error:
                raise self.refuse(f"{verb} {error}", *place, key) from None
        try:
            # With nothing in place of other data, which shows whether the rest goes together.
            named = {field: OtherDataset(value) for field, value in others.items()}
            beside = kind(**settings, **named).writes()
        except UsageError as error:
            raise self.refuse(f"{verb}: {error}", *place) from None
        if beside:
            raise self.refuse(
                f"{verb} would write {beside[0]} beside the outputs; a study writes what is under "
                "[outputs], so leave that out",
                *place,
            )
        return NamedStep(name, of, settings, kind, others, variables)

    def _variables(self, value: Any, place: Place) -> tuple[str, ...]:
        """Return the names under `variable`, which every step can have, as on the command line."""
        given = [value] if isinstance(value, str) else value
        if not isinstance(given, list) or not all(
            isinstance(item, str) for item in given
        ):
            raise self.refuse(
                "variable is a name or a list of names", *place, "variable"
            )
        return tuple(name.strip() for text in given for name in text.split(","))

    def _of(
        self, table: Mapping[str, Any], place: Place, names: Mapping[str, Any]
    ) -> str:
        of = table.get("of")
        if not isinstance(of, str) or of not in names:
            what = "of = the name of an input or a step"
            said = (
                f"no input or step '{of}'. {nearest_names(str(of), names)}"
                if of
                else what
            )
            raise self.refuse(said if of else f"this needs {what}", *place, "of")
        return of

    def _as_table(self, content: Any, place: Place) -> dict[str, Any]:
        if not isinstance(content, dict):
            raise self.refuse(f"this is a table; write [{place[0]}.{place[1]}]", *place)
        return dict(content)

    def _check_name(self, name: str, place: Place) -> None:
        if not _NAME.fullmatch(name):
            raise self.refuse(
                f"'{name}' is no name; names are of letters, figures, '_', '-' and '.'",
                *place,
            )

    def _in_order(
        self, steps: Mapping[str, NamedStep], places: Mapping[str, Place]
    ) -> dict[str, NamedStep]:
        """Return the steps so that each follows all that it needs."""
        ordered: dict[str, NamedStep] = {}
        rounds = 0
        left = dict(steps)
        while left:
            ready = [
                n
                for n, step in left.items()
                if not any(need in left for need in step.needs)
            ]
            if not ready:
                name = next(iter(left))
                around = " needs ".join(f"'{step}'" for step in _circle(name, left))
                raise self.refuse(
                    f"steps need each other in a circle: {around}", *places[name]
                )
            rounds += 1
            if rounds > MOST_IN_A_ROW:
                raise self.refuse(
                    f"more than {MOST_IN_A_ROW} steps follow each other; write an output between "
                    "them, and begin with it in another study",
                    *places[ready[0]],
                )
            for name in ready:
                ordered[name] = left.pop(name)
        return ordered


def _circle(name: str, left: Mapping[str, NamedStep]) -> list[str]:
    way = [name]
    while way.count(way[-1]) == 1:
        way.append(next(need for need in left[way[-1]].needs if need in left))
    return way[way.index(way[-1]) :]


def _is_report(content: Any) -> bool:
    return isinstance(content, dict) and "report" in content


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True
