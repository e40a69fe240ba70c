"""Answers of queries: CoverageJSON (OGC 21-069r2) and CSV."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.axes import Role, is_in_order
from rhodolite.model.cf.classes import words_of_classes
from rhodolite.model.space.extent import find_ends, increasing
from rhodolite.plain_text import number_or_none, write_number
from rhodolite.server.asked import CRS84, EPSG_4326
from rhodolite.server.layers import Layer
from rhodolite.server.limits import Refused

_CALENDARS = "https://cfconventions.org/cf-conventions/cf-conventions.html#calendar"
"""What names calendars that CoverageJSON has no word for, with the name in CF after it."""


@dataclass
class Part:
    """What a query asks of a layer: indices along each axis.

    Parameters
    ----------
    layer : Layer
    rows, columns, steps, levels : ndarray of int
    parts : ndarray, optional
        What part of the cells at rows and columns counts; 0 of those that are not meant. All of
        each by default.
    """

    layer: Layer
    rows: Array
    columns: Array
    steps: Array
    levels: Array
    parts: Array | None = None

    @property
    def size(self) -> int:
        """How many values it has."""
        return self.steps.size * self.levels.size * self.rows.size * self.columns.size


def centres_of(layer: Layer, rows: Array, columns: Array) -> tuple[Array, Array]:
    """Return latitudes and longitudes of cells, shape (rows, columns)."""
    if layer.grid.regular:
        north, east = (
            _coordinate(layer, role)[cells]
            for role, cells in ((Role.LATITUDE, rows), (Role.LONGITUDE, columns))
        )
        return np.broadcast_arrays(north[:, None], east[None, :])  # type: ignore[return-value]
    return layer.grid.positions(rows, columns)


def _coordinate(layer: Layer, role: Role) -> Array:
    """Return the values of a coordinate in the precision of the file, so that 10.1 is no more."""
    coordinate = layer.served.dataset.need(role)
    precision = coordinate.variable.data.dtype
    return coordinate.values.astype(precision if precision.kind == "f" else "f8")


def coverage_of(
    parts: list[Part],
    values: list[Array],
    *,
    mean: bool,
    latitude_first: bool = False,
) -> dict[str, Any]:
    """Return one coverage, of variables that share the axes, or a collection of them.

    Parameters
    ----------
    parts : list of Part
    values : list of ndarray
        Of each part, shape (steps, levels, rows, columns), or (steps, levels) of means.
    mean : bool
        Whether they are means over the area.
    latitude_first : bool
        Whether positions are told in EPSG:4326 and not in CRS84.
    """
    by_domain: dict[str, dict[str, Any]] = {}
    for part, numbers in zip(parts, values, strict=True):
        coverage = _cover_layer(part, numbers, mean, latitude_first)
        shared = by_domain.setdefault(
            json.dumps(coverage["domain"], sort_keys=True), coverage
        )
        shared["parameters"] |= coverage["parameters"]
        shared["ranges"] |= coverage["ranges"]
    coverages = list(by_domain.values())
    if len(coverages) == 1:
        return coverages[0]
    return {"type": "CoverageCollection", "coverages": coverages}


def _cover_layer(
    part: Part, values: Array, mean: bool, latitude_first: bool
) -> dict[str, Any]:
    """Return a coverage of one layer, whose values have the axes time, level, row and column."""
    layer = part.layer
    values = values[:, :, None, None] if mean else values
    domain = _domain_of(part, mean, latitude_first)
    names = [name for name in "tzyx" if name in domain["axes"]]
    shape = [n for name, n in zip("tzyx", values.shape, strict=True) if name in names]
    return {
        "type": "Coverage",
        "domain": domain,
        "parameters": {layer.variable.name: describe_parameter(layer, in_english)},
        "ranges": {
            layer.variable.name: {
                "type": "NdArray",
                "dataType": "float" if layer.classes is None else "integer",
                "axisNames": names,
                "shape": shape,
                "values": [_json_value(layer, value) for value in values.reshape(-1)],
            }
        },
    }


def _json_value(layer: Layer, value: Any) -> float | int | None:
    number = number_or_none(value)
    if number is None or layer.classes is None:
        return number
    return int(number)


def _domain_of(part: Part, mean: bool, latitude_first: bool) -> dict[str, Any]:
    """Return the axes of a coverage and the systems that they count in; no axis where the layer has
    none."""
    layer = part.layer
    x, y = _positions(part, mean)
    axes: dict[str, Any] = {"x": {"values": x}, "y": {"values": y}}
    order, system = (["y", "x"], EPSG_4326) if latitude_first else (["x", "y"], CRS84)
    about_crs = {"type": "GeographicCRS", "id": system}
    referencing: list[dict[str, Any]] = [{"coordinates": order, "system": about_crs}]
    if layer.levels is not None:
        axes["z"] = {"values": layer.levels[part.levels].tolist()}
        about = layer.served.dataset.need(Role.LEVEL).variable
        vertical = {
            "type": "VerticalCRS",
            "cs": {
                "csAxes": [
                    {"name": {"en": about.quantity}, "unit": {"symbol": about.units}}
                ]
            },
        }
        referencing.append({"coordinates": ["z"], "system": vertical})
    if layer.time is not None:
        axes["t"] = {"values": [layer.moments[at] for at in part.steps]}
        time = {"type": "TemporalRS", "calendar": _calendar(layer)}
        referencing.append({"coordinates": ["t"], "system": time})
    kind = "Grid"
    if len(x) == len(y) == 1 and "z" not in axes:
        kind = "PointSeries" if "t" in axes else "Point"
    return {
        "type": "Domain",
        "domainType": kind,
        "axes": axes,
        "referencing": referencing,
    }


def _positions(part: Part, mean: bool) -> tuple[list[float], list[float]]:
    """Return longitudes and latitudes of the axes of a domain; of a mean, its area's middle."""
    latitudes, longitudes = centres_of(part.layer, part.rows, part.columns)
    if mean:
        ends = increasing(*find_ends(longitudes))
        return [sum(ends) / 2], [float(np.mean(latitudes))]
    if latitudes.size > 1 and not part.layer.grid.regular:
        raise Refused(
            400,
            f"{part.layer.variable.name} is on a grid of two-dimensional positions, which "
            "CoverageJSON has no grid for; ask for f=CSV, or over=area",
        )
    east, north = (
        map(number_or_none, part) for part in (_onward(longitudes[0]), latitudes[:, 0])
    )
    return list(east), list(north)  # type: ignore[arg-type]


def _onward(longitudes: Array) -> Array:
    """Return the longitudes of columns as numbers that go on across the seam of the data, since
    those of an axis are in order in CoverageJSON: 350 and 0 are -10 and 0."""
    if is_in_order(longitudes):
        return longitudes
    onward = np.unwrap(longitudes, period=360.0)
    return onward - 360.0 if onward.max() >= 360.0 else onward


def _calendar(layer: Layer) -> str:
    """Return the calendar as CoverageJSON names it: the usual one by a word, others by a URI."""
    assert layer.time is not None
    calendar = layer.time.calendar
    if calendar in ("standard", "gregorian", "proleptic_gregorian"):
        return "Gregorian"
    return f"{_CALENDARS}/{calendar}"


def describe_parameter(layer: Layer, say: Callable[[str], Any]) -> dict[str, Any]:
    """Return what a variable is.

    Parameters
    ----------
    layer : Layer
    say : callable
        Returns a text as the standard wants it: `in_english` in CoverageJSON, plain in EDR.
    """
    variable = layer.variable
    name = str(variable.attributes.get("standard_name", ""))
    observed: dict[str, Any] = {"label": say(variable.quantity)}
    if name:
        observed["id"] = f"http://vocab.nerc.ac.uk/standard_name/{name}/"
    described = {
        "type": "Parameter",
        "id": variable.name,
        "description": say(variable.quantity),
        "observedProperty": observed,
    }
    words = words_of_classes(variable)
    if words:
        observed["categories"] = [
            {"id": _category(word), "label": say(word)} for word in words.values()
        ]
        codes = {_category(word): int(number) for number, word in words.items()}
        return {**described, "categoryEncoding": codes}
    units = variable.units or "1"
    return {**described, "unit": {"label": say(units), "symbol": units}}


def _category(word: str) -> str:
    """Return what a class is called where others refer to it."""
    return word.replace(" ", "_")


def in_english(text: str) -> dict[str, str]:
    """Return a text with its language beside it."""
    return {"en": text}


def write_csv(parts: list[Part], values: list[Array], mean: bool) -> str:
    """Return values as a table, one row for each; parameters as for `coverage_of`."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["parameter", "units", "time", "level", "lat", "lon", "value"])
    for part, numbers in zip(parts, values, strict=True):
        layer = part.layer
        words = words_of_classes(layer.variable)
        latitudes, longitudes = centres_of(layer, part.rows, part.columns)
        about = [layer.variable.name, layer.variable.units or "1"]
        for step, at in enumerate(part.steps):
            time = layer.moments[at] if layer.moments else ""
            for level, place in enumerate(part.levels):
                height = layer.level_texts[place] if layer.level_texts else ""
                if mean:
                    writer.writerow(
                        [*about, time, height, "", "", _cell(numbers[step, level])]
                    )
                    continue
                for row, column in np.ndindex(latitudes.shape):
                    if part.parts is None or part.parts[row, column] > 0:
                        where = (
                            _cell(latitudes[row, column]),
                            _cell(longitudes[row, column]),
                        )
                        value = numbers[step, level, row, column]
                        cell = words.get(float(value), "") if words else _cell(value)
                        writer.writerow([*about, time, height, *where, cell])
    return text.getvalue()


def _cell(value: Any) -> str:
    number = number_or_none(value)
    return "" if number is None else write_number(number)
