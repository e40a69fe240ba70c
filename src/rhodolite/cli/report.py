"""A file about an internal error, for those who are going to mend it."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path

from rhodolite.cli.console import list_versions
from rhodolite.plain_text import make_visible


def asked_report(words: Sequence[str]) -> str | None:
    """Return the file that `--report` names, found also where the command line cannot be read."""
    for at, word in enumerate(words):
        if word.startswith("--report="):
            return word.partition("=")[2]
        if word == "--report" and at + 1 < len(words):
            return words[at + 1]
    return None


def write_report(path: str, words: Sequence[str], trace: str) -> str:
    """Write versions, command line and trace, and return in words where they are.

    Parameters
    ----------
    path : str
        Nothing that exists is written over.
    words : sequence of str
        Words of the command line.
    trace : str
        Where in the program the error arose.
    """
    lines = [*list_versions(), "", f"rhodolite {shlex.join(words)}", "", trace]
    try:
        with Path(path).open("x", encoding="utf-8") as file:
            file.write(make_visible("\n".join(lines)))
    except OSError as error:
        return f"its report could not be written to {path} ({error.strerror})"
    return f"its report is in {path}; send it along"
