"""Attributes by which others find a dataset (ACDD 1.3): what it holds, and where and when."""

from __future__ import annotations

import datetime
import re
from typing import Any

import numpy as np

from rhodolite.arrays import Array, whole
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.extent import find_ends
from rhodolite.model.time.time_axis import TimeAxis

_ISO = "%Y-%m-%dT%H:%M:%S"
_PREFIXES = ("geospatial_", "time_coverage_")
_VOCABULARY = "CF Standard Names"
_OWN_SUMMARY = re.compile(r"Holds [^.]+(?:, from \d[^.]* to [^.]+)?\.")
"""The sentence written here, which is written anew; others are left as they are."""
_DURATIONS = {
    "year": "P{}Y",
    "month": "P{}M",
    "day": "P{}D",
    "hour": "PT{}H",
    "second": "PT{}S",
}
_EXTENTS = {Role.LATITUDE: "lat", Role.LONGITUDE: "lon", Role.LEVEL: "vertical"}
_MOST_NAMED = 8


def discovery_attributes(dataset: Dataset) -> dict[str, Any]:
    """Return what a dataset holds, and its extents for the coordinates that it has, as
    attributes.
    """
    attributes: dict[str, Any] = _contents(dataset)
    for role, word in _EXTENTS.items():
        coordinate = dataset.coordinate(role)
        if coordinate is None or not coordinate.values.size:
            continue
        if np.isfinite(coordinate.values).all():
            units = coordinate.variable.units
            attributes |= _geospatial(word, *_extent(coordinate), units)
    attributes |= _extents_of_positions(dataset)
    level = dataset.coordinate(Role.LEVEL)
    if level is not None and "positive" in level.variable.attributes:
        positive = level.variable.attributes["positive"]
        attributes["geospatial_vertical_positive"] = positive
    if dataset.time is not None and len(dataset.time):
        attributes |= _coverage(dataset.time)
    return attributes


def _extents_of_positions(dataset: Dataset) -> dict[str, Any]:
    """Return the extents of places that have a latitude and a longitude each."""
    positions = dataset.axes.curvilinear or dataset.axes.sites or ()
    attributes: dict[str, Any] = {}
    for name, role in zip(positions, (Role.LATITUDE, Role.LONGITUDE), strict=False):
        variable = dataset.variables[name]
        values = np.asarray(variable.floats().read(whole(variable.shape)))
        if np.isfinite(values).any():
            ends = _ends(values, role)
            units = variable.units or "degree"
            attributes |= _geospatial(_EXTENTS[role], *ends, units)
    return attributes


def _geospatial(
    word: str, low: float, high: float, units: str | None
) -> dict[str, Any]:
    extent = {f"geospatial_{word}_min": low, f"geospatial_{word}_max": high}
    return extent | ({f"geospatial_{word}_units": units} if units else {})


def _contents(dataset: Dataset) -> dict[str, Any]:
    """Return summary and keywords, where the dataset has none of its own."""
    contents: dict[str, Any] = {}
    given = dataset.attributes
    if dataset.fields and not str(given.get("summary", "")).strip():
        contents["summary"] = _summary(dataset)
    names = [
        str(v.attributes.get("standard_name", "")).split(" ")[0] for v in dataset.fields
    ]
    names = [name for name in dict.fromkeys(names) if name]
    if names and not str(given.get("keywords", "")).strip():
        contents |= {"keywords": ", ".join(names), "keywords_vocabulary": _VOCABULARY}
    return contents


def _summary(dataset: Dataset) -> str:
    """Return one sentence on what a dataset holds, such as `Holds precipitation, from 2001-01 to
    2010-12.`"""
    quantities = list(
        dict.fromkeys(v.quantity.replace(".", "") for v in dataset.fields)
    )
    more = len(quantities) - _MOST_NAMED
    named = quantities[:_MOST_NAMED] + (
        [f"{more} other quantities"] if more > 0 else []
    )
    text = ", ".join(named[:-1]) + (" and " if len(named) > 1 else "") + named[-1]
    if dataset.time is not None and len(dataset.time):
        text += ", from {} to {}".format(*_days_covered(dataset.time))
    return f"Holds {text}."


def _coverage(axis: TimeAxis) -> dict[str, str]:
    """Return first and last moment, duration and resolution."""
    start, end = _period(axis)
    coverage = {"time_coverage_start": start, "time_coverage_end": end}
    if axis.climatological:
        return coverage
    step = axis.resolution
    if step.unit in _DURATIONS:
        coverage["time_coverage_resolution"] = _DURATIONS[step.unit].format(step.count)
    if axis.cells is not None and np.isfinite(axis.cells).all():
        coverage["time_coverage_duration"] = _duration(*axis.to_dates(axis.ends))
    return coverage


def _duration(first: Any, last: Any) -> str:
    """Return the time between two dates in ISO 8601: in years or months where it is whole, else in
    days and hours."""
    same = [
        getattr(first, part) == getattr(last, part)
        for part in ("day", "hour", "minute")
    ]
    months = (last.year - first.year) * 12 + last.month - first.month
    if all(same) and months:
        return f"P{months // 12}Y" if months % 12 == 0 else f"P{months}M"
    hours = round((last - first).total_seconds() / 3600)
    return f"P{hours // 24}D" + (f"T{hours % 24}H" if hours % 24 else "")


def drop_discovery_attributes(attributes: dict[str, Any]) -> dict[str, Any]:
    """Return attributes without extents, nor summary and keywords that were written here, which are
    no longer true when data have been chosen from.
    """
    dropped = set()
    if _OWN_SUMMARY.fullmatch(str(attributes.get("summary", ""))):
        dropped.add("summary")
    if attributes.get("keywords_vocabulary") == _VOCABULARY:
        dropped |= {"keywords", "keywords_vocabulary"}
    return {
        key: value
        for key, value in attributes.items()
        if not key.startswith(_PREFIXES) and key not in dropped
    }


def _extent(coordinate: Coordinate) -> tuple[float, float]:
    """Return minimum and maximum coordinate, those of the cells' bounds where there are some."""
    edges = coordinate.values if coordinate.bounds is None else coordinate.bounds
    edges = edges if np.isfinite(edges).all() else coordinate.values
    return _ends(edges, coordinate.role)


def _ends(values: Array, role: Role) -> tuple[float, float]:
    """Return where coordinates begin and end: longitudes where their way east does, so that the
    first is above the second across the dateline, as ACDD 1.3 has it."""
    if role == Role.LONGITUDE:
        return find_ends(values)
    return float(np.nanmin(values)), float(np.nanmax(values))


def _days_covered(axis: TimeAxis) -> tuple[str, str]:
    """Return the first and the last day, as dates."""
    start, end = _period(axis)
    if axis.cells is not None and end.endswith("T00:00:00"):
        # The midnight at which a step ends belongs to the day before.
        last = axis.to_dates(axis.ends[1:])[0] - datetime.timedelta(days=1)
        end = last.strftime(_ISO)
    return start[:10], end[:10]


def _period(axis: TimeAxis) -> tuple[str, str]:
    """Return in ISO 8601 when the first step begins and the last one ends."""
    ends = axis.ends
    if not np.isfinite(ends).all():
        ends = np.array([axis.numbers.min(), axis.numbers.max()])
    first, last = axis.to_dates(ends)
    return first.strftime(_ISO), last.strftime(_ISO)
