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
_NEAR = 1e-5
"""Of the largest coordinate, by which a position that was turned may come back elsewhere."""
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
    shapes = [_shape_of(path, geometry) for _, geometry in features]
    west, south, east, north = shapely.total_bounds(shapes)
    length = max(east - west, north - south) / _PIECES
    turned: list[Feature] = []
    for shape, (properties, _) in zip(shapes, features, strict=True):
        fine = _with_short_edges(path, shapely.force_2d(shape), length)
        placed = shapely.transform(fine, place.transform, interleaved=False)
        if not _comes_back(fine, placed, place):
            raise DataError(
                f"{path}: a position has no place on the globe in {known.name}"
            )
        turned.append((properties, shapely.geometry.mapping(placed)))
    return turned


def _shape_of(path: Path, geometry: dict[str, Any]) -> Any:
    import shapely

    try:
        return shapely.geometry.shape(geometry)
    except (shapely.errors.ShapelyError, LookupError, TypeError, ValueError) as error:
        raise DataError(f"{path}: a geometry cannot be understood: {error}") from None


def _with_short_edges(path: Path, shape: Any, length: float) -> Any:
    import shapely

    if not 0 < length < np.inf:
        return shape
    try:
        return shapely.segmentize(shape, length)
    except shapely.errors.GEOSException as error:
        raise DataError(f"{path}: an outline cannot be turned: {error}") from None


def _comes_back(fine: Any, placed: Any, place: Any) -> bool:
    """Return whether positions have a place on the globe: far outside of the part of it that a
    projection is for, some are nowhere, or come back elsewhere."""
    import shapely

    there, degrees = (shapely.get_coordinates(shape) for shape in (fine, placed))
    if not degrees.size or not np.isfinite(degrees).all():
        return False
    again = np.stack(place.transform(*degrees.T, direction="INVERSE"), axis=1)
    apart = np.abs(again - there).max()
    return bool(apart <= _NEAR * max(np.abs(there).max(), 1.0))
