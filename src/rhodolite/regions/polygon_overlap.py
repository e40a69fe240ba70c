"""Polygons against cells: the area that each has in common with each."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.limits import usable_cores

Array = NDArray[Any]
_POLYGON = 3
"""The number by which shapely tells polygons."""
_LEAST = 1e-13
"""Parts of the largest cell smaller than this are what rounding leaves."""
_FEW_ROWS = 8
_GRID = 2e-15
"""Radians; points are moved by as much at most, without which edges that nearly coincide can go
wrong."""
_COARSER = (0.0, 1e-14, 1e-13, 1e-12)
"""What is tried in place of it where that fails; 0 for none."""
_AT_ONCE = 400_000
_SHAPES_AT_ONCE = 1000


def polygons(points: Array, owners: Array, count: int) -> Array:
    """Return polygons for closed rings, an empty one for owners without points; crossed rings are
    repaired.

    Parameters
    ----------
    points : ndarray of float64, shape (total, 2)
    owners : ndarray of int, shape (total,)
        Ascending.
    count : int
        Number of owners.
    """
    import shapely

    shapes = np.full(count, shapely.Polygon(), dtype=object)
    present, rings = np.unique(owners, return_inverse=True)
    if present.size:
        shapes[present] = shapely.polygons(shapely.linearrings(points, indices=rings))
    for at in np.flatnonzero(~shapely.is_valid(shapes)):
        parts = shapely.get_parts(shapely.get_parts(shapely.make_valid(shapes[at])))
        # Lines without area are left out.
        shapes[at] = shapely.MultiPolygon([part for part in parts if part.area > 0])
    return shapes


def area_on_sphere(shapes: Array) -> Array:
    """Return areas on the unit sphere of polygons whose edges are straight in degrees east and
    north.

    Parameters
    ----------
    shapes : ndarray
        Polygons.

    Notes
    -----
    The area under an edge is the integral of sin(latitude) over longitude, which for a straight
    edge is the width times the mean of the sine between its ends: (cos a - cos b) / (b - a).
    """
    ends, owners = _segments(shapes)
    x0, y0, x1, y1 = np.radians(ends).T
    under = (x0 - x1) * np.sin((y0 + y1) / 2) * np.sinc((y1 - y0) / 2 / np.pi)
    return np.bincount(owners, under, minlength=len(shapes))


def cut(
    shapes: Array, x_edges: Array, y_edges: Array, *, degrees: bool
) -> tuple[Array, Array, Array, Array]:
    """Return the area that polygons have in common with the cells of a rectangular grid.

    Parameters
    ----------
    shapes : ndarray of shapely polygons, shape (n,)
    x_edges, y_edges : ndarray
        Ascending edges of columns and rows, in the coordinates of the shapes.
    degrees : bool
        Whether coordinates are degrees, and areas those on the unit sphere; otherwise areas are
        those in the plane.

    Returns
    -------
    tuple of ndarray
        Shape, row, column, and area, for each pair that overlaps.

    Notes
    -----
    By Green's theorem. The rings are cut where they cross the lines of the grid; each piece then
    adds the area between it and the bottom of its cell to that cell, and a strip of its width to
    every cell below in the same column, with the sign of its direction.
    """
    ends, owners = _segments(shapes)
    pieces, which = _pieces(ends, x_edges, y_edges)
    owners = owners[which]
    (xa, ya), (xb, yb) = pieces[:, :2].T, pieces[:, 2:].T
    column = np.searchsorted(x_edges, (xa + xb) / 2, side="right") - 1
    row = np.searchsorted(y_edges, (ya + yb) / 2, side="right") - 1
    inside = (column >= 0) & (column < x_edges.size - 1)
    column, owners = column[inside], owners[inside]
    # What lies below the grid adds nothing, and says that the shape reaches the first row.
    is_below = row[inside] < 0
    row = np.clip(row[inside], 0, y_edges.size - 1)
    xa, ya, xb, yb = xa[inside], ya[inside], xb[inside], yb[inside]
    widths = np.radians(xa - xb) if degrees else xa - xb
    heights = np.sin(np.radians(y_edges)) if degrees else y_edges
    if degrees:
        middle, half = np.radians((ya + yb) / 2), np.radians(yb - ya) / 2
        # The mean of the sine along a straight line.
        means = np.sin(middle) * np.sinc(half / np.pi)
    else:
        means = (ya + yb) / 2
    is_cut = ~is_below & (row < y_edges.size - 1)
    own = np.where(is_cut, widths * (means - heights[row]), 0.0)
    overlaps = _gather(owners, row, column, widths, own, heights)
    least = (
        _LEAST
        * np.diff(heights).max()
        * np.diff(np.radians(x_edges) if degrees else x_edges).max()
    )
    return tuple(part[overlaps[3] > least] for part in overlaps)


def _segments(shapes: Array) -> tuple[Array, Array]:
    """Return the edges of polygons as (x, y, x, y), shells counter-clockwise, holes clockwise, and
    whose they are."""
    import shapely

    parts, owners = shapely.get_parts(shapes, return_index=True)
    flat = shapely.get_type_id(parts) == _POLYGON
    rings, of_part = shapely.get_rings(
        shapely.orient_polygons(parts[flat]), return_index=True
    )
    points, of_ring = shapely.get_coordinates(rings, return_index=True)
    same = np.flatnonzero(of_ring[1:] == of_ring[:-1])
    ends = np.concatenate([points[same], points[same + 1]], axis=1)
    return ends, owners[flat][of_part[of_ring[same]]]


def _pieces(ends: Array, x_edges: Array, y_edges: Array) -> tuple[Array, Array]:
    """Cut segments where they cross lines; return the pieces as (x, y, x, y), and the segment of
    each."""
    numbers = np.arange(len(ends))
    at = [np.zeros(len(ends)), np.ones(len(ends))]
    whose, places = [numbers, numbers], [ends[:, :2], ends[:, 2:]]
    for axis, edges in ((0, x_edges), (1, y_edges)):
        low, high = (
            f(ends[:, axis], ends[:, axis + 2]) for f in (np.minimum, np.maximum)
        )
        first, last = (
            np.searchsorted(edges, low, side="right"),
            np.searchsorted(edges, high, side="left"),
        )
        counts = np.maximum(last - first, 0)
        crossing = np.repeat(numbers, counts)
        line = edges[
            first[crossing]
            + np.arange(crossing.size)
            - np.repeat(np.cumsum(counts) - counts, counts)
        ]
        start, stop = ends[crossing, :2], ends[crossing, 2:]
        part = (line - start[:, axis]) / (stop[:, axis] - start[:, axis])
        place = start + part[:, None] * (stop - start)
        place[:, axis] = (
            line  # to the last bit, so that pieces on both sides meet on the line
        )
        at.append(part)
        whose.append(crossing)
        places.append(place)
    segments, points = np.concatenate(whose), np.concatenate(places)
    order = np.lexsort((np.concatenate(at), segments))
    segments, points = segments[order], points[order]
    same = np.flatnonzero(segments[1:] == segments[:-1])
    return np.concatenate([points[same], points[same + 1]], axis=1), segments[same]


def _gather(
    owners: Array, row: Array, column: Array, widths: Array, own: Array, heights: Array
) -> tuple[Array, ...]:
    """Return shape, row, column and area of all cells, of what the pieces add to their cells and to
    those below."""
    order = np.argsort(owners, kind="stable")
    starts = np.flatnonzero(np.diff(owners[order], prepend=-1))
    sizes = np.diff(heights)
    parts: list[tuple[Array, ...]] = []
    counts = np.diff(starts, append=order.size)
    bottom, top, left, right = (
        outermost.reduceat(places[order], starts) if starts.size else starts
        for places in (row, column)
        for outermost in (np.minimum, np.maximum)
    )
    lowest, small = np.empty(row.size, dtype=np.intp), np.empty(row.size, dtype=bool)
    lowest[order] = np.repeat(bottom, counts)
    small[order] = np.repeat(top - bottom < _FEW_ROWS, counts)
    for at in np.flatnonzero(top - bottom >= _FEW_ROWS):
        part = order[starts[at] : starts[at] + counts[at]]
        south, west = bottom[at], left[at]
        high, wide = top[at] - south + 1, right[at] - west + 1
        # A shape over many rows gets a grid of its own, summed from the top.
        cells = np.zeros((high, wide))
        strips = np.zeros((high, wide))
        np.add.at(cells, (row[part] - south, column[part] - west), own[part])
        np.add.at(strips, (row[part] - south, column[part] - west), widths[part])
        above = np.cumsum(strips[::-1], axis=0)[::-1] - strips
        inner = min(high, sizes.size - south)
        cells[:inner] += above[:inner] * sizes[south : south + inner, None]
        r, c = np.nonzero(cells[:inner])
        parts.append(
            (np.full(r.size, owners[part[0]]), r + south, c + west, cells[r, c])
        )
    some = np.flatnonzero(small)
    below = row[some] - lowest[some]
    again = np.repeat(some, below)
    rows = (
        lowest[again]
        + np.arange(again.size)
        - np.repeat(np.cumsum(below) - below, below)
    )
    within = some[row[some] < sizes.size]
    pair = (
        np.concatenate([owners[within], owners[again]]),
        np.concatenate([row[within], rows]),
        np.concatenate([column[within], column[again]]),
    )
    areas = np.concatenate([own[within], widths[again] * sizes[rows]])
    limits = [int(index.max(initial=0)) + 1 for index in pair]
    keys, back = np.unique(np.ravel_multi_index(pair, limits), return_inverse=True)
    parts.append(
        (*np.unravel_index(keys, limits), np.bincount(back, areas, minlength=keys.size))
    )
    return tuple(np.concatenate([index[i] for index in parts]) for i in range(4))


def _intersections(shapes: Array, others: Array) -> Array:
    """Return what pairs of shapes have in common, on all cores."""
    parts = [
        slice(at, at + _SHAPES_AT_ONCE) for at in range(0, len(shapes), _SHAPES_AT_ONCE)
    ]
    if len(parts) < 2:
        return _intersect(shapes, others)
    with ThreadPoolExecutor(usable_cores()) as pool:
        pieces = pool.map(lambda part: _intersect(shapes[part], others[part]), parts)
        return np.concatenate(list(pieces))


def _intersect(shapes: Array, others: Array) -> Array:
    """Return what pairs of shapes have in common; where edges nearly coincide and the geometry
    library cannot tell which crosses which, after moving points by a little more."""
    import shapely

    try:
        return np.asarray(shapely.intersection(shapes, others, grid_size=_GRID))
    except shapely.errors.GEOSException:
        if len(shapes) > 1:
            half = len(shapes) // 2
            parts = (slice(None, half), slice(half, None))
            return np.concatenate(
                [_intersect(shapes[part], others[part]) for part in parts]
            )
    for grid in _COARSER[:-1]:
        try:
            return np.asarray(shapely.intersection(shapes, others, grid_size=grid))
        except shapely.errors.GEOSException:
            continue
    return np.asarray(shapely.intersection(shapes, others, grid_size=_COARSER[-1]))


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
    parts = []
    for turn in (-period, 0.0, period):
        moved = moved_by(shapes, turn)
        ours, theirs = tree.query(moved)
        for at in range(0, ours.size, _AT_ONCE):
            pair = ours[at : at + _AT_ONCE], theirs[at : at + _AT_ONCE]
            areas = shapely.area(_intersections(moved[pair[0]], others[pair[1]]))
            real = areas > 0
            parts.append((pair[0][real], pair[1][real], areas[real]))
    if not parts:
        return np.empty(0, np.intp), np.empty(0, np.intp), np.empty(0)
    return tuple(np.concatenate([part[i] for part in parts]) for i in range(3))  # type: ignore[return-value]


def moved_by(shapes: Array, along_x: float) -> Array:
    """Return shapes moved along x.

    Parameters
    ----------
    shapes : ndarray
        Polygons.
    along_x : float
    """
    import shapely

    if along_x == 0.0:
        return shapes
    return np.asarray(shapely.transform(shapes, lambda points: points + (along_x, 0.0)))
