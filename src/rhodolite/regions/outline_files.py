"""Outlines in GeoJSON files and shapefiles."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError

_NAME_KEYS = ("name", "title", "label", "id")


def read_geojson(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    try:
        held = json.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: this is not valid GeoJSON: {error}") from None
    if not isinstance(held, dict) or "type" not in held:
        raise DataError(f"{path}: this is not valid GeoJSON: it has no member 'type'")
    features = held.get("features") if held["type"] == "FeatureCollection" else [held]
    found = []
    for one in features or ():
        geometry = one.get("geometry") if one.get("type") == "Feature" else one
        if geometry:
            found.append(
                (
                    {**(one.get("properties") or {}), **({"id": one["id"]} if "id" in one else {})},
                    geometry,
                )
            )
    return found


def read_shapefile(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    import shapefile

    projection = path.with_suffix(".prj")
    if projection.exists() and projection.read_text(errors="replace").lstrip().upper().startswith(
        "PROJCS"
    ):
        raise DataError(
            f"{path}: its coordinates are those of a map projection ({projection.name}); turn it "
            "into longitude and latitude first"
        )
    try:
        with shapefile.Reader(str(path)) as reader:
            return [
                (record.record.as_dict() if record.record else {}, record.shape.__geo_interface__)
                for record in reader.iterShapeRecords()
            ]
    except (shapefile.ShapefileException, OSError, ValueError, UnicodeDecodeError) as error:
        raise DataError(f"{path}: this shapefile cannot be read: {error}") from None


def feature_name(properties: dict[str, Any]) -> str:
    lowered = {str(key).lower(): value for key, value in properties.items()}
    for key in _NAME_KEYS:
        if str(lowered.get(key) or "").strip():
            return str(lowered[key]).strip()
    texts = [
        str(value).strip()
        for value in properties.values()
        if isinstance(value, str) and value.strip()
    ]
    return texts[0] if texts else ""
