"""The end of a verb that writes a dataset: plan it or write it, and say so."""

from __future__ import annotations

import time
from argparse import Namespace
from collections.abc import Iterable
from pathlib import Path

from rhodolite.cli.console import say, say_plan, written_line
from rhodolite.cli.engines import make_engine
from rhodolite.formats.chunking import Layout
from rhodolite.model.dataset import Dataset
from rhodolite.study.chain import write
from rhodolite.study.planning import plan_writing
from rhodolite.study.provenance import Origin


def write_out(
    dataset: Dataset,
    layout: Layout,
    options: Namespace,
    began: float,
    also_read: Iterable[Path] = (),
    origin: Origin | None = None,
) -> None:
    """Write a dataset as the run options ask, or say what would be done."""
    output = Path(options.output)
    engine = make_engine(options.quiet, options.memory, options.workers, options.cluster)
    if options.plan:
        say_plan(plan_writing(dataset, output, layout, engine), output, engine)
        return
    written = write(
        dataset, output, engine=engine, overwrite=options.overwrite, layout=layout, also_read=also_read, origin=origin
    )
    if not options.quiet:
        say_joined(dataset, output, written, began)


def say_joined(dataset: Dataset, output: Path, written: tuple[int, int], began: float) -> None:
    """Say in one line what was written, and from how many files."""
    files = f", from {len(dataset.files)} file" + ("s" if len(dataset.files) != 1 else "")
    say(written_line(output, written, time.monotonic() - began, files))
