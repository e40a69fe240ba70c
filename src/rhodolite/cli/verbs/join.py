"""`rhodolite join`: many files as one, as a collection that names them or as one written file."""

from __future__ import annotations

import dataclasses
import shlex
import time
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import UsageError, nearest_names

if TYPE_CHECKING:
    from rhodolite.cli.options import Parser

_DESCRIPTION = """\
Many files as one dataset: one after another in time, side by side in variables.

An output that ends in .toml is a collection: a small file that names the inputs, which are not
copied, and is from then on an input like any file. Any other output is written out in full.
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.options import Parser, add_run_options

    usage = "rhodolite join INPUT... [options] -o OUTPUT"
    parser = Parser("join", description=_DESCRIPTION, usage=usage)
    parser.add_argument(
        "inputs", nargs="*", metavar="INPUT", help="files, or patterns such as 'year_*.nc'"
    )
    parser.add_argument(
        "--overlap",
        metavar="first|last",
        help="which file counts where two hold the same times, by when they begin",
    )
    parser.add_argument(
        "--variable", metavar="NAME,...", action="append", help="the variables to take"
    )
    add_run_options(parser, members=False)
    return parser


def run(words: list[str], quiet: bool) -> int:  # noqa: ARG001
    """Run the verb and return its exit code.

    Parameters
    ----------
    words : list of str
        Words of the command line.
    quiet : bool
        Whether only errors are printed.
    """
    from rhodolite.cli.options import apply_declared, layout_of
    from rhodolite.formats.concatenate import Overlap

    options = make_parser().parse(words)
    if not options.inputs:
        raise UsageError(
            "join: no input; name the files to join, such as rhodolite join 'year_*.nc' -o all.nc"
        )
    if not options.output:
        raise UsageError("join: no output; add -o all.nc, or -o all.toml for a collection")
    if options.overlap is not None and options.overlap not in list(Overlap):
        raise UsageError(
            f"--overlap: '{options.overlap}' is not offered. "
            f"{nearest_names(options.overlap, Overlap)}"
        )

    from rhodolite.cli.output import report_written, write_out
    from rhodolite.formats.atomic_output import check_output, complete_or_nothing, size_on_disk
    from rhodolite.formats.collection import write_collection
    from rhodolite.formats.layout import USUAL_LAYOUT
    from rhodolite.formats.open import open_dataset
    from rhodolite.formats.registry import COLLECTION, format_for
    from rhodolite.pipeline.provenance import Origin

    began = time.monotonic()
    output = Path(options.output)
    overlap = None if options.overlap is None else Overlap(options.overlap)
    is_collection = output.suffix.lower() in COLLECTION.suffixes
    layout = layout_of(vars(options), for_data=not is_collection)
    if is_collection and (options.plan or layout != USUAL_LAYOUT):
        raise UsageError(
            "join: a collection only names files; --plan, --format, --chunks, --compression and "
            "--unlimited are for files that are written out"
        )
    kind = COLLECTION.kind if is_collection else format_for(output, layout).kind
    check_output(output, options.overwrite, [Path(name) for name in options.inputs], kind)
    dataset = open_dataset(options.inputs, overlap, options.group)
    if is_collection and (options.variable or options.missing_value):
        raise UsageError(
            "join: a collection only names files; --variable and --missing-value are for files "
            "that are written out"
        )
    dataset = apply_declared(dataset, options.variable, options.missing_value)
    if not is_collection:
        done = {"verb": "join"} if overlap is None else {"verb": "join", "overlap": overlap.value}
        more = [
            f"--{name}" if value is True else f"--{name} {shlex.quote(value)}"
            for name, value in (
                ("group", options.group),
                ("missing-value", options.missing_value),
                ("variable", ",".join(options.variable or ())),
            )
            if value
        ]
        write_out(
            dataclasses.replace(dataset, record=(done,)),
            layout,
            options,
            began,
            origin=Origin(tuple(options.inputs), tuple(more)),
        )
        return 0
    with complete_or_nothing(
        output, options.overwrite, [file.path for file in dataset.files]
    ) as temporary:
        write_collection(temporary, output, options.inputs, overlap, options.group)
    if not options.quiet:
        report_written(dataset, output, size_on_disk(output), began)
    return 0
