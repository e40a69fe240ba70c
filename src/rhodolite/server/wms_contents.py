"""What a WMS says of its dataset and its layers."""

from __future__ import annotations

import math
from typing import Any

from rhodolite.model.axes import Role
from rhodolite.plain_text import allowed_in_xml
from rhodolite.server.layers import Layer
from rhodolite.server.map_systems import EARTH_RADIUS
from rhodolite.server.served import Served


def describe_service(served: Served) -> dict[str, Any]:
    """Return what the dataset says of itself: a summary, keywords, and who is to be asked."""
    attributes = served.dataset.attributes

    def text(*names: str) -> str:
        said = (str(attributes.get(name, "")).strip() for name in names)
        return allowed_in_xml(next((sentence for sentence in said if sentence), ""))

    return {
        "abstract": text("summary", "comment"),
        "keywords": [
            word.strip() for word in text("keywords").split(",") if word.strip()
        ],
        "person": text("creator_name", "publisher_name"),
        "organisation": text("institution", "creator_institution"),
        "mail": text("creator_email", "publisher_email"),
    }


def describe_layer(layer: Layer) -> dict[str, Any]:
    """Return the name, extent, times and levels of a layer."""
    west, south, east, north = layer.grid.extent
    # The schema has longitudes from -180 to 180; what crosses the dateline is told as all round.
    turn = 360.0 * math.floor((west + 180.0) / 360.0)
    west, east = west - turn, east - turn
    if east > 180.0:
        west, east = -180.0, 180.0
    low, high = max(south, -85.0), min(north, 85.0)
    metres = [
        math.radians(west) * EARTH_RADIUS,
        _mercator(low),
        math.radians(east) * EARTH_RADIUS,
        _mercator(high),
    ]
    level_units = ""
    if layer.levels is not None:
        coordinate = layer.served.dataset.need(Role.LEVEL).variable
        level_units = allowed_in_xml(coordinate.units or "")
    return {
        "name": layer.variable.name,
        "title": allowed_in_xml(layer.variable.quantity),
        "extent": (west, south, east, north),
        "metres": metres,
        "times": layer.moments,
        "levels": layer.level_texts,
        "level_units": level_units,
        "members": list(layer.members),
    }


def _mercator(latitude: float) -> float:
    return EARTH_RADIUS * math.asinh(math.tan(math.radians(latitude)))
