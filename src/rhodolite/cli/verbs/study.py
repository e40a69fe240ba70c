"""`rhodolite study`: runs a study file."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import UsageError

if TYPE_CHECKING:
    from rhodolite.arrays import Engine
    from rhodolite.cli.parser import Parser
    from rhodolite.studies.description import Output
    from rhodolite.studies.run import StudyRun

_DESCRIPTION = """\
All that a study file asks for: named inputs, steps, and outputs of data, pictures and reports.

  title = "Warming of the north"

  [inputs]
  nordic = "nordic_daily_*.nc"

  [steps.departures]
  of = "nordic"
  do = "anomaly"
  variable = "tas"
  base = "2012..2016"

  [outputs."departures.nc"]
  of = "departures"

  [outputs."map.png"]
  of = "departures"
  draw = "map"
  time = "2018-07"

Steps have the verbs and parameters of the command line. Outputs that are up to date are left as
they are; an interrupted study goes on where it was. [settings] holds values that --set replaces
and that stand for {name} in all texts; [lists] holds lists, and a table whose name holds {name} is
made once for each value.
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.work_options import add_work_options

    parser = Parser(
        "study", description=_DESCRIPTION, usage="rhodolite study FILE.toml [options]"
    )
    parser.add_argument("file", nargs="?", metavar="FILE.toml", help="the study")
    parser.add_argument(
        "--set",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="another value of a setting; can be given several times",
    )
    parser.add_argument(
        "--only",
        action="append",
        metavar="OUTPUT",
        default=[],
        help="an output to be made, with all that it needs; can be given several times",
    )
    parser.add_argument(
        "--into",
        metavar="FOLDER",
        help="where the outputs go (default: the folder of the study)",
    )
    parser.add_argument(
        "--fresh", action="store_true", help="make outputs again that are up to date"
    )
    parser.add_argument(
        "--overwrite",
        action="store_true",
        help="replace files that the study has not made",
    )
    parser.add_argument(
        "--plan", action="store_true", help="say what would be made from what, and stop"
    )
    add_work_options(parser)
    return parser


def run(words: list[str], quiet: bool) -> int:
    """Run the verb and return its exit code."""
    options = make_parser().parse(words)
    if not options.file:
        raise UsageError("study: which one? Write rhodolite study FILE.toml")

    from rhodolite.cli.console import say, written_line
    from rhodolite.cli.engine import make_engine
    from rhodolite.studies.reader import read_study
    from rhodolite.studies.run import StudyRun

    study = read_study(Path(options.file), _settings(options.set))
    work = StudyRun(
        study,
        None if options.into is None else Path(options.into),
        tuple(options.only),
        options.fresh,
        options.overwrite,
    )
    engine = make_engine(quiet, vars(options))
    if options.plan:
        _say_plan(work, engine)
        return 0
    before, here = time.monotonic(), Path.cwd()

    def tell(place: Path, size: tuple[int, int]) -> None:
        nonlocal before
        if not quiet:
            shown = Path(os.path.relpath(place, here))
            say(written_line(shown, size, time.monotonic() - before))
        before = time.monotonic()

    if not quiet:
        for path in _up_to_date(work):
            say(f"{path} is up to date")
    work.run(engine, tell)
    return 0


def _up_to_date(work: StudyRun) -> list[str]:
    outputs, pages = work.split()[1], work.split_pages()[1]
    return [*(output.path for output in outputs), *(page.path for page in pages)]


def _settings(texts: list[str]) -> dict[str, str]:
    settings = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise UsageError(
                f"--set {text}: write NAME=VALUE, such as --set base=1981..2010"
            )
        settings[name] = value
    return settings


def _say_plan(work: StudyRun, engine: Engine) -> None:
    """Print, for each output, the way to it and the passes, or that it is up to date."""
    from rhodolite.cli.console import say_plan, show

    for path in _up_to_date(work):
        show(f"{path} is up to date.\n")
    for output, plan in work.plan(engine):
        show(f"{output.path}: {_way(work, output)}")
        say_plan(plan, Path(output.path), engine, is_taken=work.is_taken(output))
        show("")
    for page in work.split_pages()[0]:
        show(f"{page.path}: a report of {', '.join(page.shows)}\n")


def _way(work: StudyRun, output: Output) -> str:
    """Return the steps from the inputs to an output, in order."""
    words = [] if output.picture is None else [f"draw {output.picture.kind.verb}"]
    name = output.of
    while name in work.study.steps:
        step = work.study.steps[name]
        beside = f" with {' and '.join(step.others.values())}" if step.others else ""
        words.append(f"{name} ({step.kind.verb}{beside})")
        name = step.of
    return ", then ".join([name, *reversed(words)])
