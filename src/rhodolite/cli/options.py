"""From declared operations to argument parsers, and from words to steps."""

from __future__ import annotations

import argparse
import re
from typing import Any, NoReturn

from rhodolite.errors import UsageError, nearest_names
from rhodolite.formats.chunking import ChunkUse, Compression
from rhodolite.formats.registry import FORMATS
from rhodolite.operations.declaration import Parameter, description, parameters

_NEGATIVE_VALUE = re.compile(r"-(\d|\.\d|\.\.)")
_MEMORY = re.compile(r"(\d+(?:\.\d+)?)\s*([KMGT]?)i?B?", re.IGNORECASE)
_POWERS = {"": 0, "K": 1, "M": 2, "G": 3, "T": 4}


class Parser(argparse.ArgumentParser):
    """An argument parser that raises UsageError in place of ending the program."""

    def __init__(self, verb: str, **settings: Any) -> None:
        super().__init__(prog=f"rhodolite {verb}", allow_abbrev=False,
                         formatter_class=argparse.RawDescriptionHelpFormatter, **settings)  # fmt: skip
        self._verb = verb
        self.second_words: tuple[str, ...] = ()

    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{self._verb}: {message}. 'rhodolite {self._verb} --help' lists the options.")

    def parse(self, words: list[str]) -> argparse.Namespace:
        """Parse words in any order, values that begin with a minus sign included."""
        joined = _join_negative_values(self, _join_second_words(self, words))
        parsed, unknown = self.parse_known_intermixed_args(joined)
        if unknown:
            options = [o for action in self._actions for o in action.option_strings if o.startswith("--")]
            hint = nearest_names(unknown[0].split("=")[0], options)
            raise UsageError(f"{self._verb} has no option {unknown[0].split('=')[0]}. {hint}")
        return parsed


def step_parser(verb: str, cls: type) -> Parser:
    """Return the parser for one step of a chain."""
    usage = f"rhodolite {verb} INPUT... [options] [then VERB [options]]... -o OUTPUT"
    parser = Parser(verb, description=description(cls), usage=usage)
    parser.add_argument("inputs", nargs="*", metavar="INPUT", help="files, or patterns such as 'year_*.nc'")
    for declared in parameters(cls):
        _add_parameter(parser, declared)
        parser.second_words += getattr(declared.type, "second_words", ())
    add_run_options(parser)
    return parser


def _add_parameter(parser: argparse.ArgumentParser, declared: Parameter) -> None:
    if declared.switch:
        parser.add_argument(f"--{declared.name}", dest=declared.field, action="store_true", help=declared.help)
        return
    text = declared.help
    if declared.default is not None:
        text += f" (default: {declared.format(declared.default)})"
    if declared.repeats:
        text += "; can be given several times"
    metavar = "|".join(declared.choices) or declared.example or declared.name.upper()
    parser.add_argument(
        f"--{declared.name}",
        dest=declared.field,
        metavar=metavar,
        help=text.replace("%", "%%"),
        action="append" if declared.repeats else "store",
    )


def add_run_options(parser: argparse.ArgumentParser, *, output: bool = True) -> None:
    """Add the options that every verb has."""
    group = parser.add_argument_group("run options")
    if output:
        group.add_argument(
            "-o", "--output", metavar="FILE", help="where the result goes; its suffix says what is written"
        )
        group.add_argument("--overwrite", action="store_true", help="replace an existing output")
        group.add_argument("--format", metavar="NAME", help="a variant of what the suffix names: " + _variants())
        group.add_argument("--chunks", metavar="|".join(ChunkUse), help="what pieces on disk are to be good for "
                           "(default: those of the input)")  # fmt: skip
        group.add_argument("--compression", metavar="|".join(Compression),
                           help="how much work goes into a small output (default: fast)")  # fmt: skip
        group.add_argument("--unlimited", action="store_true", help="make time a dimension that can grow")
        group.add_argument("--plan", action="store_true", help="say what would be read and written, and stop")
        group.add_argument("--members", action="store_true", help="the inputs are members of an ensemble, one a file "
                           "or pattern, not parts of one dataset")  # fmt: skip
    group.add_argument("--group", metavar="NAME", help="the group to read of files that have groups")
    group.add_argument("--memory", metavar="SIZE", help="memory for data in flight, such as 512MiB "
                       "(default: 1GiB, or a quarter of the machine's)")  # fmt: skip
    group.add_argument("--workers", metavar="N", help="blocks to work on at once (default: the number of cores)")
    group.add_argument("--cluster", metavar="ADDRESS", help="compute on the workers of a Dask scheduler")
    group.add_argument("--quiet", action="store_true", help="print errors only")
    group.add_argument("--debug", action="store_true", help="show where in the program an error arose")


def _variants() -> str:
    return ", ".join(name for found in FORMATS for name in found.variants)


def parse_memory(text: str) -> int:
    """Return bytes for a size such as 512MiB or 1GB; both count in powers of 1024."""
    match = _MEMORY.fullmatch(text.strip())
    size = float(match.group(1)) * 1024 ** _POWERS[match.group(2).upper()] if match else 0
    if size < 1 << 20:
        raise UsageError(f"--memory: '{text}' is no size of at least 1MiB; write it like 512MiB or 2GiB")
    return int(size)


def parse_workers(text: str) -> int:
    """Return a number of workers."""
    if not text.isdigit() or int(text) < 1:
        raise UsageError(f"--workers: '{text}' is not a number of workers; write 1, 2, 3 ...")
    return int(text)


def _join_second_words(parser: Parser, words: list[str]) -> list[str]:
    """Write `--statistic count-above 1mm/day` as one value, for kinds that another word follows."""
    joined: list[str] = []
    for word in words:
        before = (
            joined[-1].partition("=")[2] or (joined[-1] if joined[-2:-1] == ["--statistic"] else "") if joined else ""
        )
        if before in parser.second_words and not word.startswith("--"):
            joined[-1] += f" {word}"
        else:
            joined.append(word)
    return joined


def _join_negative_values(parser: argparse.ArgumentParser, words: list[str]) -> list[str]:
    """Write `--lat -35..10` as `--lat=-35..10`, which argparse does not take for an option."""
    valued = {o for action in parser._actions if action.nargs is None for o in action.option_strings}
    joined: list[str] = []
    for word in words:
        if joined and joined[-1] in valued and _NEGATIVE_VALUE.match(word):
            joined[-1] = f"{joined[-1]}={word}" if joined[-1].startswith("--") else f"{joined[-1]}{word}"
        else:
            joined.append(word)
    return joined
