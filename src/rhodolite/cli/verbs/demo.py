"""`rhodolite demo`: writes the demo data and runs the full example on them."""

from __future__ import annotations

import shlex
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.cli.console import say
from rhodolite.errors import UsageError
from rhodolite.plain_text import file_size

Run = Callable[[list[str], bool], int]
if TYPE_CHECKING:
    from rhodolite.arrays import Engine
    from rhodolite.cli.parser import Parser

_DESCRIPTION = """\
Writes made-up example data into a folder and runs the full example on them.

The data are those of Skarn Hydro, a hydropower cooperative that does not exist. They are the same
on every run, and the signals put into them are told in the attribute `signals` of each file.
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.parser import Parser

    parser = Parser(
        "demo", description=_DESCRIPTION, usage="rhodolite demo DIR [options]"
    )
    parser.add_argument(
        "folder",
        nargs="*",
        metavar="DIR",
        help="where the files go; made if it is not there",
    )
    parser.add_argument(
        "--data-only", action="store_true", help="write the data and stop"
    )
    parser.add_argument(
        "--overwrite", action="store_true", help="replace files that are there already"
    )
    parser.add_argument("--quiet", action="store_true", help="print errors only")
    parser.add_argument(
        "--debug", action="store_true", help="show where in the program an error arose"
    )
    return parser


def run(words: list[str], quiet: bool) -> int:
    """Run the verb and return its exit code."""
    from rhodolite.cli.engine import make_engine

    options = make_parser().parse(words)
    if len(options.folder) != 1:
        raise UsageError(
            "demo: name one folder to write to, such as rhodolite demo demo"
        )

    from rhodolite.demo.example import STUDY, study_text
    from rhodolite.demo.places import write_places
    from rhodolite.demo.world import datasets
    from rhodolite.errors import OutputError
    from rhodolite.formats.atomic_output import complete_or_nothing
    from rhodolite.formats.registry import format_for

    folder = Path(options.folder[0])
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(
            f"{folder}: this folder cannot be made: {error.strerror}"
        ) from None
    engine = make_engine(quiet)
    total = 0
    for name, dataset, layout in datasets():
        path = folder / name
        with complete_or_nothing(path, options.overwrite, ()) as temporary:
            format_for(path).write(dataset, temporary, engine, layout)
        total += path.stat().st_size
    total += _place(write_places, folder, options.overwrite)
    with complete_or_nothing(folder / STUDY, options.overwrite, ()) as temporary:
        temporary.write_text(study_text(), encoding="utf-8")
    if not quiet:
        say(f"wrote the demo data to {folder} ({file_size(total)})")
    if not options.data_only:
        _run_example(folder, options.overwrite, quiet, engine)
    return 0


def _place(write: Callable[[Path], list[Path]], folder: Path, overwrite: bool) -> int:
    """Put files that are not gridded where they belong, each complete, and return their bytes."""
    from rhodolite.formats.atomic_output import complete_or_nothing

    total = 0
    with tempfile.TemporaryDirectory() as temporary:
        for placed in write(Path(temporary)):
            target = folder / placed.relative_to(temporary)
            target.parent.mkdir(exist_ok=True)
            with complete_or_nothing(target, overwrite, ()) as path:
                path.write_bytes(placed.read_bytes())
            total += target.stat().st_size
    return total


def _run_example(folder: Path, overwrite: bool, quiet: bool, engine: Engine) -> None:
    """Run the first commands, and then the study, with the question that each output answers."""
    from rhodolite.cli.main import dispatch
    from rhodolite.demo.example import FIRST_STEPS, STUDY
    from rhodolite.studies.reader import read_study
    from rhodolite.studies.run import StudyRun

    for question, command in FIRST_STEPS:
        words = [
            str(folder / word)
            if word.endswith(".nc") or (folder / word).exists()
            else word
            for word in command.split()
        ]
        if not quiet:
            print(f"\n{question}".rstrip())
            print(f"$ rhodolite {shlex.join(words)}", flush=True)
        dispatch(
            [*words, *(["--overwrite"] if overwrite and "-o" in words else [])], quiet
        )
    path = folder / STUDY
    study = read_study(path)
    if not quiet:
        print(
            f"\n{study.title}\n$ rhodolite study {shlex.quote(str(path))}", flush=True
        )

    def tell(place: Path, size: tuple[int, int]) -> None:
        if not quiet:
            output = study.outputs.get(place.name)
            print(
                f"\n{output.heading if output else 'All of it on one page'}", flush=True
            )
            say(f"wrote {folder / place.name} ({file_size(size[1])})")

    StudyRun(study, fresh=overwrite, overwrite=overwrite).run(engine, tell)
    if not quiet:
        print(
            f"\nThe files and pictures are in {folder}, and all on one page in report.html."
        )
