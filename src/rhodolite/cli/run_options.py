"""Options that every verb has: where the result goes, how inputs are read, how work is done."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from typing import Any

from rhodolite.cli.help_pages import INPUTS, OUTPUT, TABLES
from rhodolite.cli.settings import Setting, find_setting
from rhodolite.cli.work_options import Once, add_work_options
from rhodolite.errors import UsageError, nearest_names
from rhodolite.formats.concatenate import Overlap
from rhodolite.formats.layout import ChunkUse, Compression, Layout, make_layout
from rhodolite.formats.reading_rules import ReadingRules
from rhodolite.formats.registry import FORMATS
from rhodolite.formats.table_style import make_style
from rhodolite.pipeline.inputs import Input


def add_run_options(
    parser: argparse.ArgumentParser, *, output: bool = True, members: bool = True
) -> None:
    """Add the options that every verb has; `members` where inputs can be those of an ensemble.

    Parameters
    ----------
    parser : argparse.ArgumentParser
    output : bool
        Whether the verb writes a file.
    members : bool
        Whether inputs can be members of an ensemble.
    """
    if output:
        _add_output_options(parser.add_argument_group(OUTPUT))
        _add_table_options(parser.add_argument_group(TABLES))
    _add_input_options(parser.add_argument_group(INPUTS), members=output and members)
    add_work_options(parser)


def _add_input_options(group: Any, *, members: bool) -> None:
    """Add the options of how inputs are read that do not say it themselves."""
    if members:
        group.add_argument(
            "--members",
            action="store_true",
            help="the inputs are members of an ensemble, one per file or pattern, not parts of "
            "one dataset",
        )
    group.add_argument(
        "--group",
        action=Once,
        metavar="NAME",
        help="the group to read of files that have groups",
    )
    group.add_argument(
        "--missing-value",
        action=Once,
        metavar="NUMBER",
        help="a number that stands for missing values, where the files do not say so",
    )
    group.add_argument(
        "--missing-text",
        action="append",
        metavar="TEXT,...",
        help="what stands for missing values in tables, besides what is usual",
    )
    group.add_argument(
        "--columns",
        action="append",
        metavar="NAME,...",
        help="what the columns of a table are called that has no header, such as "
        "'time,lat,lon,rain [mm]'",
    )
    group.add_argument(
        "--skip-unreadable",
        action="store_true",
        help="leave out files that cannot be read, and name them",
    )


def input_of(options: Mapping[str, Any]) -> Input:
    """Return which files are to be read, and how.

    Parameters
    ----------
    options : mapping
        The inputs, and run options, by name.
    """
    overlap = options.get("overlap")
    if overlap is not None and overlap not in list(Overlap):
        raise UsageError(
            f"--overlap: '{overlap}' is not offered. {nearest_names(overlap, Overlap)}"
        )
    return Input(
        "data",
        tuple(options["inputs"]),
        options.get("group"),
        bool(options.get("members")),
        parse_number("--missing-value", options.get("missing_value")),
        None if overlap is None else Overlap(overlap),
        _listed(options.get("variable")),
        options.get("description"),
        reading_rules(options),
    )


def reading_rules(options: Mapping[str, Any]) -> ReadingRules:
    """Return how inputs are read, where they do not say it themselves.

    Parameters
    ----------
    options : mapping
        Run options by name.
    """
    return ReadingRules(
        _listed(options.get("missing_text")),
        _listed(options.get("columns")),
        bool(options.get("skip_unreadable")),
    )


def _listed(texts: Sequence[str] | None) -> tuple[str, ...]:
    return tuple(word.strip() for text in texts or () for word in text.split(","))


def _add_output_options(group: Any) -> None:
    """Add the options of verbs that write a file."""
    group.add_argument(
        "-o",
        "--output",
        action=Once,
        metavar="FILE",
        help="where the result goes; its suffix says what is written; - is a table, or a picture, "
        "on standard output",
    )
    group.add_argument(
        "--overwrite", action="store_true", help="replace an existing output"
    )
    group.add_argument(
        "--format",
        action=Once,
        metavar="NAME",
        help="a variant of what the suffix names: " + _variants(),
    )
    group.add_argument(
        "--chunks",
        action=Once,
        metavar="|".join(ChunkUse),
        help="access pattern to optimise chunking for (default: that of the input)",
    )
    group.add_argument(
        "--compression",
        action=Once,
        metavar="|".join(Compression),
        help="compression level (default: fast)",
    )
    group.add_argument(
        "--no-checksums",
        action="store_true",
        help="write chunks without the checksums by which readers notice damage",
    )
    group.add_argument(
        "--unlimited", action="store_true", help="make time a dimension that can grow"
    )
    group.add_argument(
        "--plan",
        "--dry-run",
        action="store_true",
        help="say what would be read and written, and stop",
    )
    group.add_argument(
        "--record",
        action=Once,
        metavar="FILE.toml",
        help="write what was typed as a study, which makes the output again",
    )


def _add_table_options(group: Any) -> None:
    """Add the options of how tables are written."""
    group.add_argument(
        "--raw",
        action="store_true",
        help="write text into tables as it is, even if a spreadsheet would run it as a formula",
    )
    group.add_argument(
        "--all",
        action="store_true",
        help="write a table also of more than 10 million rows",
    )
    group.add_argument(
        "--decimal",
        action=Once,
        metavar="point|comma",
        help="decimal mark of a table; with a comma, semicolons stand between columns "
        "(default: point)",
    )
    group.add_argument(
        "--sort",
        action=Once,
        metavar="NAME[:down]",
        help="order the rows of a table by a column; with :down, the largest come first",
    )
    group.add_argument(
        "--first", action=Once, metavar="N", help="write the first N rows of a table"
    )
    group.add_argument(
        "--across",
        action=Once,
        metavar="NAME",
        help="give a table a column for each place along a dimension, such as region",
    )


def _variants() -> str:
    return ", ".join(name for known in FORMATS for name in known.variants)


def layout_of(options: Mapping[str, Any], *, for_data: bool = True) -> Layout:
    """Return the layout that run options ask for, with the user's default of the compression.

    Parameters
    ----------
    options : mapping
        Run options by name.
    for_data : bool
        Whether data are written; figures and collections have no compression.
    """
    given = options.get("compression")
    asked = Setting(given, "--compression") if given else None
    if asked is None and for_data:
        asked = find_setting("compression")
    text, origin = asked or (None, "--compression")
    return make_layout(
        options.get("format"),
        options.get("chunks"),
        text,
        unlimited=bool(options.get("unlimited")),
        option=origin,
        checksums=not options.get("no_checksums"),
        table=make_style(
            raw=bool(options.get("raw")),
            all_rows=bool(options.get("all")),
            decimal=options.get("decimal"),
            sort=options.get("sort"),
            first=options.get("first"),
            across=options.get("across"),
        ),
    )


def parse_number(option: str, text: str | None) -> float | None:
    """Return the number that an option gives; None where it is not given."""
    if text is None:
        return None
    try:
        return float(text)
    except ValueError:
        raise UsageError(f"{option}: '{text}' is not a number") from None
