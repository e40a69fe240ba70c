"""Settings and lists of a study: words in braces that stand for their values."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Mapping
from typing import Any

from rhodolite.errors import nearest_names
from rhodolite.formats.text.filename_pattern import DATE_FIELDS

_PLACE = re.compile(r"\{(\w+)\}")
_OF_FILES = (*DATE_FIELDS, "variable", "level", "decade", "member", "region")
"""What stands in braces in names of sets of files, and is filled in when they are written, unless
it is a setting or a list."""


def repeat_tables(
    name: str, content: Any, settings: Mapping[str, str], lists: Mapping[str, list[str]]
) -> Iterator[tuple[str, Any]]:
    """Yield a table with its name, once for each value of the lists that its name holds.

    Parameters
    ----------
    name : str
        Such as ``trend_{model}``.
    content : object
        In whose texts the same words are filled in.
    settings : mapping of str to str
    lists : mapping of str to list of str

    Raises
    ------
    ValueError
        If a word in braces is neither a setting nor a list, or a list that the name does not hold.
    """
    repeated = [word for word in dict.fromkeys(_PLACE.findall(name)) if word in lists]
    for values in itertools.product(*(lists[word] for word in repeated)):
        words = {**settings, **dict(zip(repeated, values, strict=True))}
        yield _fill(name, words, lists), _fill_all(content, words, lists)


def _fill_all(
    content: Any, words: Mapping[str, str], lists: Mapping[str, list[str]]
) -> Any:
    if isinstance(content, dict):
        return {key: _fill_all(value, words, lists) for key, value in content.items()}
    if isinstance(content, list):
        return [_fill_all(value, words, lists) for value in content]
    return _fill(content, words, lists) if isinstance(content, str) else content


def _fill(text: str, words: Mapping[str, str], lists: Mapping[str, list[str]]) -> str:
    def fill(place: re.Match[str]) -> str:
        word = place.group(1)
        if word in words:
            return words[word]
        if word in _OF_FILES:
            return place.group()
        if word in lists:
            raise ValueError(
                f"{{{word}}} stands for each value of a list, so the name of the table has to hold "
                "it, too"
            )
        known = {**words, **lists}
        raise ValueError(
            f"there is no setting or list '{word}'. {nearest_names(word, known)}"
        )

    return _PLACE.sub(fill, text)
