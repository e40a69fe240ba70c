"""The page of one dataset: what a browser needs to draw its maps and series."""

from __future__ import annotations

import importlib.util
import re
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.model.axes import Role
from rhodolite.model.cf.classes import words_of_classes
from rhodolite.model.time.period_text import MONTH_TITLES
from rhodolite.model.time.time_labels import base_years, time_labels
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.units.udunits import pretty
from rhodolite.plain_text import write_number
from rhodolite.regions.coastlines import lines
from rhodolite.server.layers import Layer
from rhodolite.server.limits import Refused
from rhodolite.server.wms import Maps
from rhodolite.server.wms_asked import PALETTES

_ISO = re.compile(r"(-?\d{4,6})-(\d{2})(?:-(\d{2})(?:T(\d{2}:\d{2})(?::\d{2})?)?)?")
_OWN = {
    "first.js": "text/javascript",
    "view.js": "text/javascript",
    "view.css": "text/css",
}
_OF_BOKEH = ("bokeh.min.js", "bokeh-api.min.js")
_MARGIN = 0.04
_POLAR_CIRCLE, _FURTHEST = 55.0, 20.0
"""Latitude that data reach of which there are maps of a pole, and where coasts end on them."""
_POLAR_REACH = 5.2e6
"""Metres from a pole to the rim of its map, some 45 degrees."""
_OFTEN_ASKED_FOR = ("degC", "degF", "mm day-1", "mm month-1", "hPa", "km h-1", "%")


def describe_view(maps: Maps) -> dict[str, Any]:
    """Return the layers of a dataset with their times and levels, and where the map begins.

    Raises
    ------
    Refused
        If there is nothing to be drawn.
    """
    need_layers(maps)
    first = next(iter(maps.layers.values()))
    west, south, east, north = first.grid.extent
    if east - west >= 359:
        west, east = -180.0, 180.0
    elif west >= 180:
        west, east = west - 360, east - 360
    across, up = _MARGIN * (east - west), _MARGIN * (north - south)
    return {
        "title": maps.served.title,
        "view": [west - across, south - up, east + across, north + up],
        "layers": [_described(layer) for layer in maps.layers.values()],
        "palettes": list(PALETTES),
        "coast": coast("110m" if east - west > 60 else "50m"),
        "maps": _polar_maps(south, north),
    }


def _polar_maps(south: float, north: float) -> list[dict[str, Any]]:
    """Return the maps of the poles that data reach, with coasts in metres."""
    if importlib.util.find_spec("pyproj") is None:
        return []
    offered = [
        ("EPSG:3995", "North Pole", north > _POLAR_CIRCLE, 1),
        ("EPSG:3031", "South Pole", south < -_POLAR_CIRCLE, -1),
    ]
    reach = _POLAR_REACH
    return [
        {
            "crs": crs,
            "title": title,
            "view": [-reach, -reach, reach, reach],
            "coast": _coast_in(crs, sign),
        }
        for crs, title, is_reached, sign in offered
        if is_reached
    ]


@cache
def _coast_in(crs: str, sign: int) -> list[tuple[list[float], list[float]]]:
    """Return the coastlines of a hemisphere, in metres of a system."""
    from pyproj import Transformer

    transformer = Transformer.from_crs("OGC:CRS84", crs, always_xy=True)
    pieces = []
    for line in lines("coast", "110m"):
        near = line[:, 1] * sign > _FURTHEST
        # What leaves the map and comes back is two lines.
        for part in np.split(line, np.flatnonzero(np.diff(near)) + 1):
            if part[0, 1] * sign > _FURTHEST and len(part) > 1:
                x, y = transformer.transform(part[:, 0], part[:, 1])
                pieces.append((x.round().tolist(), y.round().tolist()))
    return pieces


def need_layers(maps: Maps) -> None:
    """Refuse a page for a dataset that has nothing to be drawn.

    Raises
    ------
    Refused
        If there is nothing on a grid.
    """
    if not maps.layers:
        raise Refused(
            404, f"{maps.served.name} has nothing on a grid to be drawn on a map"
        )


def _described(layer: Layer) -> dict[str, Any]:
    levels, units = layer.level_texts, ""
    if levels:
        units = layer.served.dataset.need(Role.LEVEL).variable.units or ""
    labels: list[str] = []
    if layer.time is not None:
        years = base_years(layer.time)
        labels = [
            f"{speak(label)}, {years}" if years else speak(label)
            for label in time_labels(layer.time)
        ]
    return {
        "name": layer.variable.name,
        "quantity": layer.variable.quantity,
        "units": pretty(layer.variable.units),
        "other_units": _other_units(layer),
        "classes": _classes(layer),
        "members": list(layer.members),
        "moments": layer.moments,
        "labels": labels,
        "levels": levels,
        "level_units": pretty(units),
    }


def _classes(layer: Layer) -> dict[str, str]:
    """Return the words for numbers of classes, by these as JavaScript writes them."""
    words = words_of_classes(layer.variable)
    return {write_number(number): word for number, word in words.items()}


def _other_units(layer: Layer) -> list[dict[str, str]]:
    """Return units that people ask for, as requests and as people write them."""
    variable = layer.variable
    return [
        {"units": units, "text": pretty(units)}
        for units in _OFTEN_ASKED_FOR
        if units != variable.units and can_be_in(variable, units)
    ]


def speak(label: str) -> str:
    """Return a date as people write it.

    Parameters
    ----------
    label : str
        In ISO 8601; other labels stay.

    Examples
    --------
    >>> speak("1990-07"), speak("1990-07-16"), speak("1990-07-16T06:00:00"), speak("2014 DJF")
    ('July 1990', '16 July 1990', '16 July 1990, 06:00', '2014 DJF')
    """
    match = _ISO.fullmatch(label)
    if match is None:
        return label
    year, month, day, clock = match.groups()
    text = f"{MONTH_TITLES[int(month) - 1]} {year}"
    text = text if day is None else f"{int(day)} {text}"
    return text if clock is None else f"{text}, {clock}"


@cache
def coast(scale: str) -> list[tuple[list[float], list[float]]]:
    """Return the coastlines as longitudes and latitudes of each line.

    Parameters
    ----------
    scale : {"110m", "50m"}
    """
    return [
        (part[:, 0].round(2).tolist(), part[:, 1].round(2).tolist())
        for part in lines("coast", scale)
    ]


def static_file(path: str) -> tuple[bytes, str]:
    """Return a file that pages name, and its media type.

    Parameters
    ----------
    path : str
        One of a few names; nothing else can be reached.

    Raises
    ------
    Refused
        If there is no such file.
    """
    if path in _OWN:
        return files("rhodolite.server").joinpath("static", path).read_bytes(), _OWN[
            path
        ]
    folder, _, name = path.partition("/")
    if folder == "bokeh" and name in _OF_BOKEH:
        return _bokeh_folder().joinpath(name).read_bytes(), "text/javascript"
    raise Refused(404, f"there is no file '{path}' here")


@cache
def _bokeh_folder() -> Path:
    import bokeh

    return Path(bokeh.__file__).parent / "server" / "static" / "js"
