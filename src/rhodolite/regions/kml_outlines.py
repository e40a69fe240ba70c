"""Outlines in KML (OGC 12-007): placemarks with polygons, in degrees."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from rhodolite.errors import DataError
from rhodolite.regions.projected_outlines import Feature


def read_kml(path: Path) -> list[Feature]:
    """Return name, data and polygons of each placemark that has such.

    Raises
    ------
    DataError
        If it is not KML, or declares entities of its own.
    """
    content = path.read_bytes()
    if b"<!DOCTYPE" in content:
        raise DataError(f"{path}: declares a type of document, which KML does not need")
    try:
        root = ElementTree.fromstring(content)
    except ElementTree.ParseError as error:
        raise DataError(f"{path}: this is not valid KML: {error}") from None
    features = []
    for placemark in _inside(root, "Placemark"):
        polygons = [_rings(path, polygon) for polygon in _inside(placemark, "Polygon")]
        if polygons:
            shape = {"type": "MultiPolygon", "coordinates": polygons}
            features.append((_properties(placemark), shape))
    return features


def _inside(element: Any, name: str) -> Iterator[Any]:
    """Yield elements of a name, in whatever namespace, at any depth."""
    return (inner for inner in element.iter() if _plain(inner) == name)


def _plain(element: Any) -> str:
    return str(element.tag).rpartition("}")[2]


def _properties(placemark: Any) -> dict[str, Any]:
    properties = {
        _plain(inner): (inner.text or "").strip()
        for inner in placemark
        if _plain(inner) in ("name", "description")
    }
    for data in _inside(placemark, "Data"):
        values = [value.text or "" for value in _inside(data, "value")]
        properties[data.get("name", "")] = values[0] if values else ""
    for data in _inside(placemark, "SimpleData"):
        properties[data.get("name", "")] = data.text or ""
    return properties


def _rings(path: Path, polygon: Any) -> list[list[list[float]]]:
    """Return the outer ring of a polygon and those of its holes."""
    rings: list[list[list[float]]] = []
    for boundary in ("outerBoundaryIs", "innerBoundaryIs"):
        for element in _inside(polygon, boundary):
            for ring in _inside(element, "coordinates"):
                rings.append(_positions(path, ring.text or ""))
    return rings


def _positions(path: Path, text: str) -> list[list[float]]:
    try:
        return [
            [float(number) for number in position.split(",")[:2]]
            for position in text.split()
        ]
    except ValueError:
        raise DataError(f"{path}: '{text[:40]}' is no list of positions") from None
