"""`rhodolite build`: a dataset that explains itself, from tables or text grids and a
description."""

from __future__ import annotations

import dataclasses
import time
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import UsageError

if TYPE_CHECKING:
    from rhodolite.cli.parser import Parser

_DESCRIPTION = """\
A dataset that explains itself, from tables (.csv) or text grids (.asc) and a description of them.

Text grids are one file for each time, with the date in the file's name; name the files or their
folder. The description is a TOML file with the title, the variables, their units and names:

  [dataset]
  title = "Rain over the catchment"

  [input]
  names = "rain_{year}{month}.asc"

  [variables.rain]
  units = "mm"
  long_name = "monthly rain"
  cell_methods = "time: sum"

[dataset] holds attributes of the dataset. [input] can also hold calendar and missing (a number
that stands for missing values). [columns] says which column of a table is time, lat, lon, level,
site or variable, where its name does not. [dimensions] holds lengths to be met, such as lat = 24.
A variable can also have from (its column, or its word in the names of files), standard_name,
comment, positive, type (float32 or float64) and attributes (a table of any others).
"""


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.options import add_inputs
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.run_options import add_run_options

    usage = "rhodolite build INPUT... --description FILE -o OUTPUT"
    parser = Parser("build", description=_DESCRIPTION, usage=usage)
    add_inputs(parser, "tables, text grids, or the folder of the grids")
    parser.add_argument(
        "--description", metavar="FILE", help="what the files do not say, as TOML"
    )
    add_run_options(parser, members=False)
    return parser


def run(words: list[str], quiet: bool) -> int:  # noqa: ARG001
    """Run the verb and return its exit code."""
    from rhodolite.cli.options import need_inputs
    from rhodolite.cli.run_options import input_of, layout_of

    options = make_parser().parse(words)
    need_inputs(options.inputs, "build", "build 'rain_*.asc' ...")
    if not options.description:
        raise UsageError(
            "build: no description; add --description FILE ('rhodolite build --help' shows one)"
        )
    if not options.output:
        raise UsageError("build: no output; add -o FILE, such as -o result.nc")

    from rhodolite.cli.output import write_out
    from rhodolite.formats.atomic_output import check_output
    from rhodolite.pipeline.splitting import output_kind

    began = time.monotonic()
    layout, output = layout_of(vars(options)), Path(options.output)
    read = [Path(options.description), *map(Path, options.inputs)]
    check_output(output, options.overwrite, read, output_kind(output, layout))
    source = input_of(vars(options))
    dataset = dataclasses.replace(source.open().together, record=({"verb": "build"},))
    write_out(dataset, layout, options, began, source)
    return 0
