"""Polygons against cells: the area that each has in common with each."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_WHOLE = 1 - 1e-10
"""A part of a rectangle larger than this share of it is all of it."""
_AT_ONCE = 400_000
_SHAPES_AT_ONCE = 1000


def polygons(points: Array, owners: Array, count: int) -> Array:
    """Return polygons for closed rings, an empty one for owners without points; crossed rings are mended.

    Parameters
    ----------
    points : ndarray of float64, shape (total, 2)
    owners : ndarray of int, shape (total,)
        Ascending.
    count : int
        Number of owners.
    """
    import shapely

    made = np.full(count, shapely.Polygon(), dtype=object)
    present, rings = np.unique(owners, return_inverse=True)
    if present.size:
        made[present] = shapely.polygons(shapely.linearrings(points, indices=rings))
    broken = ~shapely.is_valid(made)
    made[broken] = shapely.make_valid(made[broken])
    return made


def area_on_sphere(shapes: Array) -> Array:
    """Return areas on the unit sphere of polygons whose edges are straight in degrees east and north.

    Notes
    -----
    The area under an edge is the integral of sin(latitude) over longitude, which for a straight edge is the
    width times the mean of the sine between its ends: (cos a - cos b) / (b - a).
    """
    import shapely

    parts, owner = shapely.get_parts(shapes, return_index=True)
    flat = shapely.get_type_id(parts) == 3  # slivers of lines and points have no area
    parts, owner = parts[flat], owner[flat]
    if not parts.size:
        return np.zeros(len(shapes))
    rings, of_part = shapely.get_rings(shapely.orient_polygons(parts), return_index=True)
    points, of_ring = shapely.get_coordinates(rings, return_index=True)
    points = np.radians(points)
    (x0, y0), (x1, y1) = points[:-1].T, points[1:].T
    middle, half = (y0 + y1) / 2, (y1 - y0) / 2
    under = -(x1 - x0) * np.sin(middle) * np.sinc(half / np.pi)
    same = of_ring[1:] == of_ring[:-1]
    return np.bincount(owner[of_part[of_ring[:-1][same]]], under[same], minlength=len(shapes))


def plane_area(shapes: Array) -> Array:
    """Return areas in the plane, one for each shape."""
    import shapely

    return np.asarray(shapely.area(shapes), dtype=np.float64)


def cut(shapes: Array, x_edges: Array, y_edges: Array, *, degrees: bool) -> tuple[Array, Array, Array, Array]:
    """Return the area that polygons have in common with the cells of a rectangular grid.

    Parameters
    ----------
    shapes : ndarray of shapely geometries, shape (n,)
    x_edges, y_edges : ndarray
        Ascending edges of columns and rows, in the coordinates of the shapes.
    degrees : bool
        Whether coordinates are degrees, and areas those on the unit sphere; otherwise areas are those in the plane.

    Returns
    -------
    tuple of ndarray
        Shape, row, column, and area, for each pair that overlaps.

    Notes
    -----
    Rectangles are halved, and shapes cut with them, until a rectangle is one cell or lies inside the shape,
    so that the shapes to cut become small soon and the inner cells cost nothing.
    """
    import shapely

    heights = np.sin(np.radians(y_edges)) if degrees else y_edges
    areas = np.outer(np.diff(heights), np.diff(np.radians(x_edges) if degrees else x_edges))
    owners, pieces = np.arange(len(shapes)), shapes
    spans = _spans(pieces, x_edges, y_edges)
    found: list[tuple[Array, Array, Array, Array]] = []
    while True:
        some = (spans[1] > spans[0]) & (spans[3] > spans[2])
        owners, spans, pieces = owners[some], spans[:, some], pieces[some]
        west, east, south, north = (x_edges[spans[0]], x_edges[spans[1]], y_edges[spans[2]], y_edges[spans[3]])
        pieces = _clipped(pieces, west, south, east, north)
        plane = shapely.area(pieces)
        inside = plane >= _WHOLE * (east - west) * (north - south)
        cells = ~inside & (spans[1] - spans[0] == 1) & (spans[3] - spans[2] == 1) & (plane > 0)
        found.append((owners[cells], spans[2, cells], spans[0, cells],
                      area_on_sphere(pieces[cells]) if degrees else plane[cells]))  # fmt: skip
        found.append(_filled(owners[inside], spans[:, inside], areas))
        rest = ~cells & ~inside & (plane > 0)
        if not rest.any():
            break
        owners, spans, pieces = _quartered(owners[rest], spans[:, rest], pieces[rest], x_edges, y_edges)
    return tuple(np.concatenate([one[i] for one in found]) for i in range(4))  # type: ignore[return-value]


def _filled(owners: Array, spans: Array, areas: Array) -> tuple[Array, Array, Array, Array]:
    """Return every cell of rectangles that lie inside their shapes, with its whole area."""
    wide, high = spans[1] - spans[0], spans[3] - spans[2]
    counts = wide * high
    which = np.repeat(np.arange(owners.size), counts)
    within = np.arange(which.size) - np.repeat(np.cumsum(counts) - counts, counts)
    rows = spans[2][which] + within // wide[which]
    columns = spans[0][which] + within % wide[which]
    return owners[which], rows, columns, areas[rows, columns]


def _spans(pieces: Array, x_edges: Array, y_edges: Array) -> Array:
    """Return first and last edge of the columns and rows that shapes reach into, shape (4, n)."""
    import shapely

    bounds = shapely.bounds(pieces)
    bounds = np.where(np.isfinite(bounds), bounds, -np.inf)
    made = []
    for at, edges in ((0, x_edges), (1, y_edges)):
        made.append(np.maximum(np.searchsorted(edges, bounds[:, at], side="right") - 1, 0))
        made.append(np.minimum(np.searchsorted(edges, bounds[:, at + 2], side="left"), edges.size - 1))
    return np.stack(made)


def _clipped(pieces: Array, west: Array, south: Array, east: Array, north: Array) -> Array:
    """Return what lies of shapes in rectangles; those that lie in theirs whole are not touched."""
    import shapely

    bounds = shapely.bounds(pieces)
    across = np.flatnonzero((bounds[:, 0] < west) | (bounds[:, 1] < south) | (bounds[:, 2] > east)
                            | (bounds[:, 3] > north))  # fmt: skip
    boxes = shapely.box(west[across], south[across], east[across], north[across])
    pieces = pieces.copy()
    pieces[across] = _intersections(pieces[across], boxes)
    return pieces


def _intersections(shapes: Array, others: Array) -> Array:
    """Return what pairs of shapes have in common, on all cores."""
    import shapely

    parts = [slice(at, at + _SHAPES_AT_ONCE) for at in range(0, len(shapes), _SHAPES_AT_ONCE)]
    if len(parts) < 2:
        return np.asarray(shapely.intersection(shapes, others))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return np.concatenate(list(pool.map(lambda part: shapely.intersection(shapes[part], others[part]), parts)))


def _quartered(
    owners: Array, spans: Array, pieces: Array, x_edges: Array, y_edges: Array
) -> tuple[Array, Array, Array]:
    """Cut the rectangles around shapes in four, between columns and between rows."""
    around = _spans(pieces, x_edges, y_edges)
    spans = np.stack([np.maximum(around[0], spans[0]), np.minimum(around[1], spans[1]),
                      np.maximum(around[2], spans[2]), np.minimum(around[3], spans[3])])  # fmt: skip
    x, y = -(-(spans[0] + spans[1]) // 2), -(-(spans[2] + spans[3]) // 2)
    made = [np.stack([*columns, *rows]) for columns in ((spans[0], x), (x, spans[1]))
            for rows in ((spans[2], y), (y, spans[3]))]  # fmt: skip
    return np.tile(owners, 4), np.concatenate(made, axis=1), np.tile(pieces, 4)


def common(shapes: Array, others: Array, period: float) -> tuple[Array, Array, Array]:
    """Return the plane area that each of some polygons has in common with each of others.

    Parameters
    ----------
    shapes, others : ndarray of shapely geometries
    period : float
        Shapes so far apart along x are the same.

    Returns
    -------
    tuple of ndarray
        Number of the shape, number of the other, and area, for each pair that overlaps.
    """
    import shapely

    tree = shapely.STRtree(others)
    found = []
    for turn in (-period, 0.0, period):
        moved = moved_by(shapes, turn)
        ours, theirs = tree.query(moved)
        for at in range(0, ours.size, _AT_ONCE):
            pair = ours[at : at + _AT_ONCE], theirs[at : at + _AT_ONCE]
            areas = shapely.area(_intersections(moved[pair[0]], others[pair[1]]))
            real = areas > 0
            found.append((pair[0][real], pair[1][real], areas[real]))
    if not found:
        return np.empty(0, np.intp), np.empty(0, np.intp), np.empty(0)
    return tuple(np.concatenate([one[i] for one in found]) for i in range(3))  # type: ignore[return-value]


def moved_by(shapes: Array, along_x: float) -> Array:
    """Return shapes moved along x."""
    import shapely

    if along_x == 0.0:
        return shapes
    return np.asarray(shapely.transform(shapes, lambda points: points + (along_x, 0.0)))
