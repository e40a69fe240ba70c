"""The formats that can be read and written, as a table for people or machines."""

from __future__ import annotations

import json
import shutil
from typing import Any

from rhodolite.formats.extras import has_extra, install_command
from rhodolite.formats.registry import Format, known_formats

_OTHERS = (
    ("DAP2", "http://... https://...", True, False),
    ("outlines", ".geojson .json .topojson .shp .gpkg .kml .wkt", True, False),
    ("figures", ".png .svg .pdf", False, True),
    ("animations", ".gif", False, True),
)
"""What is read or written besides datasets: name, suffixes, whether read, whether written."""
_NOTE = "Suffixes in brackets are read, and not written."


def formats_page(*, as_json: bool) -> str:
    """Return the formats, each with its suffixes, what can be done with it, and what is to be
    installed for that."""
    rows = [_row(known) for known in known_formats()]
    sheets = "" if has_extra("tables") else install_command("tables")
    rows.append(_other("workbook", ".xlsx", True, False, sheets))
    rows += [_other(*described) for described in _OTHERS]
    film = "" if shutil.which("ffmpeg") else "ffmpeg"
    rows.append(_other("films", ".mp4", False, True, film))
    if as_json:
        return json.dumps(rows, indent=2)
    titles = ("Format", "Suffixes", "Read", "Written", "To install")
    table = [titles, *(_words(row) for row in rows)]
    widths = [max(len(line[at]) for line in table) for at in range(len(titles))]
    lines = (
        "  ".join(text.ljust(width) for text, width in zip(line, widths, strict=True))
        for line in table
    )
    return "\n".join([*(line.rstrip() for line in lines), "", _NOTE])


def _other(
    name: str, suffixes: str, read: bool, written: bool, needs: str = ""
) -> dict[str, Any]:
    return {
        "format": name,
        "suffixes": suffixes,
        "read": read,
        "written": written,
        "needs": needs,
    }


def _row(known: Format) -> dict[str, Any]:
    missing = bool(known.extra) and not has_extra(known.extra)
    needs = install_command(known.extra) if missing else ""
    suffixes = " ".join(known.suffixes)
    if known.also_read:
        suffixes += f" ({' '.join(known.also_read)})"
    return _other(known.name, suffixes, True, known.writable, needs)


def _words(row: dict[str, Any]) -> tuple[str, ...]:
    marks = tuple("yes" if row[key] else "-" for key in ("read", "written"))
    return (row["format"], row["suffixes"], *marks, row["needs"])
