"""What requests ask for, read: places, boxes and heights."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely
from shapely.errors import ShapelyError

from rhodolite.server.limits import Refused

_LONGEST = 20_000
"""Letters of a place in well-known text."""
_SEVERAL = {"POLYGON": "MULTIPOLYGON", "POINT": "MULTIPOINT"}
"""Geometries that may stand where another is asked for."""
_EXAMPLES = {
    "POINT": "POINT(10.5 60)",
    "POLYGON": "POLYGON((0 50,20 50,20 70,0 70,0 50))",
}


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
    text = asked.get("coords", "")
    if not text or len(text) > _LONGEST:
        raise Refused(
            400, f"coords is a {kind} in well-known text, of at most {_LONGEST} letters"
        )
    try:
        shape = shapely.from_wkt(text)
    except (ShapelyError, ValueError) as error:
        raise Refused(400, f"coords: {str(error)[:200]}") from None
    if shape.geom_type.upper() not in (kind, _SEVERAL.get(kind)) or shape.is_empty:
        raise Refused(400, f"coords is a {kind}, such as {_EXAMPLES[kind]}")
    ends = np.asarray(shape.bounds)
    if (
        not np.isfinite(ends).all()
        or np.abs(ends[[0, 2]]).max() > 720
        or abs(ends[1]) > 90
        or abs(ends[3]) > 90
    ):
        raise Refused(400, "coords lies beyond the world; longitude comes first")
    if kind == "POLYGON" and not shape.is_valid:
        raise Refused(400, "coords: the polygon crosses itself")
    return shape


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
        raise Refused(
            400, "bbox is west,south,east,north, or west,south,low,east,north,high"
        )
    return ends


def heights_of_box(asked: Mapping[str, str]) -> str | None:
    """Return the range of levels that a box of six numbers names; None for one of four.

    Parameters
    ----------
    asked : mapping of str to str
    """
    ends = _ends_of_box(asked)
    return f"{ends[2]!r}/{ends[5]!r}" if len(ends) == 6 else None
