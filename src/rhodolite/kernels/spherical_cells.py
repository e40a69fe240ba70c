"""Cells with four corners on the sphere, and their outlines in a plane that keeps areas.

The plane has longitude in radians and the sine of latitude, so that an area in it is that on the
unit sphere (Lambert's cylindrical projection), and cells between parallels and meridians are
rectangles.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_POLE = 1 - 1e-12
_MOST_BENT = 0.05
"""Edges are drawn as great circles where these leave the straight line by more than this part of
their length."""
_POINTS = 8


def unit_vectors(latitudes: Array, longitudes: Array) -> Array:
    """Return places on the unit sphere in Cartesian coordinates, shape (..., 3), from degrees north
    and east.

    Parameters
    ----------
    latitudes : ndarray
        Degrees north.
    longitudes : ndarray
        Degrees east.

    Examples
    --------
    >>> unit_vectors(np.array(90.0), np.array(0.0)).round(12).tolist()
    [0.0, 0.0, 1.0]
    """
    phi, lam = np.radians(latitudes), np.radians(longitudes)
    return np.stack([np.cos(phi) * np.cos(lam), np.cos(phi) * np.sin(lam), np.sin(phi)], axis=-1)


def places(vectors: Array) -> tuple[Array, Array]:
    """Return latitudes and longitudes, in degrees, of vectors of any length, shape (..., 3).

    Parameters
    ----------
    vectors : ndarray
        Unit vectors, shape (..., 3).
    """
    x, y, z = np.moveaxis(vectors, -1, 0)
    return np.degrees(np.arctan2(z, np.hypot(x, y))), np.degrees(np.arctan2(y, x))


def corners_between(latitudes: Array, longitudes: Array) -> tuple[Array, Array]:
    """Return the corners of cells whose centres are given: in the middle of four centres.

    At the rim centres are continued along great circles, or across the seam where the columns go
    round.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (rows, columns)
        Degrees; at least two of each.

    Returns
    -------
    tuple of ndarray of float64, shape (rows, columns, 4)
        Latitudes and longitudes of each cell's corners, in order around it.
    """
    centres = unit_vectors(latitudes, longitudes)
    padded = np.concatenate(
        [_beyond(centres[:1], centres[1:2]), centres, _beyond(centres[-1:], centres[-2:-1])]
    )
    ends = [_beyond(padded[:, :1], padded[:, 1:2]), _beyond(padded[:, -1:], padded[:, -2:-1])]
    if _goes_round(centres):
        ends = [padded[:, -1:], padded[:, :1]]
    padded = np.concatenate([ends[0], padded, ends[1]], axis=1)
    north, east = places(padded[:-1, :-1] + padded[:-1, 1:] + padded[1:, :-1] + padded[1:, 1:])
    around = [
        np.stack([v[:-1, :-1], v[:-1, 1:], v[1:, 1:], v[1:, :-1]], axis=-1) for v in (north, east)
    ]
    return around[0], around[1]


def outlines_in_plane(latitudes: Array, longitudes: Array) -> tuple[Array, Array]:
    """Return closed outlines of cells in the plane that keeps areas.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (n, corners)
        Degrees, in order around each cell.

    Returns
    -------
    points : ndarray of float64, shape (total, 2)
        Longitudes in radians, without jumps within a cell and centred within -pi..pi, and sines of
        latitude.
    cells : ndarray of int, shape (total,)
        The cell that each point belongs to, ascending. Cells with a corner that is not finite have
        no points. Those that hold a pole are closed along it.
    """
    whole = np.flatnonzero(np.isfinite(latitudes).all(axis=1) & np.isfinite(longitudes).all(axis=1))
    latitudes, longitudes = latitudes[whole], longitudes[whole]
    if (np.abs(np.sin(np.radians(latitudes))) > _POLE).any():
        longitudes, latitudes = _through_poles(longitudes, latitudes)
    x, y, cells = _bent(latitudes, longitudes)
    first = np.flatnonzero(np.diff(cells, prepend=-1))
    following = np.arange(1, x.size + 1)
    following[np.append(first[1:], x.size) - 1] = first
    steps = (x[following] - x + np.pi) % (2 * np.pi) - np.pi
    before = np.cumsum(steps) - steps
    x = x[first][cells] + before - before[first][cells]
    winding = np.add.reduceat(steps, first) if first.size else np.zeros(0)
    winding = 2 * np.pi * np.round(winding / (2 * np.pi))  # an outline closes to the last bit
    middle = np.bincount(cells, x, minlength=whole.size) / np.maximum(
        np.bincount(cells, minlength=whole.size), 1
    )
    x -= (2 * np.pi * np.round(middle / (2 * np.pi)))[cells]
    # Every outline ends where it began; one that goes round a pole gets there along the pole.
    polar = np.flatnonzero(np.abs(winding) > np.pi)
    pole = np.copysign(1.0, y[first[polar]])
    ends = [(x[first] + winding, y[first], np.arange(whole.size))]
    ends += [
        (x[first[polar]] + winding[polar], pole, polar),
        (x[first[polar]], pole, polar),
        (x[first[polar]], y[first[polar]], polar),
    ]
    points = [
        np.concatenate([part, *(end[at] for end in ends)]) for at, part in enumerate((x, y, cells))
    ]
    order = np.argsort(points[2], kind="stable")
    return np.stack(points[:2], axis=-1)[order], whole[points[2][order].astype(np.intp)]


def _through_poles(x: Array, y: Array) -> tuple[Array, Array]:
    """Return outlines, in degrees, whose corners at a pole have the longitudes of the corners
    beside them.

    A pole has no longitude of its own, so an outline comes to it along one meridian and leaves
    along another: every corner is doubled, as the end of the edge before it and as the start of the
    edge after it.
    """
    polar = np.abs(np.sin(np.radians(y))) > _POLE
    arriving, leaving = x.copy(), x.copy()
    corners = x.shape[1]
    for at in range(2 * corners):  # twice round, since the first corner may be a pole
        before, here, after = (at - 1) % corners, at % corners, (at + 1) % corners
        arriving[:, here] = np.where(polar[:, here], leaving[:, before], x[:, here])
        goes_on = np.where(polar[:, after], arriving[:, here], x[:, after])
        leaving[:, here] = np.where(polar[:, here], goes_on, x[:, here])
    both = np.stack([arriving, leaving], axis=-1).reshape(len(x), -1)
    return both, np.repeat(y, 2, axis=1)


def _beyond(ends: Array, before: Array) -> Array:
    """Return where a great circle goes on beyond its end, as far as it came: the reflection at the
    end."""
    return np.asarray(2 * np.einsum("...k,...k->...", ends, before)[..., None] * ends - before)


def _bent(latitudes: Array, longitudes: Array) -> tuple[Array, Array, Array]:
    """Return the points of outlines in the plane, one after another, and the cell of each.

    Edges that as great circles bend much get points between their ends, the same from both sides.
    """
    x, y = np.radians(longitudes), np.sin(np.radians(latitudes))
    ends = unit_vectors(latitudes, longitudes)
    others = np.roll(ends, -1, axis=1)
    steps = (np.roll(x, -1, axis=1) - x + np.pi) % (2 * np.pi) - np.pi
    ahead = np.roll(y, -1, axis=1) - y
    # A great circle to a pole runs along a meridian, and one along a pole is a point.
    polar = (np.abs(y) > _POLE) | (np.abs(y + ahead) > _POLE)
    middle = ends + others
    middle /= np.maximum(np.linalg.norm(middle, axis=-1, keepdims=True), 1e-300)
    turned = (np.arctan2(middle[..., 1], middle[..., 0]) - x + np.pi) % (2 * np.pi) - np.pi
    apart = np.hypot(turned - steps / 2, middle[..., 2] - y - ahead / 2)
    bent = ~polar & (apart > _MOST_BENT * np.hypot(steps, ahead))
    counts = np.where(bent, _POINTS, 1).reshape(-1)
    edges = np.repeat(np.arange(counts.size), counts)
    part = (
        (np.arange(edges.size) - np.repeat(np.cumsum(counts) - counts, counts)) / counts[edges]
    )[:, None]
    along = (1 - part) * ends.reshape(-1, 3)[edges] + part * others.reshape(-1, 3)[edges]
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
    inner = part[:, 0] > 0
    x, y = x.reshape(-1)[edges], y.reshape(-1)[edges]
    x = np.where(inner, np.arctan2(along[:, 1], along[:, 0]), x)
    return x, np.where(inner, along[:, 2], y), edges // latitudes.shape[1]


def _goes_round(centres: Array) -> bool:
    """Return whether the last column lies next to the first, as near as other columns lie to each
    other."""
    if centres.shape[1] < 4:
        return False
    seam = np.linalg.norm(centres[:, 0] - centres[:, -1], axis=-1)
    apart = np.linalg.norm(np.diff(centres, axis=1), axis=-1).max(axis=1)
    return bool((seam <= 1.5 * apart).all())
