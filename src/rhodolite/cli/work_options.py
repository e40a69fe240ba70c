"""Options about how work is done, and what is said of it, which every verb has."""

from __future__ import annotations

import argparse
from typing import Any

from rhodolite.cli.help_pages import MESSAGES, WORK
from rhodolite.errors import UsageError


class Once(argparse.Action):
    """Keeps the value of an option, and lets none that is given a second time be dropped."""

    def __call__(
        self, _: Any, namespace: Any, values: Any, option_string: str | None = None
    ) -> None:
        before = getattr(namespace, self.dest, None)
        if before is not None and before != self.default and before != values:
            raise UsageError(
                f"{option_string} is given twice, as '{before}' and as '{values}'; give it once"
            )
        setattr(namespace, self.dest, values)


def add_work_options(parser: argparse.ArgumentParser) -> None:
    """Add the options about how work is done, and what is said of it."""
    _add_means(parser.add_argument_group(WORK))
    _add_messages(parser.add_argument_group(MESSAGES))


def _add_means(group: Any) -> None:
    """Add the options about memory, cores and scratch files."""
    group.add_argument(
        "--memory",
        action=Once,
        metavar="SIZE",
        help="memory for data in flight, such as 512MiB (default: 1GiB, or a quarter of the "
        "machine's)",
    )
    group.add_argument(
        "--workers",
        action=Once,
        metavar="N",
        help="blocks to work on at once (default: the number of cores)",
    )
    group.add_argument(
        "--cluster",
        action=Once,
        metavar="ADDRESS",
        help="compute on the workers of a Dask scheduler",
    )
    group.add_argument(
        "--scratch",
        action=Once,
        metavar="FOLDER",
        help="where scratch files lie that are larger than memory (default: TMPDIR)",
    )
    group.add_argument(
        "--no-cache",
        action="store_true",
        help="read the header of every file, also where it is known from before, and keep none",
    )
    group.add_argument(
        "--no-journal",
        action="store_true",
        help="keep no note in the user's state folder of what made the output",
    )


def _add_messages(group: Any) -> None:
    """Add the options about progress, messages and reports."""
    group.add_argument(
        "--progress",
        action=Once,
        metavar="auto|bar|lines|none",
        help="how progress is shown (default: a bar on a terminal, a line every 10 s elsewhere)",
    )
    group.add_argument(
        "--log-format",
        action=Once,
        metavar="text|json",
        help="how messages are written: for people (default), or one JSON object a line",
    )
    group.add_argument("--quiet", action="store_true", help="print errors only")
    group.add_argument(
        "--debug", action="store_true", help="show where in the program an error arose"
    )
    group.add_argument(
        "--report",
        action=Once,
        metavar="FILE",
        help="where an internal error comes up, write a diagnostic report into a file",
    )
