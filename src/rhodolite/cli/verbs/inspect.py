"""`rhodolite inspect`: the summary of a dataset for people."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rhodolite.cli.parser import Parser

_DESCRIPTION = """\
What a dataset holds, in people's terms: where, when, at which heights, and which variables.

Several files are summarised as the one dataset that they form. Without --statistics only the
description in the files is read, which takes no time however large they are.
"""
_COLUMNS = 3


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.options import add_inputs
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.run_options import add_run_options

    parser = Parser(
        "inspect",
        description=_DESCRIPTION,
        usage="rhodolite inspect INPUT... [options]",
    )
    add_inputs(parser)
    parser.add_argument(
        "--variable", metavar="NAME", help="everything about one variable"
    )
    parser.add_argument(
        "--statistics",
        action="store_true",
        help="read the data for missing share, range and mean",
    )
    parser.add_argument(
        "--json", action="store_true", help="print the same for machines to read"
    )
    parser.add_argument(
        "--members",
        action="store_true",
        help="the inputs are members of an ensemble, one per file or pattern, and are summarised "
        "one by one",
    )
    parser.add_argument(
        "--regions", action="store_true", help="list the countries that --region knows"
    )
    parser.add_argument(
        "--formats",
        action="store_true",
        help="list what can be read and written here, and what is to be installed for the rest",
    )
    add_run_options(parser, output=False)
    return parser


def run(words: list[str], quiet: bool) -> int:  # noqa: ARG001
    """Run the verb and return its exit code."""
    from rhodolite.cli.console import show, show_json
    from rhodolite.cli.engine import make_engine
    from rhodolite.cli.options import need_inputs
    from rhodolite.cli.run_options import input_of

    options = make_parser().parse(words)
    if options.regions:
        print(_regions_page(as_json=options.json))
        return 0
    if options.formats:
        from rhodolite.inspection.formats_page import formats_page

        print(formats_page(as_json=options.json))
        return 0
    need_inputs(options.inputs, "inspect", "inspect data.nc")

    from rhodolite.inspection.page import dataset_page, variable_page
    from rhodolite.inspection.summary import describe, describe_variable

    engine = make_engine(options.quiet, vars(options))
    stage = input_of({**vars(options), "variable": None}).open().normalised
    pages: list[str] = []
    summaries: list[dict[str, Any]] = []
    for dataset, name in zip(stage.members, stage.names, strict=True):
        if options.variable:
            summary = describe_variable(
                dataset, options.variable, engine, statistics=options.statistics
            )
        else:
            summary = describe(dataset, engine, statistics=options.statistics)
        text = variable_page(summary) if options.variable else dataset_page(summary)
        pages.append(f"{name}: {text}" if name else text)
        summaries.append({"member": name, **summary} if name else summary)
    if options.json:
        show_json(summaries if options.members else summaries[0])
    else:
        show("\n\n".join(pages))
    return 0


def _regions_page(*, as_json: bool) -> str:
    """Write the names of all areas that ship with the program, in columns."""
    from rhodolite.regions.outlines import LAND, SEA, country_names

    names = [*country_names(), LAND, SEA]
    if as_json:
        return json.dumps(names, indent=2, ensure_ascii=False)
    width = max(map(len, names)) + 2
    rows = -(-len(names) // _COLUMNS)
    lines = [
        "".join(name.ljust(width) for name in names[row::rows]).rstrip()
        for row in range(rows)
    ]
    return "\n".join(
        [
            f"{len(names)} areas for --region; outlines in files are FILE.geojson or "
            "FILE.shp#FEATURE",
            "",
            *lines,
        ]
    )
