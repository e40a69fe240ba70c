"""From declared operations to argument parsers, and from words to steps."""

from __future__ import annotations

import argparse

from rhodolite.cli.parser import Parser
from rhodolite.cli.run_options import add_run_options
from rhodolite.cli.work_options import Once
from rhodolite.errors import UsageError
from rhodolite.operations.declaration import Parameter, description, parameters

CHOSEN = "chosen_variables"
"""Where the variables go that a step is to be given, where it does not choose itself."""


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
            f"--{declared.name}",
            dest=declared.field,
            action="store_true",
            help=declared.help,
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
    what: str = "files, patterns such as 'year_*.nc' or 'rain_{year:2001..2010}.nc', or @FILE, "
    "which lists them",
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
        raise UsageError(
            f"{verb}: no input; name the files, such as rhodolite {example}"
        )
