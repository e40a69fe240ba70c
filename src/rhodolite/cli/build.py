"""`rhodolite build`: a dataset that explains itself, from tables or text grids and a description."""

from __future__ import annotations

import time
from pathlib import Path

from rhodolite.errors import UsageError

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
"""


def run_build(words: list[str]) -> None:
    """Run the verb."""
    from rhodolite.cli.options import Parser, add_run_options

    usage = "rhodolite build INPUT... --description FILE -o OUTPUT"
    parser = Parser("build", description=_DESCRIPTION, usage=usage)
    parser.add_argument("inputs", nargs="*", metavar="INPUT", help="tables, text grids, or the folder of the grids")
    parser.add_argument("--description", metavar="FILE", help="what the files do not say, as TOML")
    add_run_options(parser)
    options = parser.parse(words)
    if not options.inputs:
        raise UsageError("build: no input; name the tables or grids, such as rhodolite build 'rain_*.asc' ...")
    if not options.description:
        raise UsageError("build: no description; add --description FILE ('rhodolite build --help' shows one)")
    if not options.output:
        raise UsageError("build: no output; add -o FILE, such as -o result.nc")

    from rhodolite.cli.writing import write_out
    from rhodolite.formats.atomic import check_output
    from rhodolite.formats.chunking import make_layout
    from rhodolite.formats.registry import format_for
    from rhodolite.study.building import build

    began = time.monotonic()
    output, description = Path(options.output), Path(options.description)
    layout = make_layout(options.format, options.chunks, options.compression, options.unlimited)
    kind = format_for(output, layout).kind
    check_output(output, options.overwrite, [description, *map(Path, options.inputs)], kind)
    dataset = build(options.inputs, description)
    write_out(dataset, layout, options, began, also_read=[description])
