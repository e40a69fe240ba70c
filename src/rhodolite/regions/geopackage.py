"""Outlines in a GeoPackage (OGC 12-128): tables of a database, with shapes as well-known binary."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.regions.projected_outlines import Feature, turn_features

SIGNATURE = b"SQLite format 3"
LAYER = "layer"
"""The property under which a feature tells the layer that it is of, where there are several."""
_ENVELOPES = (0, 32, 48, 48, 64)
"""Bytes of the envelope of a shape, by its kind."""
_FLAG_EMPTY = 0b10000
_UNKNOWN_SYSTEMS = (-1, 0)
"""Numbers of undefined systems, which are taken as degrees."""


def read_geopackage(path: Path) -> list[Feature]:
    """Return properties and geometry of each feature of all layers.

    Raises
    ------
    DataError
        If it is damaged, or holds no layer of features.
    """
    try:
        with contextlib.closing(_open(path)) as database:
            layers = list(_layers(database))
            if not layers:
                raise DataError(f"{path}: this database holds no layer of outlines")
            features: list[Feature] = []
            for table, column, system in layers:
                rows = _features_of(database, table, column)
                if len(layers) > 1:
                    rows = [
                        ({**properties, LAYER: table}, shape)
                        for properties, shape in rows
                    ]
                features += turn_features(path, rows, system) if system else rows
            return features
    except (sqlite3.Error, IndexError, ValueError) as error:
        raise DataError(f"{path}: this GeoPackage is damaged: {error}") from None


def _open(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)


def _layers(database: sqlite3.Connection) -> Iterator[tuple[str, str, Any]]:
    """Yield table, column of shapes and reference system of each layer."""
    rows = database.execute(
        "SELECT c.table_name, g.column_name, s.definition, s.srs_id, s.organization, "
        "s.organization_coordsys_id FROM gpkg_contents AS c "
        "JOIN gpkg_geometry_columns AS g ON g.table_name = c.table_name "
        "LEFT JOIN gpkg_spatial_ref_sys AS s ON s.srs_id = g.srs_id "
        "WHERE c.data_type = 'features' ORDER BY c.table_name"
    )
    for table, column, definition, number, owner, code in rows:
        system = None
        if number not in (None, *_UNKNOWN_SYSTEMS):
            system = code if str(owner).upper() == "EPSG" else definition
        yield table, column, system


def _features_of(
    database: sqlite3.Connection, table: str, column: str
) -> list[Feature]:
    import shapely

    quoted = table.replace('"', '""')
    described = database.execute(f'PRAGMA table_info("{quoted}")').fetchall()
    names = [name for _, name, *_ in described]
    keys = [name for _, name, *_, in_key in described if in_key]
    at = names.index(column)
    rows = database.execute(f'SELECT * FROM "{quoted}"')
    features: list[Feature] = []
    for row in rows:
        binary = _shape_in(row[at])
        if binary is not None:
            properties = dict(zip(names, row, strict=True))
            for unsaid in (column, *keys):  # keys are numbers of rows
                del properties[unsaid]
            shape = shapely.geometry.mapping(shapely.from_wkb(binary))
            features.append((properties, shape))
    return features


def _shape_in(content: bytes | None) -> bytes | None:
    """Return the well-known binary after the header of a shape; None of an empty one."""
    if not content or content[:2] != b"GP" or content[3] & _FLAG_EMPTY:
        return None
    return content[8 + _ENVELOPES[content[3] >> 1 & 0b111] :]
