"""Cells with four corners on the sphere, and their outlines in a plane that keeps areas.

The plane has longitude in radians and the sine of latitude, so that an area in it is that on the unit
sphere (Lambert's cylindrical projection), and cells between parallels and meridians are rectangles.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_POLE = 1 - 1e-12
_MOST_BENT = 0.05
"""Edges are drawn as great circles where these leave the straight line by more than this part of their length."""
_POINTS = 8


def unit_vectors(latitudes: Array, longitudes: Array) -> Array:
    """Return places on the unit sphere in Cartesian coordinates, shape (..., 3), from degrees."""
    phi, lam = np.radians(latitudes), np.radians(longitudes)
    return np.stack([np.cos(phi) * np.cos(lam), np.cos(phi) * np.sin(lam), np.sin(phi)], axis=-1)


def places(vectors: Array) -> tuple[Array, Array]:
    """Return latitudes and longitudes, in degrees, of vectors of any length, shape (..., 3)."""
    x, y, z = np.moveaxis(vectors, -1, 0)
    return np.degrees(np.arctan2(z, np.hypot(x, y))), np.degrees(np.arctan2(y, x))


def corners_between(latitudes: Array, longitudes: Array) -> tuple[Array, Array]:
    """Return the corners of cells whose centres are given: in the middle of four centres.

    At the rim centres are continued along great circles, or across the seam where the columns go round.

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
    padded = np.concatenate([_beyond(centres[:1], centres[1:2]), centres, _beyond(centres[-1:], centres[-2:-1])])
    ends = [_beyond(padded[:, :1], padded[:, 1:2]), _beyond(padded[:, -1:], padded[:, -2:-1])]
    if _goes_round(centres):
        ends = [padded[:, -1:], padded[:, :1]]
    padded = np.concatenate([ends[0], padded, ends[1]], axis=1)
    north, east = places(padded[:-1, :-1] + padded[:-1, 1:] + padded[1:, :-1] + padded[1:, 1:])
    around = [np.stack([v[:-1, :-1], v[:-1, 1:], v[1:, 1:], v[1:, :-1]], axis=-1) for v in (north, east)]
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
        Longitudes in radians, without jumps within a cell and centred within -pi..pi, and sines of latitude.
    cells : ndarray of int, shape (total,)
        The cell that each point belongs to, ascending. Cells with a corner that is not finite have no points.
        Those that hold a pole are closed along it.
    """
    whole = np.flatnonzero(np.isfinite(latitudes).all(axis=1) & np.isfinite(longitudes).all(axis=1))
    x, y = _bent(latitudes[whole], longitudes[whole])
    steps = np.diff(x, axis=1, append=x[:, :1])
    steps = (steps + np.pi) % (2 * np.pi) - np.pi
    x = x[:, :1] + np.concatenate([np.zeros((len(x), 1)), np.cumsum(steps, axis=1)], axis=1)
    y = np.concatenate([y, y[:, :1]], axis=1)
    x -= 2 * np.pi * np.round(x.mean(axis=1, keepdims=True) / (2 * np.pi))
    winding = steps.sum(axis=1)
    polar = np.abs(winding) > np.pi
    if not polar.any():
        return np.stack([x, y], axis=-1).reshape(-1, 2), np.repeat(whole, x.shape[1])
    pole = np.copysign(1.0, y.mean(axis=1))
    more_x = np.stack([x[:, -1], x[:, 0], x[:, 0]], axis=1)
    more_y = np.where(polar[:, None], np.stack([pole, pole, y[:, 0]], axis=1), y[:, :1])
    # For other cells the points that close the ring are repeated, which changes nothing.
    x, y = np.concatenate([x, more_x], axis=1), np.concatenate([y, more_y], axis=1)
    return np.stack([x, y], axis=-1).reshape(-1, 2), np.repeat(whole, x.shape[1])


def _beyond(ends: Array, before: Array) -> Array:
    """Return where a great circle goes on beyond its end, as far as it came: the reflection at the end."""
    return np.asarray(2 * np.einsum("...k,...k->...", ends, before)[..., None] * ends - before)


def _bent(latitudes: Array, longitudes: Array) -> tuple[Array, Array]:
    """Return corners in the plane, with points between them along great circles where these bend much."""
    x, y = np.radians(longitudes), np.sin(np.radians(latitudes))
    ends = unit_vectors(latitudes, longitudes)
    others = np.roll(ends, -1, axis=1)
    steps = (np.roll(x, -1, axis=1) - x + np.pi) % (2 * np.pi) - np.pi
    ahead = np.roll(y, -1, axis=1) - y
    # A great circle to a pole runs along a meridian, and one along a pole is a point.
    polar = (np.abs(y) > _POLE) | (np.abs(y + ahead) > _POLE)

    def between(part: float) -> tuple[Array, Array]:
        middle = (1 - part) * ends + part * others
        middle /= np.linalg.norm(middle, axis=-1, keepdims=True)
        turned = (np.arctan2(middle[..., 1], middle[..., 0]) - x + np.pi) % (2 * np.pi) - np.pi
        return (np.where(polar, x + part * steps, x + turned), np.where(polar, y + part * ahead, middle[..., 2]))

    half = between(0.5)
    bent = np.hypot(half[0] - x - steps / 2, half[1] - y - ahead / 2)
    if not (bent > _MOST_BENT * np.hypot(steps, ahead)).any():
        return x, y
    parts = [(x, y), *(between(at / _POINTS) for at in range(1, _POINTS))]
    return tuple(np.stack([part[i] for part in parts], axis=-1).reshape(len(x), -1) for i in (0, 1))  # type: ignore[return-value]


def _goes_round(centres: Array) -> bool:
    """Return whether the last column lies next to the first, as near as other columns lie to each other."""
    if centres.shape[1] < 4:
        return False
    seam = np.linalg.norm(centres[:, 0] - centres[:, -1], axis=-1)
    apart = np.linalg.norm(np.diff(centres, axis=1), axis=-1).max(axis=1)
    return bool((seam <= 1.5 * apart).all())
