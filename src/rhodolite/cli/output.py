"""The end of a verb that writes a dataset: plan it or write it, and say so."""

from __future__ import annotations

import functools
import time
from argparse import Namespace
from pathlib import Path

from rhodolite.cli.console import say, say_plan, written_line
from rhodolite.cli.engine import make_engine
from rhodolite.cli.recording import Recording, tell_carried
from rhodolite.errors import keeping_warnings
from rhodolite.formats.layout import Layout
from rhodolite.model.dataset import Dataset
from rhodolite.pipeline.inputs import Input
from rhodolite.pipeline.plan import plan_writing
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.writing import write
from rhodolite.studies.record import study_of_input


def write_out(
    dataset: Dataset,
    layout: Layout,
    options: Namespace,
    began: float,
    source: Input,
) -> None:
    """Write a dataset as the run options ask, or say what would be done.

    Parameters
    ----------
    dataset : Dataset
    layout : Layout
        How the output is to lie on disk.
    options : Namespace
        Run options.
    began : float
        Moment at which the work began.
    source : Input
        What the dataset was read from.
    """
    output = Path(options.output)
    engine = make_engine(options.quiet, vars(options))
    if options.plan:
        plan = plan_writing(dataset, output, layout, engine)
        say_plan(
            plan, output, engine, is_taken=output.exists() and not options.overwrite
        )
        return
    study = functools.partial(study_of_input, source, output, layout)
    recording = Recording(options.record, options.overwrite, study)
    described = [] if source.description is None else [source.description]
    with keeping_warnings() as warned:
        tell = functools.partial(
            tell_carried, study, [*source.files, *described], output, warned=warned
        )
        written = write(
            dataset,
            output,
            engine=engine,
            overwrite=options.overwrite,
            layout=layout,
            also_read=map(Path, described),
            origin=Origin(source.files, tuple(source.words()), tell),
        )
    recording.write()
    if not options.quiet:
        report_written(dataset, output, written, began)


def report_written(
    dataset: Dataset, output: Path, written: tuple[int, int], began: float
) -> None:
    """Say in one line what was written, and from how many files.

    Parameters
    ----------
    dataset : Dataset
    output : Path
    written : tuple[int, int]
        Number of files and of bytes.
    began : float
        Moment at which the work began.
    """
    files = f", from {len(dataset.files)} file" + (
        "s" if len(dataset.files) != 1 else ""
    )
    say(written_line(output, written, time.monotonic() - began, files))
