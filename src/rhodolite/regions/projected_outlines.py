"""Outlines in the x and y of a projection, turned into longitude and latitude."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.errors import DataError

_PIECES = 200
"""Pieces into which an edge as long as all outlines together is cut, since a straight line of a map
is none on the globe."""
Feature = tuple[dict[str, Any], dict[str, Any]]
"""Properties, and a geometry as GeoJSON has it."""


def turn_features(
    path: Path, features: Sequence[Feature], system: object
) -> list[Feature]:
    """Return features in degrees of longitude and latitude.

    Parameters
    ----------
    path : Path
    features : sequence of (dict, dict)
    system : str or int
        The reference system of their coordinates: as text (OGC 18-010), or as a code of EPSG.

    Raises
    ------
    DataError
        If the system cannot be understood, pyproj is not installed, or a position has no place on
        the globe.
    """
    try:
        import pyproj
    except ImportError:
        raise DataError(
            f"{path}: its coordinates are those of a map projection; to turn these into longitude "
            "and latitude, install pyproj: pip install 'rhodolite[projections]'"
        ) from None
    import shapely

    try:
        known = pyproj.CRS.from_user_input(system)
    except pyproj.exceptions.CRSError as error:
        raise DataError(
            f"{path}: the reference system of its coordinates cannot be understood: {error}"
        ) from None
    meridian = known.prime_meridian
    if known.is_geographic and (meridian is None or meridian.longitude == 0.0):
        return list(features)
    place = pyproj.Transformer.from_crs(known, "EPSG:4326", always_xy=True)
    shapes = [shapely.geometry.shape(geometry) for _, geometry in features]
    west, south, east, north = shapely.total_bounds(shapes)
    length = max(east - west, north - south) / _PIECES
    turned: list[Feature] = []
    for shape, (properties, _) in zip(shapes, features, strict=True):
        fine = shapely.segmentize(shapely.force_2d(shape), length) if length else shape
        placed = shapely.transform(fine, place.transform, interleaved=False)
        if not shapely.get_coordinates(placed).size or not _all_finite(placed):
            raise DataError(
                f"{path}: a position has no place on the globe in {known.name}"
            )
        turned.append((properties, shapely.geometry.mapping(placed)))
    return turned


def _all_finite(shape: Any) -> bool:
    import shapely

    return bool(np.isfinite(shapely.get_coordinates(shape)).all())
