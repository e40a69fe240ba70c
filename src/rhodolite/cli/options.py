"""From declared operations to argument parsers, and from words to steps."""

from __future__ import annotations

import argparse
import difflib
import re
import shutil
import textwrap
from collections.abc import Mapping, Sequence
from typing import Any, NoReturn

from rhodolite.cli.examples import EXAMPLES
from rhodolite.cli.settings import Setting, find_setting
from rhodolite.cli.work_options import Once, add_work_options
from rhodolite.errors import UsageError
from rhodolite.formats.input_lists import LIST, read_inputs
from rhodolite.formats.layout import ChunkUse, Compression, Layout, make_layout
from rhodolite.formats.reading_rules import ReadingRules
from rhodolite.formats.registry import FORMATS
from rhodolite.formats.table_style import make_style
from rhodolite.model.dataset import Dataset
from rhodolite.operations import SUMMARIES, operation
from rhodolite.operations.declaration import Parameter, description, parameters

RUN_OPTIONS, HELP_RUN = "run options", "--help-run"
_EXAMPLES = "examples:"
_NARROWEST, _WIDEST = 58, 98
"""Columns of help, whatever the terminal has."""
_NEAR = 0.7
"""How alike two options are of which one may be a slip for the other."""
_SHELL_WORD = re.compile(r"(?:'[^']*'|[^\s'])+")
_NEGATIVE_VALUE = re.compile(r"-(\d|\.\d|\.\.)")
CHOSEN = "chosen_variables"
"""Where the variables go that a step is to be given, where it does not choose itself."""


class _HelpFormatter(argparse.RawDescriptionHelpFormatter):
    """Help as wide as the terminal, within reason, with paragraphs that are filled anew."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=28, width=_help_width())

    def _fill_text(self, text: str, width: int, indent: str) -> str:  # noqa: ARG002
        paragraphs = text.strip("\n").split("\n\n")
        return "\n\n".join(_fill(part, indent) for part in paragraphs) + "\n"


class _HelpRun(argparse.Action):
    """Prints what the run options are, and ends."""

    def __init__(self, option_strings: Sequence[str], dest: str, **settings: Any) -> None:
        super().__init__(option_strings, dest, nargs=0, **settings)

    def __call__(self, parser: Any, *_: Any) -> NoReturn:
        print(parser.format_run_help(), end="")
        raise SystemExit(0)


def _help_width() -> int:
    return min(max(shutil.get_terminal_size().columns - 2, _NARROWEST), _WIDEST)


def _fill(paragraph: str, indent: str) -> str:
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


def _tell_examples(verb: str) -> str | None:
    commands = EXAMPLES.get(verb)
    if not commands:
        return None
    lines = [line for command in commands for line in _lines_of(f"rhodolite {command}")]
    return "\n".join([_EXAMPLES, *lines])


def _lines_of(command: str) -> list[str]:
    """Return a command in lines as wide as help is, that a shell takes for one."""
    lines = ["  "]
    for word in _SHELL_WORD.findall(command):
        if len(lines[-1]) + len(word) + 2 > _help_width():
            lines[-1] += "\\"
            lines.append("    ")
        lines[-1] += f"{word} "
    return [line.rstrip() for line in lines]


class Parser(argparse.ArgumentParser):
    """An argument parser that raises UsageError in place of ending the program."""

    def __init__(self, verb: str, **settings: Any) -> None:
        super().__init__(
            prog=f"rhodolite {verb}",
            allow_abbrev=False,
            formatter_class=_HelpFormatter,
            epilog=_tell_examples(verb),
            **settings,
        )
        self._verb = verb
        self.add_argument(HELP_RUN, action=_HelpRun, help=argparse.SUPPRESS)
        self.second_words: tuple[str, ...] = ()

    def error(self, message: str) -> NoReturn:
        raise UsageError(
            f"{self._verb}: {message}. 'rhodolite {self._verb} --help' lists the options."
        )

    def format_help(self) -> str:
        """Return the help, with the run options in one line."""
        groups = self._action_groups
        self._action_groups = [group for group in groups if group.title != RUN_OPTIONS]
        try:
            text = super().format_help()
        finally:
            self._action_groups = groups
        names = [
            next(option for option in action.option_strings if option.startswith("--"))
            for group in groups
            for action in group._group_actions
            if group.title == RUN_OPTIONS
        ]
        if not names:
            return text
        line = f"{RUN_OPTIONS}, which {HELP_RUN} explains: {', '.join(names)}"
        body, mark, examples = text.partition(f"\n{_EXAMPLES}\n")
        return f"{body}\n{_fill(line, '  ')}\n{mark}{examples}"

    def format_run_help(self) -> str:
        """Return the help of the run options alone."""
        formatter = self._get_formatter()
        for group in self._action_groups:
            if group.title == RUN_OPTIONS:
                formatter.start_section(f"{self.prog}: {RUN_OPTIONS}")
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
            parsed.inputs = [line for name in parsed.inputs for line in read_inputs(name)]
        return parsed

    def _tell_unknown(self, word: str) -> str:
        """Return what is said of an option that there is not: the nearest, and verbs that have
        it."""
        options = [
            o for action in self._actions for o in action.option_strings if o.startswith("--")
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
            o for action in self._actions for o in action.option_strings if o.startswith("--")
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
        if any(f"--{declared.name}" == option for declared in parameters(operation(verb)))
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
                f"a range is written without spaces: {option} {''.join(ends)}".replace("  ", " ")
            )


def step_parser(verb: str, cls: type) -> Parser:
    """Return the parser for one step of a chain."""
    usage = f"rhodolite {verb} INPUT... [options] [then VERB [options]]... -o OUTPUT"
    parser = Parser(verb, description=description(cls), usage=usage)
    add_inputs(parser)
    if not any(declared.name == "variable" for declared in parameters(cls)):
        parser.add_argument(
            "--variable",
            dest=CHOSEN,
            metavar="NAME,...",
            action="append",
            help="the variables to work on; the others are left out",
        )
    for declared in parameters(cls):
        _add_parameter(parser, declared)
        parser.second_words += declared.second_words
    add_run_options(parser)
    return parser


def _add_parameter(parser: argparse.ArgumentParser, declared: Parameter) -> None:
    if declared.switch:
        parser.add_argument(
            f"--{declared.name}", dest=declared.field, action="store_true", help=declared.help
        )
        return
    text = declared.help
    if declared.default is not None:
        text += f" (default: {declared.format(declared.default)})"
    if declared.repeats or declared.listed:
        text += "; can be given several times"
    parser.add_argument(
        f"--{declared.name}",
        dest=declared.field,
        metavar=declared.metavar,
        help=text.replace("%", "%%"),
        action="append" if declared.repeats or declared.listed else Once,
    )


def add_inputs(
    parser: argparse.ArgumentParser,
    what: str = "files, patterns such as 'year_*.nc', or @FILE, which lists them",
) -> None:
    """Add the inputs of a verb.

    Parameters
    ----------
    parser : argparse.ArgumentParser
    what : str
        What they are, for the help.
    """
    parser.add_argument("inputs", nargs="*", metavar="INPUT", help=what)


def add_variables(parser: argparse.ArgumentParser) -> None:
    """Add the choice of variables of a verb that reads without steps."""
    parser.add_argument(
        "--variable", metavar="NAME,...", action="append", help="the variables to take"
    )


def need_inputs(inputs: list[str], verb: str, example: str) -> None:
    """Refuse a command line without inputs.

    Parameters
    ----------
    inputs : list of str
    verb : str
    example : str
        A command that has one.
    """
    if not inputs:
        raise UsageError(f"{verb}: no input; name the files, such as rhodolite {example}")


def add_run_options(
    parser: argparse.ArgumentParser, *, output: bool = True, members: bool = True
) -> None:
    """Add the options that every verb has; `members` where inputs can be those of an ensemble.

    Parameters
    ----------
    parser : argparse.ArgumentParser
    output : bool
        Whether the verb writes a file.
    members : bool
        Whether inputs can be members of an ensemble.
    """
    group = parser.add_argument_group(RUN_OPTIONS)
    if output:
        _add_output_options(group)
        group.add_argument(
            "--record",
            action=Once,
            metavar="FILE.toml",
            help="write what was typed as a study, which makes the output again",
        )
        if members:
            group.add_argument(
                "--members",
                action="store_true",
                help="the inputs are members of an ensemble, one per file or pattern, not parts of "
                "one dataset",
            )
    group.add_argument(
        "--group", action=Once, metavar="NAME", help="the group to read of files that have groups"
    )
    group.add_argument(
        "--missing-value",
        action=Once,
        metavar="NUMBER",
        help="a number that stands for missing values, where the files do not say so",
    )
    _add_table_options(group)
    add_work_options(group)


def _add_table_options(group: Any) -> None:
    """Add the options of how inputs are read that do not say it themselves."""
    group.add_argument(
        "--missing-text",
        action="append",
        metavar="TEXT,...",
        help="what stands for missing values in tables, besides what is usual",
    )
    group.add_argument(
        "--columns",
        action="append",
        metavar="NAME,...",
        help="what the columns of a table are called that has no header, such as "
        "'time,lat,lon,rain [mm]'",
    )
    group.add_argument(
        "--skip-unreadable",
        action="store_true",
        help="leave out files that cannot be read, and name them",
    )


def reading_rules(options: Mapping[str, Any]) -> ReadingRules:
    """Return how inputs are read, where they do not say it themselves.

    Parameters
    ----------
    options : mapping
        Run options by name.
    """
    return ReadingRules(
        _listed(options.get("missing_text")),
        _listed(options.get("columns")),
        bool(options.get("skip_unreadable")),
    )


def _listed(texts: Sequence[str] | None) -> tuple[str, ...]:
    return tuple(word.strip() for text in texts or () for word in text.split(","))


def _add_output_options(group: Any) -> None:
    """Add the options of verbs that write a file."""
    group.add_argument(
        "-o",
        "--output",
        action=Once,
        metavar="FILE",
        help="where the result goes; its suffix says what is written; - is a table, or a picture, "
        "on standard output",
    )
    group.add_argument("--overwrite", action="store_true", help="replace an existing output")
    group.add_argument(
        "--format",
        action=Once,
        metavar="NAME",
        help="a variant of what the suffix names: " + _variants(),
    )
    group.add_argument(
        "--chunks",
        action=Once,
        metavar="|".join(ChunkUse),
        help="access pattern to optimise chunking for (default: that of the input)",
    )
    group.add_argument(
        "--compression",
        action=Once,
        metavar="|".join(Compression),
        help="compression level (default: fast)",
    )
    group.add_argument(
        "--no-checksums",
        action="store_true",
        help="write chunks without the checksums by which readers notice damage",
    )
    group.add_argument(
        "--raw",
        action="store_true",
        help="write text into tables as it is, even if a spreadsheet would run it as a formula",
    )
    group.add_argument(
        "--all", action="store_true", help="write a table also of more than 10 million rows"
    )
    group.add_argument(
        "--decimal",
        action=Once,
        metavar="point|comma",
        help="decimal mark of a table; with a comma, semicolons stand between columns "
        "(default: point)",
    )
    group.add_argument(
        "--sort",
        action=Once,
        metavar="NAME[:down]",
        help="order the rows of a table by a column; with :down, the largest come first",
    )
    group.add_argument(
        "--first", action=Once, metavar="N", help="write the first N rows of a table"
    )
    group.add_argument(
        "--across",
        action=Once,
        metavar="NAME",
        help="give a table a column for each place along a dimension, such as region",
    )
    group.add_argument(
        "--unlimited", action="store_true", help="make time a dimension that can grow"
    )
    group.add_argument(
        "--plan",
        "--dry-run",
        action="store_true",
        help="say what would be read and written, and stop",
    )


def _variants() -> str:
    return ", ".join(name for known in FORMATS for name in known.variants)


def layout_of(options: Mapping[str, Any], *, for_data: bool = True) -> Layout:
    """Return the layout that run options ask for, with the user's default of the compression.

    Parameters
    ----------
    options : mapping
        Run options by name.
    for_data : bool
        Whether data are written; figures and collections have no compression.
    """
    given = options.get("compression")
    asked = Setting(given, "--compression") if given else None
    if asked is None and for_data:
        asked = find_setting("compression")
    text, origin = asked or (None, "--compression")
    return make_layout(
        options.get("format"),
        options.get("chunks"),
        text,
        unlimited=bool(options.get("unlimited")),
        option=origin,
        checksums=not options.get("no_checksums"),
        table=make_style(
            raw=bool(options.get("raw")),
            all_rows=bool(options.get("all")),
            decimal=options.get("decimal"),
            sort=options.get("sort"),
            first=options.get("first"),
            across=options.get("across"),
        ),
    )


def parse_number(option: str, text: str | None) -> float | None:
    """Return the number that an option gives; None where it is not given."""
    if text is None:
        return None
    try:
        return float(text)
    except ValueError:
        raise UsageError(f"{option}: '{text}' is not a number") from None


def apply_declared(
    dataset: Dataset, variables: list[str] | None, missing_value: str | None
) -> Dataset:
    """Return a dataset of the variables chosen, with the number for missing values that was
    declared.

    Parameters
    ----------
    dataset : Dataset
    variables : list of str, optional
        Names asked for.
    missing_value : str, optional
        Number that stands for missing values.
    """
    from rhodolite.formats.normalise import declare_missing

    if variables:
        names = [name.strip() for text in variables for name in text.split(",")]
        dataset = dataset.restrict(dataset.find(name) for name in names)
    value = parse_number("--missing-value", missing_value)
    return dataset if value is None else declare_missing(dataset, value)


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


def _join_negative_values(parser: argparse.ArgumentParser, words: list[str]) -> list[str]:
    """Write `--lat -35..10` as `--lat=-35..10`, which argparse does not take for an option."""
    valued = {
        o for action in parser._actions if action.nargs is None for o in action.option_strings
    }
    joined: list[str] = []
    for word in words:
        if joined and joined[-1] in valued and _NEGATIVE_VALUE.match(word):
            joined[-1] = (
                f"{joined[-1]}={word}" if joined[-1].startswith("--") else f"{joined[-1]}{word}"
            )
        else:
            joined.append(word)
    return joined
