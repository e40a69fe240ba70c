"""`rhodolite join`: many files as one, as a collection that names them or as one written file."""

from __future__ import annotations

import dataclasses
import time
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import UsageError

if TYPE_CHECKING:
    from argparse import Namespace

    from rhodolite.cli.parser import Parser
    from rhodolite.formats.layout import Layout
    from rhodolite.model.dataset import Dataset
    from rhodolite.pipeline.inputs import Input

_DESCRIPTION = """\
Many files as one dataset: one after another in time, side by side in variables.

An output that ends in .toml is a collection: a small file that names the inputs, which are not
copied, and is from then on an input like any file; with --headers it opens at once, however many
they are. Any other output is written out in full.
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.options import add_inputs, add_variables
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.run_options import add_run_options

    usage = "rhodolite join INPUT... [options] -o OUTPUT"
    parser = Parser("join", description=_DESCRIPTION, usage=usage)
    add_inputs(parser)
    parser.add_argument(
        "--overlap",
        metavar="first|last",
        help="which file counts where two hold the same times, by when they begin",
    )
    parser.add_argument(
        "--headers",
        action="store_true",
        help="write the headers of the files beside a collection, so that it opens at once",
    )
    add_variables(parser)
    add_run_options(parser, members=False)
    return parser


def run(words: list[str], quiet: bool) -> int:  # noqa: ARG001
    """Run the verb and return its exit code."""
    from rhodolite.cli.options import need_inputs
    from rhodolite.cli.run_options import input_of, layout_of

    options = make_parser().parse(words)
    need_inputs(options.inputs, "join", "join 'year_*.nc' -o all.nc")
    if not options.output:
        raise UsageError(
            "join: no output; add -o all.nc, or -o all.toml for a collection"
        )
    source = input_of(vars(options))

    from rhodolite.cli.output import write_out
    from rhodolite.formats.atomic_output import check_output
    from rhodolite.formats.registry import COLLECTION
    from rhodolite.pipeline.splitting import output_kind

    began = time.monotonic()
    output = Path(options.output)
    is_collection = output.suffix.lower() in COLLECTION.suffixes
    layout = layout_of(vars(options), for_data=not is_collection)
    if is_collection:
        _refuse_for_collection(options, source, layout)
    elif options.headers:
        raise UsageError(
            "join: --headers is for collections; name an output such as all.toml"
        )
    kind = COLLECTION.kind if is_collection else output_kind(output, layout)
    inputs = [Path(name) for name in options.inputs]
    check_output(output, options.overwrite, inputs, kind)
    dataset = source.open().together
    if is_collection:
        _write_collection(dataset, options, source, began)
        return 0
    done = {"verb": "join"}
    if source.overlap is not None:
        done["overlap"] = str(source.overlap.value)
    recorded = dataclasses.replace(dataset, record=(done,))
    write_out(recorded, layout, options, began, source)
    return 0


def _refuse_for_collection(options: Namespace, source: Input, layout: Layout) -> None:
    """Refuse what is for files that are written out."""
    from rhodolite.formats.layout import USUAL_LAYOUT

    if options.plan or options.record or layout != USUAL_LAYOUT:
        raise UsageError(
            "join: a collection only names files; --plan, --record, --format, --chunks, "
            "--compression, --no-checksums, --unlimited and what tables are written like are for "
            "files that are written out"
        )
    has_marks = source.missing_value is not None
    if source.variables or has_marks or source.rules.settings():
        raise UsageError(
            "join: a collection only names files; --variable, --missing-value and how tables are "
            "read are for files that are written out"
        )


def _write_collection(
    dataset: Dataset, options: Namespace, source: Input, began: float
) -> None:
    """Write a collection, and the headers of its files if they are asked for."""
    from rhodolite.cli.output import report_written
    from rhodolite.formats.atomic_output import (
        check_output,
        complete_or_nothing,
        size_on_disk,
    )
    from rhodolite.formats.collection import write_collection, write_headers

    output, inputs = Path(options.output), [file.path for file in dataset.files]
    headers = output.with_suffix(".headers") if options.headers else None
    if headers is not None:
        check_output(headers, options.overwrite, inputs)
        with complete_or_nothing(headers, options.overwrite, inputs) as temporary:
            write_headers(
                temporary, headers, [(path, options.group) for path in inputs]
            )
    with complete_or_nothing(output, options.overwrite, inputs) as temporary:
        write_collection(
            temporary, output, options.inputs, source.overlap, options.group, headers
        )
    if not options.quiet:
        report_written(dataset, output, size_on_disk(output), began)
