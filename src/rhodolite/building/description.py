"""The description of files that explain nothing, with the line of every mistake in it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

import numpy as np

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.text.csv.columns import ROLES
from rhodolite.formats.text.filename_pattern import DATE_FIELDS, FilePattern
from rhodolite.limits import check_nesting
from rhodolite.model.cf.given_attributes import check_given
from rhodolite.model.cf.standard_names import (
    CANONICAL_UNITS,
    suggest_standard_name,
    well_formed,
)
from rhodolite.model.cf.vocabulary import CALENDARS
from rhodolite.model.units.aliases import repair_units
from rhodolite.model.units.udunits import convertible, is_unit

_HEAD_OF_TABLE = re.compile(r"\s*\[\s*([^\]]+?)\s*\]")
_KEY = re.compile(r"\s*[\"']?([^\"'=]+?)[\"']?\s*=")
_TABLES = ("dataset", "input", "columns", "dimensions", "variables")
_INPUT = {"names": str, "calendar": str, "missing": (int, float)}
_VARIABLE = (
    "from",
    "units",
    "standard_name",
    "long_name",
    "cell_methods",
    "type",
    "comment",
    "positive",
    "attributes",
)
_TYPES = ("float32", "float64")
_USUAL_UNITS = {
    "rain": "mm, mm day-1, kg m-2 s-1",
    "precip": "mm, mm day-1, kg m-2 s-1",
    "snow": "mm, m, kg m-2",
    "temp": "degC, K",
    "wind": "m s-1",
    "press": "hPa, Pa",
    "level": "m",
    "volume": "m3",
    "flow": "m3 s-1",
}


@dataclass(frozen=True)
class Described:
    """What a description says of one variable."""

    source: str
    attributes: Mapping[str, Any]
    dtype: np.dtype[Any]


@dataclass(frozen=True)
class Description:
    """What a description says.

    Parameters
    ----------
    path : Path
    text : str
        The description as it stands in the file, for the lines of mistakes.
    dataset : mapping
        Attributes of the dataset.
    names : FilePattern or None
        Where the date stands in the names of text grids; None for tables.
    calendar : str
    missing : float or None
        A number that means a missing value.
    columns : mapping of str to str
        Which column is which coordinate.
    dimensions : mapping of str to int
        Lengths to be met.
    variables : mapping of str to Described
    """

    path: Path
    text: str
    dataset: Mapping[str, Any]
    names: FilePattern | None
    calendar: str
    missing: float | None
    columns: Mapping[str, str]
    dimensions: Mapping[str, int]
    variables: Mapping[str, Described]

    @classmethod
    def read(cls, path: Path) -> Self:
        """Read a description.

        Raises
        ------
        DataError
            If there is a mistake in it; the message names the line and what was expected.
        """
        text, content = _read_tables(path)
        reader = _Reader(path, text)
        reader.check_keys("", content, _TABLES, "table")
        given = reader.tables(content)
        inputs = given["input"]
        reader.check_inputs(inputs)
        reader.check_columns(given["columns"])
        reader.check_dimensions(given["dimensions"])
        if not given["variables"]:
            raise DataError(
                f'{path}: no variable is described; add [variables.NAME] with units = "..."'
            )
        variables = {
            name: reader.variable(name, about)
            for name, about in given["variables"].items()
        }
        return cls(
            path,
            text,
            reader.attributes("dataset", given["dataset"]),
            reader.pattern(inputs),
            inputs.get("calendar", "standard"),
            inputs.get("missing"),
            given["columns"],
            given["dimensions"],
            variables,
        )

    def mistake(self, table: str, key: str | None, what: str) -> DataError:
        """Return the error for a mistake in a table, at the line of a key."""
        return _Reader(self.path, self.text).mistake(table, key, what)


def _read_tables(path: Path) -> tuple[str, dict[str, Any]]:
    try:
        text = path.read_text(encoding="utf-8-sig")
        check_nesting(text.encode(), path)
        return text, tomllib.loads(text)
    except FileNotFoundError:
        raise DataError(f"{path}: there is no such description") from None
    except ValueError as error:
        raise DataError(f"{path}: this is not valid TOML: {error}") from None


class _Reader:
    """Checks the parts of a description and knows their lines."""

    def __init__(self, path: Path, text: str) -> None:
        self._path = path
        self._lines = text.splitlines()

    def mistake(self, table: str, key: str | None, what: str) -> DataError:
        line = self._line(table, key)
        return DataError(f"{self._path}{f', line {line}' if line else ''}: {what}")

    def check_inputs(self, inputs: Mapping[str, Any]) -> None:
        self.check_keys("input", inputs, tuple(_INPUT), "key")
        for key, kind in _INPUT.items():
            if key in inputs and not isinstance(inputs[key], kind):  # type: ignore[arg-type]
                what = "number" if key == "missing" else "text"
                raise self.mistake("input", key, f"{key} is a {what}")
        calendar = inputs.get("calendar", "standard")
        if calendar not in CALENDARS:
            hint = nearest_names(calendar, CALENDARS)
            raise self.mistake("input", "calendar", f"no calendar '{calendar}'. {hint}")

    def check_columns(self, columns: Mapping[str, Any]) -> None:
        self.check_keys("columns", columns, tuple(ROLES), "coordinate")
        for role, column in columns.items():
            if not isinstance(column, str):
                raise self.mistake(
                    "columns", role, f"{role} is the name of a column, as text"
                )

    def check_dimensions(self, dimensions: Mapping[str, Any]) -> None:
        for name, length in dimensions.items():
            if not isinstance(length, int) or isinstance(length, bool) or length < 1:
                what = f"the length of {name} is a whole number, such as 24"
                raise self.mistake("dimensions", name, what)

    def check_keys(
        self, table: str, given: Mapping[str, Any], known: Sequence[str], what: str
    ) -> None:
        for key in given:
            if key not in known:
                place = f" in [{table}]" if table else ""
                raise self.mistake(
                    table,
                    key,
                    f"there is no {what} '{key}'{place}. {nearest_names(key, known)}",
                )

    def tables(self, content: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
        tables_by_name = {}
        for name in _TABLES:
            tables_by_name[name] = content.get(name, {})
            if not isinstance(tables_by_name[name], dict):
                raise self.mistake(
                    "",
                    name,
                    f"'{name}' is a table; write [{name}] on a line of its own",
                )
        return tables_by_name

    def pattern(self, inputs: Mapping[str, Any]) -> FilePattern | None:
        if "names" not in inputs:
            return None
        pattern = FilePattern(inputs["names"])
        try:
            fields = pattern.fields
        except UsageError as error:
            raise self.mistake("input", "names", str(error)) from None
        dated = [name for name in DATE_FIELDS if name in fields]
        if dated != list(DATE_FIELDS[: len(dated)]) or not dated:
            raise self.mistake(
                "input",
                "names",
                "the names of files need places for a date, as in 'rain_{year}{month}.asc'; a "
                "month needs its year, a day its month",
            )
        return pattern

    def attributes(self, table: str, given: Any) -> dict[str, Any]:
        line = self._line(table, None)
        return check_given(
            f"{self._path}{f', line {line}' if line else ''}: [{table}]", given
        )

    def variable(self, name: str, about: Any) -> Described:
        table = f"variables.{name}"
        if not isinstance(about, dict):
            raise self.mistake(
                "variables",
                name,
                f"write [variables.{name}] on a line of its own, with units below it",
            )
        self.check_keys(table, about, _VARIABLE, "key")
        for key, value in about.items():
            if key != "attributes" and not isinstance(value, str):
                raise self.mistake(table, key, f"{key} is a text, in quotation marks")
        self._check_units(name, table, about)
        if about.get("type", _TYPES[0]) not in _TYPES:
            raise self.mistake(
                table,
                "type",
                f"type is {about['type']!r}; it can be {' or '.join(_TYPES)}",
            )
        described = {
            key: value
            for key, value in about.items()
            if key not in ("from", "type", "attributes")
        }
        return Described(
            about.get("from", name),
            {
                **described,
                **self.attributes(f"{table}.attributes", about.get("attributes", {})),
            },
            np.dtype(about.get("type", _TYPES[0])),
        )

    def _check_units(self, name: str, table: str, about: Mapping[str, Any]) -> None:
        standard_name = about.get("standard_name", "")
        if standard_name and not well_formed(standard_name):
            raise self.mistake(
                table,
                "standard_name",
                f"'{standard_name}' cannot be a standard name; these are small "
                "letters and underscores, such as air_temperature",
            )
        canonical = CANONICAL_UNITS.get(standard_name)
        if "units" not in about:
            fitting = canonical or _usual_units(name, about)
            raise self.mistake(
                table,
                None,
                f'{name} has no units; add units = "...", such as {fitting}, and "1" for a pure '
                "number",
            )
        units = about["units"]
        if (meant := repair_units(units, about.get("long_name", name))) is not None:
            raise self.mistake(
                table,
                "units",
                f"'{units}' are not units that UDUNITS knows; write units = \"{meant}\"",
            )
        if not is_unit(units):
            fitting = canonical or _usual_units(name, about)
            raise self.mistake(
                table,
                "units",
                f"'{units}' are not units that UDUNITS knows; write them like {fitting}",
            )
        if canonical and not convertible(units, canonical):
            raise self.mistake(
                table,
                "units",
                f"{units} does not fit the standard name {standard_name}, which is measured in "
                f"{canonical}",
            )

    def _line(self, table: str, key: str | None) -> int | None:
        """Return the number of the line of a key, or of the head of its table."""
        here, head = "", None
        for number, line in enumerate(self._lines, start=1):
            if match := _HEAD_OF_TABLE.match(line):
                here = re.sub(r"[\"'\s]", "", match.group(1))
                if here == table or (not table and here.split(".")[0] == key):
                    head = number
                    # A key outside of all tables is a table's own name.
                    if key is None or not table:
                        return number
            elif key is not None and _key_of(here, line) == _dotted(table, key):
                return number
        return head


def _usual_units(name: str, about: Mapping[str, Any]) -> str:
    """Return units that a variable of this name is often measured in."""
    words = f"{name} {about.get('long_name', '')}".lower()
    likely = suggest_standard_name(name, about.get("long_name", ""))
    known = next((units for part, units in _USUAL_UNITS.items() if part in words), None)
    return known or (CANONICAL_UNITS[likely] if likely else "mm day-1, K, m s-1")


def _key_of(table: str, line: str) -> str | None:
    """Return the whole key of a line below the head of a table; its own may have dots, too."""
    match = _KEY.match(line)
    return None if match is None else _dotted(table, match.group(1))


def _dotted(table: str, key: str) -> str:
    return f"{table}.{key}".lstrip(".")
