"""A study file as its readers see it: refusals with the line, and values of plain types."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rhodolite.errors import UsageError, nearest_names
from rhodolite.studies.toml_lines import TomlLines

Place = tuple[str, str]
"""The kind of a table, and its name in the file."""
_NAME = re.compile(r"\w[\w.-]*")


@dataclass(frozen=True)
class StudyFile:
    """Where a study comes from, for messages.

    Attributes
    ----------
    path : Path
    lines : TomlLines
    """

    path: Path
    lines: TomlLines

    def refuse(self, message: str, *place: str) -> UsageError:
        """Return an error that says where in the file it is."""
        return UsageError(f"{self.path}, line {self.lines.find(*place)}: {message}")

    def check_keys(
        self, table: Mapping[str, Any], known: Any, what: str, *place: str
    ) -> None:
        """Refuse keys that are not known."""
        for key in table:
            if key not in known:
                raise self.refuse(
                    f"there is no {what} '{key}'. {nearest_names(key, known)}",
                    *place,
                    key,
                )

    def check_name(self, name: str, place: Place) -> None:
        """Refuse what cannot be the name of an input or a step."""
        if not _NAME.fullmatch(name):
            raise self.refuse(
                f"'{name}' is no name; names are of letters, figures, '_', '-' and '.'",
                *place,
            )

    def as_table(self, content: Any, place: Place) -> dict[str, Any]:
        """Return a copy of a table; other values are refused."""
        if not isinstance(content, dict):
            raise self.refuse(f"this is a table; write [{place[0]}.{place[1]}]", *place)
        return dict(content)

    def texts(
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

    def take_words(self, table: dict[str, Any], key: str, place: Place) -> str:
        """Take a text out of a table and return it; empty where there is none."""
        value = table.pop(key, "")
        if not isinstance(value, str):
            raise self.refuse(f"{key} is text", *place, key)
        return value
