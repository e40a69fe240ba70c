"""What requests ask for, read: places, boxes and heights."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely
from shapely.errors import ShapelyError

from rhodolite.server.limits import Refused

CRS84 = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"
EPSG_4326 = "http://www.opengis.net/def/crs/EPSG/0/4326"
_LONGITUDE_FIRST = (CRS84, "CRS84", "CRS:84", "OGC:CRS84")
_LATITUDE_FIRST = (EPSG_4326, "EPSG:4326", "urn:ogc:def:crs:EPSG::4326")
_LONGEST = 20_000
"""Letters of a place in well-known text."""
_SEVERAL = {"POLYGON": "MULTIPOLYGON", "POINT": "MULTIPOINT"}
"""Geometries that may stand where another is asked for."""
_EXAMPLES = {
    "POINT": "POINT(10.5 60)",
    "POLYGON": "POLYGON((0 50,20 50,20 70,0 70,0 50))",
}


def has_latitude_first(asked: Mapping[str, str]) -> bool:
    """Return whether a request has latitudes first, as EPSG:4326 defines them.

    Parameters
    ----------
    asked : mapping of str to str

    Raises
    ------
    Refused
        If positions are in a system that is not known here.
    """
    system = asked.get("crs", CRS84)
    if system not in (*_LONGITUDE_FIRST, *_LATITUDE_FIRST):
        raise Refused(
            400,
            "crs: positions are in CRS84, longitude first, or EPSG:4326, latitude first",
        )
    return system in _LATITUDE_FIRST


def longitude_first(asked: Mapping[str, str]) -> dict[str, str]:
    """Return a request with the places of one that has latitudes first.

    Parameters
    ----------
    asked : mapping of str to str

    Raises
    ------
    Refused
        If its places cannot be read.
    """
    turned = dict(asked)
    if "bbox" in asked:
        ends = _ends_of_box(asked)
        half = len(ends) // 2
        order = [1, 0, *range(2, half), half + 1, half, *range(half + 2, 2 * half)]
        turned["bbox"] = ",".join(repr(ends[at]) for at in order)
    if "coords" in asked:
        shape = shapely.transform(_shape_asked(asked), lambda points: points[:, ::-1])
        turned["coords"] = shapely.to_wkt(shape, rounding_precision=-1)
    return turned


def geometry_asked(asked: Mapping[str, str], kind: str) -> Any:
    """Return the place in `coords`, or several of them.

    Parameters
    ----------
    asked : mapping of str to str
        Parameters of the request.
    kind : str
        ``POINT`` or ``POLYGON``.

    Raises
    ------
    Refused
        If it is none, or lies beyond the world.
    """
    shape = _shape_asked(asked)
    if shape.geom_type.upper() not in (kind, _SEVERAL.get(kind)) or shape.is_empty:
        raise Refused(400, f"coords is a {kind}, such as {_EXAMPLES[kind]}")
    ends = np.asarray(shape.bounds)
    if (
        not np.isfinite(ends).all()
        or np.abs(ends[[0, 2]]).max() > 720
        or abs(ends[1]) > 90
        or abs(ends[3]) > 90
    ):
        first = "latitude" if has_latitude_first(asked) else "longitude"
        raise Refused(400, f"coords lies beyond the world; {first} comes first")
    if kind == "POLYGON" and not shape.is_valid:
        raise Refused(400, "coords: the polygon crosses itself")
    return shape


def _shape_asked(asked: Mapping[str, str]) -> Any:
    text = asked.get("coords", "")
    if not text or len(text) > _LONGEST:
        raise Refused(
            400, f"coords is a place in well-known text, of at most {_LONGEST} letters"
        )
    try:
        return shapely.from_wkt(text)
    except (ShapelyError, ValueError) as error:
        raise Refused(400, f"coords: {str(error)[:200]}") from None


def box_asked(asked: Mapping[str, str]) -> tuple[float, float, float, float]:
    """Return west, south, east and north of `bbox`, east of west also across the dateline.

    Parameters
    ----------
    asked : mapping of str to str

    Raises
    ------
    Refused
        If it is no box of the world.
    """
    ends = _ends_of_box(asked)
    west, south, east, north = ends if len(ends) == 4 else (*ends[:2], *ends[3:5])
    if (
        south > north
        or abs(south) > 90
        or abs(north) > 90
        or max(abs(west), abs(east)) > 720
    ):
        raise Refused(
            400, "bbox lies beyond the world, or has its south above its north"
        )
    return west, south, east + (360 if east < west else 0), north


def _ends_of_box(asked: Mapping[str, str]) -> list[float]:
    try:
        ends = [float(part) for part in asked.get("bbox", "").split(",")]
    except ValueError:
        ends = []
    if len(ends) not in (4, 6) or not all(map(math.isfinite, ends)):
        order = ("west,south", "east,north")
        if has_latitude_first(asked):
            order = ("south,west", "north,east")
        first, second = order
        raise Refused(400, f"bbox is {first},{second}, or {first},low,{second},high")
    return ends


def heights_of_box(asked: Mapping[str, str]) -> str | None:
    """Return the range of levels that a box of six numbers names; None for one of four.

    Parameters
    ----------
    asked : mapping of str to str
    """
    ends = _ends_of_box(asked)
    return f"{ends[2]!r}/{ends[5]!r}" if len(ends) == 6 else None
