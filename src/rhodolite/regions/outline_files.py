"""Outlines in files of all formats."""

from __future__ import annotations

import codecs
import contextlib
import json
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.limits import check_nesting
from rhodolite.plain_text import cut_text
from rhodolite.regions.geopackage import SIGNATURE, read_geopackage
from rhodolite.regions.kml_outlines import read_kml
from rhodolite.regions.projected_outlines import Feature, turn_features
from rhodolite.regions.topojson_outlines import read_topology

_LONGEST_REASON = 200
_DEGREES = ("4326", "4258", "4269", "4979")
"""Codes of systems of longitude and latitude that differ by metres."""
_NAME_KEYS = ("name", "title", "label", "id")


def read_outlines(path: Path) -> list[Feature]:
    """Return properties and geometry of each feature of a file, in degrees.

    Raises
    ------
    DataError
        If it is in no format of outlines, or damaged.
    """
    suffix = path.suffix.lower()
    with path.open("rb") as file:
        start = file.read(len(SIGNATURE))
    if start == SIGNATURE:
        return read_geopackage(path)
    if suffix == ".shp":
        return read_shapefile(path)
    if suffix == ".kml":
        return read_kml(path)
    if suffix == ".wkt":
        return read_well_known_text(path)
    return read_geojson(path)


def read_well_known_text(path: Path) -> list[Feature]:
    """Return the geometry of each line of a file (OGC 06-103).

    Raises
    ------
    DataError
        If a line cannot be read.
    """
    import shapely

    features: list[Feature] = []
    for number, line in enumerate(path.read_text("utf-8", "replace").splitlines(), 1):
        # In the extended form the number of the reference system comes first.
        before, _, text = line.strip().rpartition(";")
        if not text:
            continue
        try:
            shape = shapely.from_wkt(text)
        except shapely.errors.ShapelyError as error:
            raise DataError(f"{path}, line {number}: {error}") from None
        feature: Feature = ({}, shapely.geometry.mapping(shape))
        code = before.upper().removeprefix("SRID=")
        known = code.isdecimal() and code not in _DEGREES
        features += turn_features(path, [feature], int(code)) if known else [feature]
    return features


def read_geojson(path: Path) -> list[Feature]:
    """Return properties and geometry of each feature of a GeoJSON file (RFC 7946), or of one of
    TopoJSON; in degrees, also where the file names another system, as before the RFC.

    Raises
    ------
    DataError
        If it cannot be read, or is not GeoJSON.
    """
    try:
        content = path.read_bytes()
        check_nesting(content, path)
        geometry_file = json.loads(content.decode("utf-8-sig"))
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: this is not valid GeoJSON: {error}") from None
    if not isinstance(geometry_file, dict) or "type" not in geometry_file:
        raise DataError(f"{path}: this is not valid GeoJSON: it has no member 'type'")
    if geometry_file["type"] == "Topology":
        return read_topology(path, geometry_file)
    listed: Any = [geometry_file]
    if geometry_file["type"] == "FeatureCollection":
        listed = geometry_file.get("features")
    if not isinstance(listed, list):
        raise DataError(f"{path}: this is not valid GeoJSON: 'features' is not a list")
    read = (_read_feature(path, at, feature) for at, feature in enumerate(listed, 1))
    features = [feature for feature in read if feature is not None]
    system = _named_system(geometry_file)
    return turn_features(path, features, system) if system else features


def _read_feature(path: Path, number: int, feature: Any) -> Feature | None:
    """Return properties and geometry of a feature, or of a bare geometry; None where it has none.

    Raises
    ------
    DataError
        If it, or one of both, is no object.
    """
    mistake = f"{path}: this is not valid GeoJSON:"
    if not isinstance(feature, dict):
        raise DataError(f"{mistake} feature {number} is not an object")
    is_feature = feature.get("type") == "Feature"
    geometry = feature.get("geometry") if is_feature else feature
    properties = feature.get("properties")
    for name, member in (("geometry", geometry), ("properties", properties)):
        if member is not None and not isinstance(member, dict):
            raise DataError(f"{mistake} '{name}' of feature {number} is not an object")
    if not geometry:
        return None
    own_id = {"id": feature["id"]} if "id" in feature else {}
    return {**(properties or {}), **own_id}, geometry


def _named_system(geometry_file: dict[str, Any]) -> str | None:
    """Return the name of the reference system that a file names, in the way before RFC 7946."""
    named = geometry_file.get("crs")
    inner = named.get("properties") if isinstance(named, dict) else None
    name = inner.get("name") if isinstance(inner, dict) else None
    usual = name is None or "CRS84" in str(name) or str(name).endswith(_DEGREES)
    return None if usual else str(name)


def read_shapefile(path: Path) -> list[Feature]:
    """Return attributes and geometry of each shape, in degrees.

    Raises
    ------
    DataError
        If it is damaged, or its projection cannot be understood.
    """
    features = _read_shapes(path, _encoding_of(path))
    projection = path.with_suffix(".prj")
    if projection.exists():
        text = projection.read_text(errors="replace").strip()
        if text.upper().startswith("PROJCS"):
            return turn_features(path, features, text)
    return features


def _encoding_of(path: Path) -> str:
    """Return the encoding that is named beside a shapefile; UTF-8 where none is known."""
    named = path.with_suffix(".cpg")
    text = named.read_text(errors="replace").strip() if named.exists() else ""
    for name in (text, f"cp{text}"):
        with contextlib.suppress(LookupError):
            return codecs.lookup(name).name
    return "utf-8"


def _read_shapes(path: Path, encoding: str) -> list[Feature]:
    import shapefile

    try:
        with shapefile.Reader(
            str(path), encoding=encoding, encodingErrors="surrogateescape"
        ) as reader:
            return [
                (
                    _properties(record.record, encoding),
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


def _properties(record: Any, encoding: str) -> dict[str, Any]:
    """Return what a record says; text that is in another encoding than was thought is taken for
    that of the West."""
    properties = record.as_dict() if record else {}
    for key, value in properties.items():
        if isinstance(value, str) and any(
            "\udc80" <= letter <= "\udcff" for letter in value
        ):
            raw = value.encode(encoding, "surrogateescape")
            properties[key] = raw.decode("latin-1")
    return dict(properties)


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
