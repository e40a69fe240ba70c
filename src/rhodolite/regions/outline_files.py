"""Outlines in GeoJSON files and shapefiles."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.limits import check_nesting
from rhodolite.plain_text import cut_text

_LONGEST_REASON = 200
_NAME_KEYS = ("name", "title", "label", "id")


def read_geojson(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    """Return properties and geometry of each feature of a GeoJSON file (RFC 7946).

    Raises
    ------
    DataError
        If it cannot be read, or is not GeoJSON.
    """
    try:
        content = path.read_bytes()
        if content.startswith(b"SQLite format 3"):
            raise DataError(
                f"{path}: this is a GeoPackage, which is not read; export its layer as GeoJSON or "
                "as a shapefile"
            )
        check_nesting(content, path)
        geometry_file = json.loads(content.decode("utf-8-sig"))
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: this is not valid GeoJSON: {error}") from None
    if not isinstance(geometry_file, dict) or "type" not in geometry_file:
        raise DataError(f"{path}: this is not valid GeoJSON: it has no member 'type'")
    features = (
        geometry_file.get("features")
        if geometry_file["type"] == "FeatureCollection"
        else [geometry_file]
    )
    if not isinstance(features, list):
        raise DataError(f"{path}: this is not valid GeoJSON: 'features' is not a list")
    features_read = []
    for at, feature in enumerate(features, 1):
        if not isinstance(feature, dict):
            raise DataError(
                f"{path}: this is not valid GeoJSON: feature {at} is not an object"
            )
        geometry = (
            feature.get("geometry") if feature.get("type") == "Feature" else feature
        )
        properties = feature.get("properties")
        for name, member in (("geometry", geometry), ("properties", properties)):
            if member is not None and not isinstance(member, dict):
                raise DataError(
                    f"{path}: this is not valid GeoJSON: '{name}' of feature {at} is not an object"
                )
        if geometry:
            own_id = {"id": feature["id"]} if "id" in feature else {}
            features_read.append(({**(properties or {}), **own_id}, geometry))
    return features_read


def read_shapefile(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    import shapefile

    projection = path.with_suffix(".prj")
    if projection.exists() and projection.read_text(
        errors="replace"
    ).lstrip().upper().startswith("PROJCS"):
        raise DataError(
            f"{path}: its coordinates are those of a map projection ({projection.name}); turn it "
            "into longitude and latitude first"
        )
    try:
        with shapefile.Reader(str(path)) as reader:
            return [
                (
                    record.record.as_dict() if record.record else {},
                    record.shape.__geo_interface__,
                )
                for record in reader.iterShapeRecords()
            ]
    except MemoryError:
        raise
    except Exception as error:  # the library raises whatever unpacking does
        said = cut_text(str(error), _LONGEST_REASON)
        raise DataError(
            f"{path}: this shapefile is damaged ({said}); export it again"
        ) from None


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
