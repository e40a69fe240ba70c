"""Great circles in the plane of longitude and sine of latitude, which keeps areas.

Between places that lie close together they are nearly straight there, and close to a pole they are
not at all: an edge that passes it by turns through all longitudes. So an edge gets points between
its ends, as many as the area under it needs.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_FINE = 2.5e-7
"""Part of a cell by which a piece of an edge may miss it."""
_STRAIGHT = 1e-9
"""Part of a cell below which an edge is straight as it is."""
_MOST_POINTS = 128
_TURN_AT_ONCE = np.radians(0.5)
"""Longitude that a piece of an edge passes through at most, about."""
POLE = 1 - 1e-12
"""Sine of the latitude from which on places are the pole itself."""
_MOST_MOVED = 4.0
"""Points are moved by so many times the distance by which an edge bends at them, at most."""
_THROUGH = 1e-9
"""Radians by which an edge through a pole may miss it."""


def unit_vectors(latitudes: Array, longitudes: Array) -> Array:
    """Return places on the unit sphere in Cartesian coordinates, shape (..., 3), from degrees north
    and east.

    Examples
    --------
    >>> unit_vectors(np.array(90.0), np.array(0.0)).round(12).tolist()
    [0.0, 0.0, 1.0]

    Examples
    --------
    >>> unit_vectors(np.array([0.0, 90.0]), np.array([90.0, 0.0])).round(6).tolist()
    [[0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    """
    phi, lam = np.radians(latitudes), np.radians(longitudes)
    return np.stack(
        [np.cos(phi) * np.cos(lam), np.cos(phi) * np.sin(lam), np.sin(phi)], axis=-1
    )


def steps_around(longitudes: Array, latitudes: Array) -> Array:
    """Return how far each edge of cells goes east, in radians, by the shorter way.

    An edge through a pole could go either way; it goes the way that brings the outline back to
    where it began.

    Parameters
    ----------
    longitudes, latitudes : ndarray of float64, shape (n, corners)
        Degrees, in order around each cell.
    """
    x = np.radians(longitudes)
    steps = (np.roll(x, -1, axis=1) - x + np.pi) % (2 * np.pi) - np.pi
    y = np.abs(np.sin(np.radians(latitudes)))
    through = (np.abs(np.abs(steps) - np.pi) < _THROUGH) & (y < POLE)
    through &= np.roll(y, -1, axis=1) < POLE
    others = np.where(through, 0.0, steps).sum(axis=1, keepdims=True)
    return np.asarray(np.where(through, np.copysign(np.pi, -others), steps))


def points_along(
    latitudes: Array, longitudes: Array
) -> tuple[Array, Array, Array, Array]:
    """Return the points of cells whose edges are great circles, one after another.

    The points between the ends of an edge lie a little off it, so that the area under the straight
    pieces is that under the great circle.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (n, corners)
        Degrees, in order around each cell.

    Returns
    -------
    x, y : ndarray of float64, shape (total,)
        Radians east, and the sine of latitude.
    steps : ndarray of float64, shape (total,)
        Radians east from each point to the next.
    cells : ndarray of int, shape (total,)
    """
    steps = steps_around(longitudes, latitudes).reshape(-1)
    start = unit_vectors(latitudes, longitudes)
    stop = np.roll(start, -1, axis=1).reshape(-1, 3)
    start = start.reshape(-1, 3)
    edges, shares = _shares(start, stop, steps)
    points = (1 - shares)[:, None] * start[edges] + shares[:, None] * stop[edges]
    points /= np.maximum(np.linalg.norm(points, axis=1, keepdims=True), 1e-300)
    turned = _turned(start[edges], points, steps[edges])
    first = shares == 0.0
    turned[first] = 0.0
    y = np.where(first, np.sin(np.radians(latitudes)).reshape(-1)[edges], points[:, 2])
    y, turned, edges = _with_poles(y, turned, edges, start, stop, steps)
    y, turned = _with_area_kept(y, turned, edges, steps, start[:, 2], stop[:, 2])
    ahead = np.append(turned[1:], 0.0)
    last = np.append(edges[1:] != edges[:-1], True)
    ahead[last] = steps[edges[last]]
    x = np.radians(longitudes).reshape(-1)[edges] + turned
    return x, y, ahead - turned, edges // latitudes.shape[1]


def _shares(start: Array, stop: Array, steps: Array) -> tuple[Array, Array]:
    """Return the edges and the places on them, from 0 to below 1, at which points are put, from
    either end the same.

    The closer to the axis of the sphere, the closer together: evenly in the area hyperbolic sine
    of the way from where the straight line between the ends passes the axis, over how far off it
    passes. The distance changes gently, since an area that is kept by moving points is kept along
    the edge, too, only where neighbouring pieces are alike.
    """
    bent = _bends(start, stop, steps)
    level = (np.abs(start[:, 2]) > POLE) | (np.abs(stop[:, 2]) > POLE)
    straight = level | (bent < _STRAIGHT) | (np.abs(np.abs(steps) - np.pi) < _THROUGH)
    along = stop[:, :2] - start[:, :2]
    length = np.maximum(np.hypot(*along.T), 1e-150)
    nearest = -np.einsum("ij,ij->i", start[:, :2], along) / length**2
    off = np.abs(start[:, 0] * stop[:, 1] - start[:, 1] * stop[:, 0]) / length**2
    off = np.maximum(off, _THROUGH)
    low, high = np.arcsinh(-nearest / off), np.arcsinh((1 - nearest) / off)
    pieces = np.cbrt(bent / _FINE).clip(3, _MOST_POINTS)
    pieces = np.maximum(pieces, (high - low) / _TURN_AT_ONCE)
    counts = np.where(straight, 1, np.ceil(pieces)).astype(np.int64)
    edges, shares = _numbered(counts)
    inner = np.flatnonzero(shares > 0)
    of = edges[inner]
    place = low[of] + shares[inner] * (high - low)[of]
    shares[inner] = nearest[of] + off[of] * np.sinh(place)
    return edges, shares


def _bends(start: Array, stop: Array, steps: Array) -> Array:
    """Return the part of a cell that lies between each edge and the straight line of its ends."""
    chord = np.linalg.norm(start - stop, axis=1)
    off = np.maximum.reduce(
        [_off_line(start, stop, steps, part) for part in (0.25, 0.5, 0.75)]
    )
    return np.asarray(2 / 3 * off / np.maximum(chord**2, 1e-300))


def _off_line(start: Array, stop: Array, steps: Array, part: float) -> Array:
    """Return how far a point of each edge lies off the straight line between its ends, times the
    length of that."""
    point = (1 - part) * start + part * stop
    point /= np.maximum(np.linalg.norm(point, axis=1, keepdims=True), 1e-300)
    rise, ahead = point[:, 2] - start[:, 2], stop[:, 2] - start[:, 2]
    return np.asarray(np.abs(_turned(start, point, steps) * ahead - steps * rise))


def _numbered(counts: Array) -> tuple[Array, Array]:
    """Return each number as often as it is counted, and the share of it that lies before."""
    numbers = np.repeat(np.arange(counts.size), counts)
    place = np.arange(numbers.size) - np.repeat(np.cumsum(counts) - counts, counts)
    return numbers, place / counts[numbers]


def _turned(start: Array, points: Array, steps: Array) -> Array:
    """Return how far points on edges lie east of their starts, in radians."""
    cross = start[:, 0] * points[:, 1] - start[:, 1] * points[:, 0]
    dot = start[:, 0] * points[:, 0] + start[:, 1] * points[:, 1]
    angle = np.arctan2(cross, dot)
    turned = np.where(np.abs(angle) <= np.abs(steps), angle, np.copysign(angle, steps))
    return np.asarray(turned)


def _with_poles(
    y: Array, turned: Array, edges: Array, start: Array, stop: Array, steps: Array
) -> tuple[Array, Array, Array]:
    """Return points with two at the pole for each edge that leads through one: up along one
    meridian, along the pole, and down along the other."""
    level = (np.abs(start[:, 2]) > POLE) | (np.abs(stop[:, 2]) > POLE)
    through = np.flatnonzero((np.abs(np.abs(steps) - np.pi) < _THROUGH) & ~level)
    if not through.size:
        return y, turned, edges
    more = np.repeat(np.searchsorted(edges, through) + 1, 2)
    pole = np.copysign(1.0, start[through, 2] + stop[through, 2])
    ends = np.stack([np.zeros(through.size), steps[through]], axis=1).reshape(-1)
    return (
        np.insert(y, more, np.repeat(pole, 2)),
        np.insert(turned, more, ends),
        np.insert(edges, more, np.repeat(through, 2)),
    )


def area_under(steps: Array, low: Array, high: Array) -> Array:
    """Return the integral of the sine of latitude over longitude along great circles.

    By the spherical excess of the triangle of an edge and the pole of its hemisphere (Todhunter,
    Spherical Trigonometry, art. 103): tan(E/2) = t sin(C) / (1 + t cos(C)), where t is the product
    of the tangents of half the distances from the pole, and C the angle there.

    Parameters
    ----------
    steps : ndarray of float64
        Radians from one end to the other.
    low, high : ndarray of float64
        Sines of the latitudes of the ends.
    """
    side = np.where(low + high >= 0, 1.0, -1.0)
    tangents = [np.sqrt((1 - side * z).clip(0) / (1 + side * z)) for z in (low, high)]
    t = tangents[0] * tangents[1]
    excess = 2 * np.arctan2(t * np.sin(steps), 1 + t * np.cos(steps))
    return np.asarray(side * (steps - excess))


def _with_area_kept(
    y: Array, turned: Array, edges: Array, steps: Array, low: Array, high: Array
) -> tuple[Array, Array]:
    """Return points of which those between the ends are moved off their edges, each by as much as
    the edge bends there, so that the area under an edge is the true one."""
    is_last = np.append(edges[1:] != edges[:-1], True)
    next_x = np.where(is_last, steps[edges], np.append(turned[1:], 0.0))
    next_y = np.where(is_last, high[edges], np.append(y[1:], 0.0))
    under = np.bincount(
        edges, (next_x - turned) * (y + next_y) / 2, minlength=steps.size
    )
    inner = np.flatnonzero(np.append(False, edges[1:] == edges[:-1]))
    if not inner.size:
        return y, turned
    before_x, before_y = turned[inner - 1], y[inner - 1]
    across_x, across_y = next_x[inner] - before_x, next_y[inner] - before_y
    bend = (
        np.abs(across_x * (y[inner] - before_y) - across_y * (turned[inner] - before_x))
        / 2
    )
    total = np.bincount(edges[inner], bend, minlength=steps.size)
    lacking = area_under(steps, low, high) - under
    share = np.divide(lacking, total, out=np.zeros_like(total), where=total != 0).clip(
        -_MOST_MOVED, _MOST_MOVED
    )
    moved = (
        2 * share[edges[inner]] * bend / np.maximum(across_x**2 + across_y**2, 1e-300)
    )
    y, turned = y.copy(), turned.copy()
    turned[inner] -= moved * across_y
    y[inner] = (y[inner] + moved * across_x).clip(-1.0, 1.0)
    return y, turned
