"""A parser of words that says what is wrong with them, and what was meant."""

from __future__ import annotations

import argparse
import difflib
import re
from typing import Any, NoReturn

from rhodolite.cli.help_pages import (
    EXAMPLES_TITLE,
    HELP_RUN,
    RUN_GROUPS,
    RUN_OPTIONS,
    HelpFormatter,
    HelpRun,
    fill_paragraph,
    tell_examples,
)
from rhodolite.errors import UsageError
from rhodolite.formats.input_lists import LIST, read_inputs
from rhodolite.operations import SUMMARIES, operation
from rhodolite.operations.declaration import parameters

_NEAR = 0.7
"""How alike two options are of which one may be a slip for the other."""
_NEGATIVE_VALUE = re.compile(r"-(\d|\.\d|\.\.)")


class Parser(argparse.ArgumentParser):
    """An argument parser that raises UsageError in place of ending the program."""

    def __init__(self, verb: str, **settings: Any) -> None:
        super().__init__(
            prog=f"rhodolite {verb}",
            allow_abbrev=False,
            formatter_class=HelpFormatter,
            epilog=tell_examples(verb),
            **settings,
        )
        self._verb = verb
        self.add_argument(HELP_RUN, action=HelpRun, help=argparse.SUPPRESS)
        self.second_words: tuple[str, ...] = ()

    def error(self, message: str) -> NoReturn:
        raise UsageError(
            f"{self._verb}: {message}. 'rhodolite {self._verb} --help' lists the options."
        )

    def format_help(self) -> str:
        """Return the help, with the run options in one line."""
        groups = self._action_groups
        self._action_groups = [
            group for group in groups if group.title not in RUN_GROUPS
        ]
        try:
            text = super().format_help()
        finally:
            self._action_groups = groups
        names = [
            next(option for option in action.option_strings if option.startswith("--"))
            for group in groups
            for action in group._group_actions
            if group.title in RUN_GROUPS
        ]
        if not names:
            return text
        line = f"{RUN_OPTIONS}, which {HELP_RUN} explains: {', '.join(names)}"
        body, mark, examples = text.partition(f"\n{EXAMPLES_TITLE}\n")
        return f"{body}\n{fill_paragraph(line, '  ')}\n{mark}{examples}"

    def format_run_help(self) -> str:
        """Return the help of the run options alone."""
        formatter = self._get_formatter()
        formatter.add_text(f"{RUN_OPTIONS} of {self.prog}:")
        for group in self._action_groups:
            if group.title in RUN_GROUPS:
                formatter.start_section(group.title)
                formatter.add_arguments(group._group_actions)
                formatter.end_section()
        return formatter.format_help()

    def parse(self, words: list[str]) -> argparse.Namespace:
        """Parse words in any order, values that begin with a minus sign included."""
        words = [self._in_full(word) for word in words]
        _refuse_spaces(words)
        joined = _join_negative_values(self, _join_second_words(self, words))
        parsed, unknown = self.parse_known_intermixed_args(joined)
        if unknown:
            raise UsageError(self._tell_unknown(unknown[0].split("=")[0]))
        if any(str(name).startswith(LIST) for name in getattr(parsed, "inputs", ())):
            # What a list names goes on record, and not the list, which may change or move.
            parsed.inputs = [
                line for name in parsed.inputs for line in read_inputs(name)
            ]
        return parsed

    def _tell_unknown(self, word: str) -> str:
        """Return what is said of an option that there is not: the nearest, and verbs that have
        it."""
        options = [
            o
            for action in self._actions
            for o in action.option_strings
            if o.startswith("--")
        ]
        near = difflib.get_close_matches(word, options, n=2, cutoff=_NEAR)
        said = [f"{self._verb} has no option {word}."]
        if near:
            said.append(f"Did you mean {' or '.join(near)}?")
        if others := _verbs_with(word):
            said.append(f"It is an option of {', '.join(others)}.")
        return " ".join([*said, f"'rhodolite {self._verb} --help' lists the options."])

    def _in_full(self, word: str) -> str:
        """Return an option whose beginning alone was typed in full, where that is the beginning of
        one only."""
        name, equals, value = word.partition("=")
        options = [
            o
            for action in self._actions
            for o in action.option_strings
            if o.startswith("--")
        ]
        if not name.startswith("--") or len(name) < 4 or name in options:
            return word
        meant = [option for option in options if option.startswith(name)]
        return f"{meant[0]}{equals}{value}" if len(meant) == 1 else word


def _verbs_with(option: str) -> list[str]:
    """Return the verbs of a chain that have an option."""
    return [
        verb
        for verb in SUMMARIES
        if any(
            f"--{declared.name}" == option for declared in parameters(operation(verb))
        )
    ]


def _refuse_spaces(words: list[str]) -> None:
    """Refuse a range that was typed with spaces, of which the shell makes several words."""
    for at, word in enumerate(words):
        if word == ".." or (
            word.startswith("..")
            and at
            and words[at - 1].replace(".", "").replace("-", "").isdecimal()
        ):
            ends = [words[at - 1], *(words[at : at + 2] if word == ".." else [word])]
            option = next((w for w in reversed(words[:at]) if w.startswith("--")), "")
            raise UsageError(
                f"a range is written without spaces: {option} {''.join(ends)}".replace(
                    "  ", " "
                )
            )


def _join_second_words(parser: Parser, words: list[str]) -> list[str]:
    """Write `--statistic count-above 1mm/day` as one value, for kinds that another word follows."""
    joined: list[str] = []
    for word in words:
        before = joined[-1].partition("=")[2] if joined else ""
        if joined[-2:-1] == ["--statistic"]:
            before = before or joined[-1]
        if before in parser.second_words and not word.startswith("--"):
            joined[-1] += f" {word}"
        else:
            joined.append(word)
    return joined


def _join_negative_values(
    parser: argparse.ArgumentParser, words: list[str]
) -> list[str]:
    """Write `--lat -35..10` as `--lat=-35..10`, which argparse does not take for an option."""
    valued = {
        o
        for action in parser._actions
        if action.nargs is None
        for o in action.option_strings
    }
    joined: list[str] = []
    for word in words:
        if joined and joined[-1] in valued and _NEGATIVE_VALUE.match(word):
            joined[-1] = (
                f"{joined[-1]}={word}"
                if joined[-1].startswith("--")
                else f"{joined[-1]}{word}"
            )
        else:
            joined.append(word)
    return joined
