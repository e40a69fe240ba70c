"""Where in a TOML file a table or a key stands, for messages; the parser does not say."""

from __future__ import annotations

import re
import tomllib

_HEADER = re.compile(r"^\s*\[{1,2}(.+?)\]{1,2}\s*(?:#.*)?$")
_WORD = r"""(?:"[^"]*"|'[^']*'|[\w-]+)"""
_KEY = re.compile(rf"^\s*({_WORD}(?:\s*\.\s*{_WORD})*)\s*=")


class TomlLines:
    """Lines of tables and keys.

    Parameters
    ----------
    text : str
        Of a valid TOML file.
    """

    def __init__(self, text: str) -> None:
        self._found: dict[tuple[str, ...], int] = {}
        table: tuple[str, ...] = ()
        for number, line in enumerate(text.split("\n"), start=1):
            if header := _HEADER.match(line):
                table = _parts(header.group(1))
                self._note(table, number)
            elif key := _KEY.match(line):
                self._note((*table, *_parts(key.group(1))), number)

    def _note(self, place: tuple[str, ...], number: int) -> None:
        """Keep where a place is first named, and the tables that are named by it."""
        for length in range(1, len(place) + 1):
            self._found.setdefault(place[:length], number)

    def find(self, *place: str) -> int:
        """Return the line of a key, or of the nearest table around it; 1 where there is none."""
        for length in range(len(place), 0, -1):
            if place[:length] in self._found:
                return self._found[place[:length]]
        return 1


def _parts(dotted: str) -> tuple[str, ...]:
    """Return the words of a dotted key."""
    try:
        table = tomllib.loads(f"{dotted} = 0")
    except tomllib.TOMLDecodeError:
        return ()
    words = []
    while isinstance(table, dict):
        ((word, table),) = table.items()
        words.append(word)
    return tuple(words)
