"""The end of a verb that writes a dataset: plan it or write it, and say so."""

from __future__ import annotations

import time
from argparse import Namespace
from collections.abc import Iterable
from pathlib import Path

from rhodolite.cli.console import say, say_plan, written_line
from rhodolite.cli.engine import make_engine
from rhodolite.formats.layout import Layout
from rhodolite.model.dataset import Dataset
from rhodolite.pipeline.plan import plan_writing
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.writing import write


def write_out(
    dataset: Dataset,
    layout: Layout,
    options: Namespace,
    began: float,
    also_read: Iterable[Path] = (),
    origin: Origin | None = None,
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
    also_read : iterable of Path
        Other files that must not be replaced.
    origin : Origin, optional
        What was typed besides the steps.
    """
    output = Path(options.output)
    engine = make_engine(options.quiet, options.memory, options.workers, options.cluster)
    if options.plan:
        say_plan(plan_writing(dataset, output, layout, engine), output, engine)
        return
    written = write(
        dataset,
        output,
        engine=engine,
        overwrite=options.overwrite,
        layout=layout,
        also_read=also_read,
        origin=origin,
    )
    if not options.quiet:
        report_written(dataset, output, written, began)


def report_written(dataset: Dataset, output: Path, written: tuple[int, int], began: float) -> None:
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
    files = f", from {len(dataset.files)} file" + ("s" if len(dataset.files) != 1 else "")
    say(written_line(output, written, time.monotonic() - began, files))
