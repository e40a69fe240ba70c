"""What a dataset and a variable hold, as text for people: the pages that `inspect` prints."""

from __future__ import annotations

import shlex
from typing import Any

from rhodolite.model.cf.vocabulary import STUDY
from rhodolite.plain_text import cut_text, file_size, make_all_visible, write_rounded

_MARGIN = 9
_LONGEST_TITLE, _LONGEST_CELL, _LONGEST_HISTORY = 500, 120, 160


def dataset_page(summary: dict[str, Any]) -> str:
    """Write the summary of a dataset as text.

    Parameters
    ----------
    summary : mapping of str to object
        What `describe` returns.
    """
    summary = make_all_visible(summary)
    lines = [_files_line(summary["files"])]
    if summary["title"]:
        lines.append(cut_text(summary["title"], _LONGEST_TITLE))
    for title, text in (
        ("Groups", _groups(summary["files"])),
        ("Where", _where(summary["where"])),
        ("When", _when(summary["when"])),
        ("Height", _height(summary["height"])),
        ("Made", _making(summary)),
    ):
        lines += ["", *_section(title, text)] if text else []
    lines += ["", *_variable_table(summary["variables"])]
    doubts = _doubts(summary["variables"])
    lines += ["", *doubts] if doubts else []
    if not any("statistics" in variable for variable in summary["variables"]):
        lines += [
            "",
            "Missing share and range are read from the data with --statistics.",
        ]
    return "\n".join(lines)


def variable_page(summary: dict[str, Any]) -> str:
    """Write everything about one variable as text.

    Parameters
    ----------
    summary : mapping of str to object
        What `describe` returns.
    """
    summary = make_all_visible(summary)
    sizes = [f"{n} {name}" for name, n in summary["dimensions"].items()]
    lines = [
        f"{summary['name']}: {summary['quantity']}, in {summary['units'] or 'no units'}",
        " x ".join(sizes) or "a single value",
    ]
    if summary["temperature"]:
        lines.append(f"read as a temperature: {summary['temperature']}")
    lines += ["", *_section("Stored", _storage_words(summary))]
    if "statistics" in summary:
        lines += ["", *_section("Values", _statistics_words(summary))]
    titles = ["Along", "which is", "steps", "first", "last", "step", "units", "bounds"]
    rows = [_coordinate_row(coordinate) for coordinate in summary["coordinates"]]
    lines += ["", *_table(titles, rows), "", "Attributes"]
    attributes = summary["attributes"]
    width = max(map(len, attributes), default=0)
    lines += [f"  {key:<{width}}  {value}" for key, value in attributes.items()]
    return "\n".join(lines)


def _storage_words(summary: dict[str, Any]) -> list[str]:
    storage = summary["storage"]
    words = [f"{summary['type']}, {file_size(storage['bytes_unpacked'])} when unpacked"]
    if packing := storage["packing"]:
        words.append(
            f"packed: value = stored x {packing['scale']:g} + {packing['offset']:g}"
        )
    if storage["fill_value"] is not None:
        words.append(f"missing values are stored as {storage['fill_value']:g}")
    if not storage["chunks"]:
        return [*words, "in one piece, not compressed"]
    chunk = " x ".join(map(str, storage["chunks"]))
    how = ", ".join(storage["compression"]) or "not compressed"
    return [*words, f"in chunks of {chunk}, {how}"]


def _coordinate_row(coordinate: dict[str, Any]) -> list[str]:
    ends = [_end(coordinate[key]) for key in ("first", "last", "step")]
    count, bounds = str(coordinate["count"]), "yes" if coordinate["bounds"] else "no"
    named = [coordinate["name"], coordinate["role"]]
    return [*named, count, *ends, coordinate["units"], bounds]


def _files_line(files: list[dict[str, Any]]) -> str:
    if not files:
        return "a dataset in memory"
    names = [file["name"] for file in files]
    formats = ", ".join(dict.fromkeys(file["format"] for file in files))
    known = [file["bytes"] for file in files if file["bytes"] is not None]
    size = f", {file_size(sum(known))}" if known else ""
    if len(names) == 1:
        return f"{names[0]}  ({formats}{size})"
    return f"{names[0]} ... {names[-1].rsplit('/', 1)[-1]}  ({len(names)} files, {formats}{size})"


def _groups(files: list[dict[str, Any]]) -> list[str]:
    named = list(
        dict.fromkeys(group for file in files for group in file.get("groups", ()))
    )
    if not named:
        return []
    return [
        cut_text(", ".join(named), _LONGEST_TITLE),
        f"one alone is read as FILE:{named[0]}",
    ]


def _where(where: dict[str, Any] | None) -> list[str]:
    if where is None:
        return ["no latitude and longitude were found"]
    if "unreadable" in where:
        return [where["unreadable"]]
    if where["grid"] == "curvilinear":
        return [*_extent(where), *_curvilinear(where)]
    if where["grid"] == "sites":
        return [*_extent(where), _sites(where)]
    return _regular(where)


def _steps(row: float | None, column: float | None) -> str:
    """Return how far apart rows and columns are; nothing where they are uneven."""
    if row is None or column is None:
        return ""
    if row == column:
        return f" of {row:g} degrees"
    return f" of {row:g} x {column:g} degrees"


def _regular(where: dict[str, Any]) -> list[str]:
    from rhodolite.model.space.range_text import format_latitude, format_longitude

    rows, columns = where["latitude"], where["longitude"]
    if rows["count"] == columns["count"] == 1:
        return [
            f"one cell, {format_latitude(where['south'])}, {format_longitude(where['west'])}"
        ]
    extent = f"{format_latitude(where['south'])}..{format_latitude(where['north'])}, "
    extent += f"{format_longitude(where['west'])}..{format_longitude(where['east'])}"
    if where["global_round"]:
        extent += ", all the way round"
    count = (
        f"{_count(rows['count'], 'latitude')} x {_count(columns['count'], 'longitude')}"
    )
    spacing = "a single row or column"
    if where["grid"] != "single":
        spacing = f"{where['grid']} grid"
    spacing += _steps(rows["spacing"], columns["spacing"])
    direction = {
        "increasing": "rows run south to north",
        "decreasing": "rows run north to south",
        "neither": "rows go up and down, so that they have no order",
    }[rows["direction"]]
    convention = (
        ""
        if where["convention"] == "either"
        else f"; longitudes are counted {where['convention']}"
    )
    return [extent, f"{spacing}, {count}", f"{direction}{convention}"]


def _extent(where: dict[str, Any]) -> list[str]:
    from rhodolite.model.space.range_text import format_latitude, format_longitude

    if "south" not in where:
        return []
    south, north, west, east = (
        round(where[end], 2) for end in ("south", "north", "west", "east")
    )
    latitudes = f"{format_latitude(south)}..{format_latitude(north)}"
    return [f"{latitudes}, {format_longitude(west)}..{format_longitude(east)}"]


def _sites(where: dict[str, Any]) -> str:
    return (
        f"{_count(where['count'], where['of'])}; positions are in {where['latitude']} and "
        f"{where['longitude']}"
    )


def _curvilinear(where: dict[str, Any]) -> list[str]:
    cells = " x ".join(f"{count} {name}" for name, count in where["cells"].items())
    steps = [f"{step:.3g}" for step in where.get("spacing", []) if step is not None]
    spacing = (
        f", about {' x '.join(dict.fromkeys(steps))} degrees apart" if steps else ""
    )
    mapping = (
        f"; the projection is {where['mapping'].replace('_', ' ')}"
        if where["mapping"]
        else ""
    )
    return [
        f"curvilinear grid, {cells}{spacing}",
        f"positions are in {where['latitude']} and {where['longitude']}{mapping}",
    ]


def _count(count: int, what: str) -> str:
    return f"{count} {what}" + ("" if count == 1 else "s")


def _when(when: dict[str, Any] | None) -> list[str]:
    if when is None:
        return ["no time axis"]
    if "unreadable" in when:
        return [when["unreadable"]]
    clock = f", local time (UTC{when['utc_offset']})" if when["utc_offset"] else ""
    calendar = f"{when['calendar']} calendar{clock}"
    if "climatology_of" in when:
        first, last = when["climatology_of"]
        return [
            f"mean cycle of {when['count']} phases, over {first} to {last}",
            calendar,
        ]
    if when["count"] == 1:
        return [f"{when['first']}, {calendar}"]
    steps = [f"{when['count']:,} steps", when["step"]]
    if when["step"] != "irregular steps":
        missing = when["missing_steps"]
        steps.append(
            f"{missing:,} left out: {'; '.join(when['gaps'])}" if missing else "no gaps"
        )
    return [" to ".join(when["covers"]), ", ".join(steps), calendar]


def _height(height: dict[str, Any] | None) -> list[str]:
    if height is None:
        return ["no vertical axis"]
    shown = [f"{level:g}" for level in height["levels"]]
    if len(shown) > 20:
        shown = [*shown[:10], "...", *shown[-3:]]
    return [
        f"{height['count']} {'level' if height['count'] == 1 else 'levels'} of "
        f"{height['quantity']}",
        f"{', '.join(shown)} {height['units'] or ''}".strip(),
    ]


def _making(summary: dict[str, Any]) -> list[str]:
    """Return the last line of the history, and how to see all of it."""
    # Ends of lines are written out by now, as all that a terminal would obey.
    history = str(summary["attributes"].get("history", "")).strip().split("\\n")
    if not history[-1] or not summary["attributes"].get(STUDY):
        return []
    name = summary["files"][0]["name"] if len(summary["files"]) == 1 else "FILE"
    last = cut_text(history[-1], _LONGEST_HISTORY)
    return [
        last,
        f"rhodolite retrace {shlex.quote(name)} shows all of it, and makes it again",
    ]


def _variable_table(variables: list[dict[str, Any]]) -> list[str]:
    counted = any("statistics" in variable for variable in variables)
    header = ["Variable", "quantity", "units", "dimensions", "stored as"]
    header += ["missing", "minimum", "maximum", "mean"] if counted else []
    rows = []
    for variable in variables:
        stored = variable["type"] + (", packed" if variable["packing"] else "")
        row = [
            variable["name"],
            cut_text(variable["quantity"], _LONGEST_CELL),
            variable["units"] or "none",
            ", ".join(variable["dimensions"]),
            stored,
        ]
        if counted:
            row += _statistics_cells(variable.get("statistics"))
        rows.append(row)
    return _table(header, rows) if rows else ["no variables besides coordinates"]


def _statistics_cells(statistics: dict[str, Any] | None) -> list[str]:
    if statistics is None:
        return ["", "", "", ""]
    return [
        _share(statistics["missing_share"]),
        *(_number(statistics[key]) for key in ("minimum", "maximum", "mean")),
    ]


def _doubts(variables: list[dict[str, Any]]) -> list[str]:
    """Return a line for each variable whose values its quantity cannot have."""
    said = [(v["name"], v.get("statistics", {}).get("implausible")) for v in variables]
    return [f"{name}: {words}; see check --values" for name, words in said if words]


def _statistics_words(summary: dict[str, Any]) -> list[str]:
    numbers, units = summary["statistics"], summary["units"] or ""
    return [
        f"{numbers['values']:,} values, {_share(numbers['missing_share'])} of them missing",
        f"from {_number(numbers['minimum'])} to {_number(numbers['maximum'])} {units}".strip(),
        f"mean {_number(numbers['mean'])} {units}, weighted by the area of cells, the thickness of "
        "levels and the length of steps",
        *([numbers["implausible"]] if numbers["implausible"] else []),
    ]


def _share(share: float) -> str:
    if share == 0:
        return "none"
    return f"{share:.1%}" if share >= 0.001 else "under 0.1%"


def _number(value: float | str | None) -> str:
    if value is None:
        return "none"
    return value if isinstance(value, str) else write_rounded(value, 5)


def _end(value: Any) -> str:
    if value is None:
        return ""
    return f"{value:.7g}" if isinstance(value, float) else str(value)


def _section(title: str, lines: list[str]) -> list[str]:
    return [
        f"{title if at == 0 else '':<{_MARGIN}}{line}" for at, line in enumerate(lines)
    ]


def _table(header: list[str], rows: list[list[str]]) -> list[str]:
    widths = [max(len(row[at]) for row in [header, *rows]) for at in range(len(header))]
    return [
        "  ".join(
            cell.ljust(width) for cell, width in zip(row, widths, strict=True)
        ).rstrip()
        for row in [header, *rows]
    ]
