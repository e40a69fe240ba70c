"""A report as one page of HTML that needs nothing beside it."""

from __future__ import annotations

import base64
import csv
from collections.abc import Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from rhodolite.errors import OutputError
from rhodolite.plain_text import cut_text, make_visible
from rhodolite.reports.section import Section, Table

_KINDS = {
    ".png": "image/png",
    ".svg": "image/svg+xml",
    ".gif": "image/gif",
}
_MOST_ROWS, _MOST_COLUMNS, _LONGEST_CELL = 40, 12, 60


def render_page(
    title: str,
    text: str,
    sections: Sequence[Section],
    study: str,
    making: Mapping[str, Any],
) -> str:
    """Return the page.

    Parameters
    ----------
    title : str
    text : str
        What stands at its head; an empty line begins a paragraph.
    sections : sequence of Section
    study : str
        The study that makes it, as text.
    making : mapping of str to object
        What is on record of how it was made.
    """
    from jinja2 import Environment, PackageLoader, StrictUndefined

    environment = Environment(
        loader=PackageLoader("rhodolite.reports", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_make_printable,
    )
    sources = list(
        dict.fromkeys(source for section in sections for source in section.sources)
    )
    return environment.get_template("report.html").render(
        title=title,
        paragraphs=[part.strip() for part in text.split("\n\n") if part.strip()],
        sections=sections,
        sources=sources,
        study=study,
        made=making,
    )


def _make_printable(value: Any) -> Any:
    """Return what goes into the page; control characters are none that HTML may hold."""
    plain = isinstance(value, str) and not hasattr(value, "__html__")
    return make_visible(value) if plain else value


def embed_picture(path: Path) -> str:
    """Return a picture as an address that holds the whole of it; empty for a format that a page
    cannot show.
    """
    kind = _KINDS.get(path.suffix.lower())
    if kind is None:
        return ""
    return f"data:{kind};base64,{base64.b64encode(_read(path)).decode('ascii')}"


def read_rows(path: Path) -> Table:
    """Return the first rows and columns of a table that has been written."""
    lines = _read(path).decode("utf-8").splitlines()
    rows = list(islice(csv.reader(lines), _MOST_ROWS + 1))
    header, *body = [
        tuple(cut_text(cell, _LONGEST_CELL) for cell in row[:_MOST_COLUMNS])
        for row in rows
    ] or [()]
    return Table(header, tuple(body), max(len(lines) - 1 - len(body), 0))


def _read(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise OutputError(
            f"{path}: cannot be read for the report: {error.strerror or error}"
        ) from None
