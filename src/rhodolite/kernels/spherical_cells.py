"""Cells with four corners on the sphere, and their outlines in a plane that keeps areas.

The plane has longitude in radians and the sine of latitude, so that an area in it is that on the
unit sphere (Lambert's cylindrical projection), and cells between parallels and meridians are
rectangles.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.great_circles import (
    POLE,
    area_under,
    points_along,
    steps_around,
    unit_vectors,
)

Array = NDArray[Any]


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
        [
            _beyond(centres[:1], centres[1:2]),
            centres,
            _beyond(centres[-1:], centres[-2:-1]),
        ]
    )
    ends = [
        _beyond(padded[:, :1], padded[:, 1:2]),
        _beyond(padded[:, -1:], padded[:, -2:-1]),
    ]
    if _goes_round(centres):
        ends = [padded[:, -1:], padded[:, :1]]
    padded = np.concatenate([ends[0], padded, ends[1]], axis=1)
    north, east = places(
        padded[:-1, :-1] + padded[:-1, 1:] + padded[1:, :-1] + padded[1:, 1:]
    )
    around = [
        np.stack([v[:-1, :-1], v[:-1, 1:], v[1:, 1:], v[1:, :-1]], axis=-1)
        for v in (north, east)
    ]
    return around[0], around[1]


def outlines_in_plane(
    latitudes: Array, longitudes: Array, *, straight: bool = False
) -> tuple[Array, Array]:
    """Return closed outlines of cells in the plane that keeps areas.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (n, corners)
        Degrees, in order around each cell.
    straight : bool
        Whether edges run along parallels and meridians, and not along great circles.

    Returns
    -------
    points : ndarray of float64, shape (total, 2)
        Longitudes in radians, without jumps within a cell and centred within -pi..pi, and sines of
        latitude.
    cells : ndarray of int, shape (total,)
        The cell that each point belongs to, ascending. Cells with a corner that is not finite have
        no points. Those that hold a pole are closed along it.
    """
    whole, latitudes, longitudes = _whole_cells(latitudes, longitudes)
    edges_of = _straight if straight else points_along
    x, y, steps, cells = edges_of(latitudes, longitudes)
    first = np.flatnonzero(np.diff(cells, prepend=-1))
    before = np.cumsum(steps) - steps
    x = x[first][cells] + before - before[first][cells]
    winding = np.add.reduceat(steps, first) if first.size else np.zeros(0)
    # An outline closes to the last bit.
    winding = 2 * np.pi * np.round(winding / (2 * np.pi))
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
        np.concatenate([part, *(end[at] for end in ends)])
        for at, part in enumerate((x, y, cells))
    ]
    order = np.argsort(points[2], kind="stable")
    return np.stack(points[:2], axis=-1)[order], whole[points[2][order].astype(np.intp)]


def areas_of_cells(
    latitudes: Array, longitudes: Array, *, straight: bool = False
) -> Array:
    """Return the areas of cells on the unit sphere, shape (n,); 0 where a corner is not finite.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (n, corners)
        Degrees, in order around each cell.
    straight : bool
        Whether edges run along parallels and meridians, and not along great circles.

    Notes
    -----
    The sum of what lies between each edge and the latitude of the first corner, by which small
    cells lose no figures; a cell that holds a pole is closed along it.

    Examples
    --------
    >>> latitudes = np.array([[0.0, 0.0, 90.0]])
    >>> longitudes = np.array([[0.0, 90.0, 0.0]])
    >>> areas_of_cells(latitudes, longitudes).round(6).tolist()
    [1.570796]
    """
    areas = np.zeros(len(latitudes))
    whole, latitudes, longitudes = _whole_cells(latitudes, longitudes)
    steps = steps_around(longitudes, latitudes)
    y = np.sin(np.radians(latitudes))
    after, first = np.roll(y, -1, axis=1), y[:, :1]
    under = steps * (y + after) / 2 if straight else area_under(steps, y, after)
    turns = 2 * np.pi * np.round(steps.sum(axis=1) / (2 * np.pi))
    beyond = np.copysign(1.0, first[:, 0]) - first[:, 0]
    areas[whole] = np.abs((under - steps * first).sum(axis=1) - turns * beyond)
    return areas


def _whole_cells(latitudes: Array, longitudes: Array) -> tuple[Array, Array, Array]:
    """Return which cells have finite corners alone, and these, led through poles on meridians."""
    whole = np.flatnonzero(
        np.isfinite(latitudes).all(axis=1) & np.isfinite(longitudes).all(axis=1)
    )
    latitudes, longitudes = latitudes[whole], longitudes[whole]
    if (np.abs(np.sin(np.radians(latitudes))) > POLE).any():
        longitudes, latitudes = _through_poles(longitudes, latitudes)
    return whole, latitudes, longitudes


def _through_poles(x: Array, y: Array) -> tuple[Array, Array]:
    """Return outlines, in degrees, whose corners at a pole have the longitudes of the corners
    beside them.

    A pole has no longitude of its own, so an outline comes to it along one meridian and leaves
    along another: every corner is doubled, as the end of the edge before it and as the start of the
    edge after it.
    """
    polar = np.abs(np.sin(np.radians(y))) > POLE
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
    return np.asarray(
        2 * np.einsum("...k,...k->...", ends, before)[..., None] * ends - before
    )


def _straight(latitudes: Array, longitudes: Array) -> tuple[Array, Array, Array, Array]:
    """Return the corners of cells one after another, as `points_along` does, of edges that are
    straight in the plane."""
    steps = steps_around(longitudes, latitudes)
    x, y = np.radians(longitudes), np.sin(np.radians(latitudes))
    cells = np.repeat(np.arange(len(x)), x.shape[1])
    return x.reshape(-1), y.reshape(-1), steps.reshape(-1), cells


def _goes_round(centres: Array) -> bool:
    """Return whether the last column lies next to the first, as near as other columns lie to each
    other."""
    if centres.shape[1] < 4:
        return False
    seam = np.linalg.norm(centres[:, 0] - centres[:, -1], axis=-1)
    apart = np.linalg.norm(np.diff(centres, axis=1), axis=-1).max(axis=1)
    return bool((seam <= 1.5 * apart).all())
