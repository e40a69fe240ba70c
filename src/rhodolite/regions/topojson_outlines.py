"""Outlines in TopoJSON: rings of arcs that neighbours share."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError
from rhodolite.regions.projected_outlines import Feature

Array = NDArray[Any]
_KINDS = {"Polygon": 1, "MultiPolygon": 2}
"""How deep lists of rings lie in the arcs of a geometry."""


def read_topology(path: Path, content: dict[str, Any]) -> list[Feature]:
    """Return properties and polygons of each geometry that has such.

    Raises
    ------
    DataError
        If its arcs cannot be put together.
    """
    try:
        arcs = [_positions(arc, content.get("transform")) for arc in content["arcs"]]
        return [
            (_properties(geometry), _outline(geometry, arcs))
            for collection in content["objects"].values()
            for geometry in _geometries(collection)
            if geometry.get("type") in _KINDS
        ]
    except (KeyError, IndexError, TypeError, ValueError, AttributeError) as error:
        raise DataError(f"{path}: this is not valid TopoJSON: {error}") from None


def _geometries(collection: dict[str, Any]) -> Iterator[dict[str, Any]]:
    if collection.get("type") != "GeometryCollection":
        yield collection
        return
    for inner in collection["geometries"]:
        yield from _geometries(inner)


def _properties(geometry: dict[str, Any]) -> dict[str, Any]:
    own_id = {"id": geometry["id"]} if "id" in geometry else {}
    return {**(geometry.get("properties") or {}), **own_id}


def _positions(arc: list[Any], transform: dict[str, Any] | None) -> Array:
    """Return the positions of an arc; quantised ones are differences to the one before."""
    numbers = np.array([position[:2] for position in arc], dtype=np.float64)
    if transform is None:
        return numbers
    scale, origin = np.asarray(transform["scale"]), np.asarray(transform["translate"])
    return np.asarray(np.cumsum(numbers, axis=0) * scale + origin)


def _outline(geometry: dict[str, Any], arcs: list[Array]) -> dict[str, Any]:
    polygons = geometry["arcs"] if _KINDS[geometry["type"]] == 2 else [geometry["arcs"]]
    rings = [[_ring(numbers, arcs) for numbers in polygon] for polygon in polygons]
    return {"type": "MultiPolygon", "coordinates": rings}


def _ring(numbers: list[int], arcs: list[Array]) -> list[list[float]]:
    """Return the positions of a ring; an arc of a number ~n is arc n backwards, and each begins
    where the one before ends."""
    parts = [arcs[n] if n >= 0 else arcs[~n][::-1] for n in numbers]
    joined = [part if at == 0 else part[1:] for at, part in enumerate(parts)]
    return [[float(x), float(y)] for x, y in np.concatenate(joined)]
