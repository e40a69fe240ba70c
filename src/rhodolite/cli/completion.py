"""Completion in bash, zsh and fish: verbs, options, their choices, and variables of the input.

A command line is a chain, so only the segment after the last `then` is completed, by the parser
of its own verb.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import argcomplete
from argcomplete.completers import ChoicesCompleter

from rhodolite.cli.verbs import ALL_VERBS, module_of
from rhodolite.errors import RhodoliteError
from rhodolite.operations import operation_names

_PROGRAM = "rhodolite"


def complete() -> None:
    """Answer the request of a shell for completions, and end the program."""
    line = os.environ["COMP_LINE"][: int(os.environ.get("COMP_POINT", "0")) or None]
    words = line.split(" ")
    parser, rest = _parser_for(words[1:])
    # The parser sees its own segment alone.
    os.environ["COMP_LINE"] = " ".join([_PROGRAM, *rest])
    os.environ["COMP_POINT"] = str(len(os.environ["COMP_LINE"].encode()))
    argcomplete.autocomplete(parser, always_complete_options="long")


def _parser_for(words: Sequence[str]) -> tuple[argparse.ArgumentParser, list[str]]:
    """Return the parser of the last segment, and the words of it that the parser is to see."""
    ends = [at for at, word in enumerate(words[:-1]) if word == "then"]
    inputs = _first_inputs(words[: ends[0]] if ends else words)
    segment = list(words[ends[-1] + 1 :] if ends else words)
    if len(segment) <= 1:
        return _choice_of("verb", [*ALL_VERBS, *operation_names()]), segment
    if segment[0] == "draw" and len(segment) == 2:
        from rhodolite.drawing import drawing_names

        return _choice_of("kind", drawing_names()), segment[1:]
    if (module := module_of(segment[0])) is not None:
        return module.make_parser(), segment[1:]
    try:
        return _step_parser(segment, inputs)
    except RhodoliteError:
        return argparse.ArgumentParser(_PROGRAM, add_help=False), segment[1:]


def _choice_of(name: str, offered: Iterable[str]) -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(_PROGRAM)
    parser.add_argument(name, choices=list(dict.fromkeys(offered)))
    return parser


def _step_parser(
    segment: list[str], inputs: list[str]
) -> tuple[argparse.ArgumentParser, list[str]]:
    from rhodolite.cli.chain import find_step
    from rhodolite.cli.options import step_parser
    from rhodolite.operations.declaration import parameters

    title, cls, rest = find_step(segment)
    parser = step_parser(title, cls)
    choices = {
        f"--{parameter.name}": dict.fromkeys(parameter.choices, "")
        for parameter in parameters(cls)
        if parameter.choices
    }
    for action in parser._actions:
        name = action.option_strings[-1] if action.option_strings else ""
        if choices.get(name):
            action.completer = ChoicesCompleter(choices[name])  # type: ignore[attr-defined]
        elif name in ("--variable", "--mark-by"):
            action.completer = _Variables(inputs)  # type: ignore[attr-defined]
    return parser, rest


def _first_inputs(words: Sequence[str]) -> list[str]:
    """Return the words of the first segment that are files or patterns."""
    start = 2 if words[:1] == ["draw"] else 1
    plain = [word.strip("'\"") for word in words[start:-1] if not word.startswith("-")]
    return [
        word
        for word in plain
        if any(mark in word for mark in "*?[") or Path(word).exists()
    ]


class _Variables:
    """Offers the fields of the input."""

    def __init__(self, inputs: list[str]) -> None:
        self._inputs = inputs

    def __call__(self, **_: Any) -> list[str]:
        from rhodolite.formats.open import open_dataset

        if not self._inputs:
            return []
        try:
            return [field.name for field in open_dataset(self._inputs).fields]
        except RhodoliteError:
            return []
