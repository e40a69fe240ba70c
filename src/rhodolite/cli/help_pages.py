"""How help is laid out: as wide as the terminal, with examples at its end."""

from __future__ import annotations

import argparse
import re
import shutil
import textwrap
from collections.abc import Sequence
from typing import Any, NoReturn

from rhodolite.cli.examples import EXAMPLES

RUN_OPTIONS, HELP_RUN = "run options", "--help-run"
OUTPUT, TABLES, INPUTS = "the output", "tables that are written", "how inputs are read"
WORK, MESSAGES = "how work is done", "what is said of it"
RUN_GROUPS = (OUTPUT, TABLES, INPUTS, WORK, MESSAGES)
"""Titles of the run options, which stand in one line of the help of a verb."""
EXAMPLES_TITLE = "examples:"
_NARROWEST, _WIDEST = 58, 98
"""Columns of help, whatever the terminal has."""
_SHELL_WORD = re.compile(r"(?:'[^']*'|[^\s'])+")


class HelpFormatter(argparse.RawDescriptionHelpFormatter):
    """Help as wide as the terminal, within reason, with paragraphs that are filled anew."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=28, width=_help_width())

    def _fill_text(self, text: str, width: int, indent: str) -> str:  # noqa: ARG002
        paragraphs = text.strip("\n").split("\n\n")
        return "\n\n".join(fill_paragraph(part, indent) for part in paragraphs) + "\n"


class HelpRun(argparse.Action):
    """Prints what the run options are, and ends."""

    def __init__(
        self, option_strings: Sequence[str], dest: str, **settings: Any
    ) -> None:
        super().__init__(option_strings, dest, nargs=0, **settings)

    def __call__(self, parser: Any, *_: Any) -> NoReturn:
        print(parser.format_run_help(), end="")
        raise SystemExit(0)


def _help_width() -> int:
    return min(max(shutil.get_terminal_size().columns - 2, _NARROWEST), _WIDEST)


def fill_paragraph(paragraph: str, indent: str) -> str:
    """Return a paragraph as wide as help is; what is laid out in lines stays as it is."""
    lines = paragraph.splitlines()
    if any(line.startswith(" ") for line in lines):
        return "\n".join(indent + line for line in lines)
    joined = " ".join(line.strip() for line in lines)
    return textwrap.fill(
        joined,
        _help_width(),
        initial_indent=indent,
        subsequent_indent=indent,
        break_long_words=False,
        break_on_hyphens=False,
    )


def tell_examples(verb: str) -> str | None:
    commands = EXAMPLES.get(verb)
    if not commands:
        return None
    lines = [line for command in commands for line in _lines_of(f"rhodolite {command}")]
    return "\n".join([EXAMPLES_TITLE, *lines])


def _lines_of(command: str) -> list[str]:
    """Return a command in lines as wide as help is, that a shell takes for one."""
    lines = ["  "]
    for word in _SHELL_WORD.findall(command):
        if len(lines[-1]) + len(word) + 2 > _help_width():
            lines[-1] += "\\"
            lines.append("    ")
        lines[-1] += f"{word} "
    return [line.rstrip() for line in lines]
