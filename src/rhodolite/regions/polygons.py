"""Polygons as files have them, as polygons in degrees that do not cross the dateline."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError, warn

_FEW_POINTS = 8
_MOST_LONGITUDE = 540.0
"""Half a turn beyond 0 to 360 degrees: outlines may begin anywhere, and go round once."""


def polygons_in(shape: Any) -> NDArray[Any]:
    import shapely

    parts = [
        part
        for part in shapely.get_parts(shape)
        if part.geom_type == "Polygon" and part.area > 0
    ]
    return np.array(parts, dtype=object)


def _crosses_dateline(ring: NDArray[np.float64], *, shapefile: bool) -> bool:
    """Return whether a ring jumps from one side of the dateline to the other, and does not go the
    long way round.

    RFC 7946 has edges straight in degrees, and outlines across the dateline cut in two; many are
    not. An edge of more than 180 degrees is a jump where the ring has many points and all others of
    its edges are short, or where straight edges would turn it inside out (RFC 7946, 3.1.6: shells
    are counter-clockwise).
    """
    steps = np.diff(np.append(ring[:, 0], ring[:1, 0]))
    wide = np.abs(steps) > 180
    if not wide.any() or (np.abs(steps) > 360 - 1e-6).any():
        return False
    jumps, others = 360 - np.abs(steps[wide]), np.abs(steps[~wide])
    if len(ring) > _FEW_POINTS:
        return bool(jumps.max() <= max(3 * others.max(), 1.0) and others.max() < 90)
    x, y = ring.T
    twice = float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))
    return not shapefile and twice < 0


def polygons_of(geometry: Any) -> list[Any]:
    """Return the rings of each polygon of a GeoJSON geometry, as the file has them.

    Parameters
    ----------
    geometry : object
        As GeoJSON has it.
    """
    if not isinstance(geometry, dict):
        return []
    kind, coordinates = geometry.get("type"), geometry.get("coordinates")
    if kind == "Polygon":
        return [coordinates]
    if kind == "MultiPolygon":
        if isinstance(coordinates, (list, tuple)):
            return list(coordinates)
        return [coordinates]
    parts = geometry.get("geometries")
    if kind == "GeometryCollection" and isinstance(parts, list):
        return [polygon for part in parts for polygon in polygons_of(part)]
    return []


def polygon(path: Path, name: str, rings: list[NDArray[np.float64]]) -> list[Any]:
    import shapely

    for ring in rings:
        _need_degrees(path, name, ring)
        if _crosses_dateline(ring, shapefile=path.suffix.lower() == ".shp"):
            ring[:, 0] = np.unwrap(ring[:, 0], period=360.0)
    middle = rings[0][:, 0].mean()
    for hole in rings[1:]:
        # Holes lie where the shell does.
        hole[:, 0] += 360.0 * np.round((middle - hole[:, 0].mean()) / 360.0)
    shape = shapely.Polygon(rings[0], rings[1:])
    if not shape.is_valid:
        why = shapely.is_valid_reason(shape).partition("[")[0].lower()
        shape = shapely.make_valid(shape)
        warn(f"{path.name}: the outline of {name} is broken ({why}) and was repaired")
    # Repairing leaves lines and points beside the areas.
    parts = [
        part
        for part in shapely.get_parts(shape)
        if part.geom_type == "Polygon" and part.area > 0
    ]
    if not parts:
        raise DataError(f"{path}: the outline of {name} encloses nothing")
    return parts


def _need_degrees(path: Path, name: str, ring: NDArray[np.float64]) -> None:
    if len(ring) < 3 or not np.isfinite(ring).all():
        raise DataError(
            f"{path}: a ring of {name} has fewer than three positions, or one that is not a "
            "number"
        )
    if np.abs(ring[:, 1]).max() > 90 or np.abs(ring[:, 0]).max() > _MOST_LONGITUDE:
        raise DataError(
            f"{path}: {name} has coordinates such as {ring[0, 0]:g}, {ring[0, 1]:g}, which are "
            "no degrees; turn it into longitude and latitude first"
        )
