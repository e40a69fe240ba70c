"""`rhodolite retrace`: the study that an output carries."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import DataError, UsageError

if TYPE_CHECKING:
    import argparse

    from rhodolite.cli.parser import Parser
    from rhodolite.studies.description import Study

_DESCRIPTION = """\
The study that made a file: its inputs, steps and output, which the file carries with it.

With --verify it says whether the inputs are those that were used. With --run and --into it makes
the output again, in another folder.
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.work_options import add_work_options

    usage = "rhodolite retrace FILE [--verify | --run --into FOLDER]"
    parser = Parser("retrace", description=_DESCRIPTION, usage=usage)
    parser.add_argument("file", nargs="?", metavar="FILE", help="data or a picture")
    parser.add_argument(
        "--verify",
        action="store_true",
        help="say whether the inputs are those that were used",
    )
    parser.add_argument("--run", action="store_true", help="make the output again")
    parser.add_argument("--into", metavar="FOLDER", help="where the new output goes")
    parser.add_argument(
        "--overwrite", action="store_true", help="replace an existing output"
    )
    add_work_options(parser)
    return parser


def run(words: list[str], quiet: bool) -> int:
    """Run the verb and return its exit code."""
    options = make_parser().parse(words)
    if not options.file:
        raise UsageError("retrace: which file? Write rhodolite retrace FILE")
    if options.run != bool(options.into):
        raise UsageError(
            "retrace: --run and --into go together; write --run --into again"
        )

    from rhodolite.cli.console import show
    from rhodolite.studies.carried import SAME, SAME_WHERE_COMPARED, find_study
    from rhodolite.studies.tracing import trace, verify

    path = Path(options.file)
    if not options.verify and not options.run:
        show(find_study(path).study.rstrip("\n"))
        return 0
    study, home = trace(path)
    if options.verify:
        states = verify(path)
        for name, state in states:
            show(f"{name}: {state}")
        if any(state not in (SAME, SAME_WHERE_COMPARED) for _, state in states):
            return DataError.exit_code
    if options.run:
        _run_again(study, home, options, quiet)
    return 0


def _run_again(
    study: Study, home: Path, options: argparse.Namespace, quiet: bool
) -> None:
    """Make the outputs of a study in another folder."""
    from rhodolite.cli.console import say, written_line
    from rhodolite.cli.engine import make_engine
    from rhodolite.studies.run import StudyRun

    began = time.monotonic()
    into, overwrite = Path(options.into), options.overwrite
    work = StudyRun(study, into, home=home, overwrite=overwrite, remember=False)
    engine = make_engine(quiet, vars(options))

    def tell(place: Path, size: tuple[int, int]) -> None:
        if not quiet:
            say(written_line(place, size, time.monotonic() - began))

    work.run(engine, tell)
