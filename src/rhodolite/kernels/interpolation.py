"""Weights of the cells around a place: the nearest, or the four whose centres enclose it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.great_circles import unit_vectors

if TYPE_CHECKING:
    from scipy import sparse

Array = NDArray[Any]
_ROUNDS = 12
_SLACK = 1e-9


def linear_weights(
    centres: Array, edges: Array, wanted: Array, period: float | None = None
) -> sparse.csr_array:
    """Return the weights of linear interpolation along an axis.

    Parameters
    ----------
    centres : ndarray of float64, shape (n,)
        Of cells, in either direction.
    edges : ndarray of float64, shape (n + 1,)
        Of the cells. Between an outermost centre and its edge the value is that of the cell.
    wanted : ndarray of float64, shape (m,)
    period : float, optional
        Places so far apart are the same, such as 360 for longitudes that go round.

    Returns
    -------
    sparse array, shape (m, n)
        Rows add up to 1; those of places outside the cells are empty.

    Examples
    --------
    >>> centres, edges = np.array([0.0, 10.0]), np.array([-5.0, 5.0, 15.0])
    >>> linear_weights(centres, edges, np.array([2.5])).toarray().tolist()
    [[0.75, 0.25]]
    """
    from scipy import sparse

    ascending = bool(centres[-1] >= centres[0])
    x = centres if ascending else centres[::-1]
    low, high = min(edges[0], edges[-1]), max(edges[0], edges[-1])
    n = x.size
    if period is not None:
        x = np.concatenate([[x[-1] - period], x, [x[0] + period]])
        wanted = x[1] + np.mod(wanted - x[1], period)
        inside = np.ones(wanted.size, dtype=bool)
    else:
        slack = _SLACK * (high - low)
        inside = (wanted >= low - slack) & (wanted <= high + slack)
    if x.size == 1:
        rows = np.flatnonzero(inside)
        return sparse.csr_array(
            (np.ones(rows.size), (rows, np.zeros(rows.size, int))),
            shape=(wanted.size, 1),
        )
    below = np.clip(np.searchsorted(x, wanted, side="right") - 1, 0, x.size - 2)
    part = np.clip((wanted - x[below]) / (x[below + 1] - x[below]), 0.0, 1.0)
    rows = np.flatnonzero(inside)
    places = np.stack([below, below + 1])[:, rows]
    if period is not None:
        places = (places - 1) % n
    if not ascending:
        places = n - 1 - places
    weights = np.stack([1 - part, part])[:, rows]
    matrix = sparse.csr_array(
        (weights.reshape(-1), (np.tile(rows, 2), places.reshape(-1))),
        shape=(wanted.size, n),
    )
    matrix.eliminate_zeros()
    return matrix


def nearest(
    latitudes: Array,
    longitudes: Array,
    wanted_latitudes: Array,
    wanted_longitudes: Array,
    count: int = 1,
) -> tuple[Array, Array]:
    """Return the cells whose centres are nearest to places on the sphere, and how far they are.

    Parameters
    ----------
    latitudes, longitudes : ndarray, shape (n,)
        Of centres, in degrees; those that are NaN are never found.
    wanted_latitudes, wanted_longitudes : ndarray, shape (m,)
    count : int
        How many are wanted for each place.

    Returns
    -------
    tuple of ndarray, shape (m, count)
        Numbers of cells from near to far, and distances in degrees of arc.

    Examples
    --------
    >>> latitudes, longitudes = np.array([0.0, 50.0]), np.array([0.0, 10.0])
    >>> cells, _ = nearest(latitudes, longitudes, np.array([48.0]), np.array([9.0]))
    >>> cells.reshape(-1).tolist()
    [1]
    """
    from scipy.spatial import cKDTree

    known = np.flatnonzero(np.isfinite(latitudes) & np.isfinite(longitudes))
    tree = cKDTree(unit_vectors(latitudes[known], longitudes[known]))
    chords, neighbours = tree.query(
        unit_vectors(wanted_latitudes, wanted_longitudes), k=min(count, known.size)
    )
    chords, neighbours = (
        chords.reshape(len(wanted_latitudes), -1),
        neighbours.reshape(len(wanted_latitudes), -1),
    )
    return known[neighbours], np.degrees(2 * np.arcsin(np.clip(chords / 2, 0, 1)))


def bilinear_in_quads(
    latitudes: Array,
    longitudes: Array,
    wanted_latitudes: Array,
    wanted_longitudes: Array,
    near: Array,
    *,
    closed: bool = False,
) -> sparse.csr_array:
    """Return the weights of the four centres that enclose each place on a two-dimensional grid.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (rows, columns)
        Of centres, in degrees.
    wanted_latitudes, wanted_longitudes : ndarray, shape (m,)
    near : ndarray of int, shape (m,)
        For each place the number of the nearest centre.
    closed : bool
        Whether the first column follows on the last, as on a grid around the globe.

    Returns
    -------
    sparse array, shape (m, rows * columns)
        Rows add up to 1; those of places that no four centres enclose are empty.

    Notes
    -----
    Newton's method for the inverse of the bilinear map from the unit square, in the plane that
    touches the sphere at the place (gnomonic projection, where great circles are straight).
    """
    from scipy import sparse

    rows, columns = latitudes.shape
    centres = unit_vectors(latitudes, longitudes)
    places = unit_vectors(wanted_latitudes, wanted_longitudes)
    j, i = np.divmod(near, columns)
    done = np.zeros(len(near), dtype=bool)
    entries: list[tuple[Array, Array, Array]] = []
    for down in (-1, 0):
        for left in (-1, 0):
            top, west = j + down, i + left
            has_four = (top >= 0) & (top < rows - 1)
            if not closed:
                has_four &= (west >= 0) & (west < columns - 1)
            chosen = np.flatnonzero(has_four & ~done)
            inside, cells, parts = _weigh_in_quads(
                centres, places[chosen], top[chosen], west[chosen]
            )
            settled = chosen[inside]
            done[settled] = True
            entries.append((np.tile(settled, 4), cells.reshape(-1), parts.reshape(-1)))
    joined = [np.concatenate([entry[at] for entry in entries]) for at in range(3)]
    matrix = sparse.csr_array(
        (joined[2], (joined[0], joined[1])), shape=(len(near), rows * columns)
    )
    matrix.eliminate_zeros()
    return matrix


def _weigh_in_quads(
    centres: Array, places: Array, top: Array, west: Array
) -> tuple[Array, Array, Array]:
    """Return which places lie within the four centres from a row and column on, and of these the
    numbers and the weights of the centres, shape (4, places inside)."""
    columns = centres.shape[1]
    corners = [
        (top + down, (west + right) % columns)
        for down, right in ((0, 0), (0, 1), (1, 0), (1, 1))
    ]
    points = np.stack([_touching(centres[c], places) for c in corners], axis=1)
    u, v, inside = _inverse(points)
    u, v = u[inside], v[inside]
    parts = np.stack([(1 - u) * (1 - v), u * (1 - v), (1 - u) * v, u * v])
    cells = np.stack([row[inside] * columns + col[inside] for row, col in corners])
    return inside, cells, parts


def _touching(vectors: Array, places: Array) -> Array:
    """Return vectors projected onto the plane that touches the sphere at places, shape (n, 2)."""
    pole = np.where(np.abs(places[:, 2:]) > 0.9, [[1.0, 0.0, 0.0]], [[0.0, 0.0, 1.0]])
    east = np.cross(pole, places)
    east /= np.linalg.norm(east, axis=1, keepdims=True)
    north = np.cross(places, east)
    ahead = np.einsum("nk,nk->n", vectors, places)
    flat = np.stack(
        [np.einsum("nk,nk->n", vectors, axis) for axis in (east, north)], axis=1
    )
    return np.where(
        ahead[:, None] > 0.1, flat / np.maximum(ahead, 0.1)[:, None], np.nan
    )


def _inverse(points: Array) -> tuple[Array, Array, Array]:
    """Return where the origin lies in quadrilaterals, as parts of their sides, and whether it lies
    inside.

    `points` has shape (n, 4, 2): the corners at (0, 0), (1, 0), (0, 1) and (1, 1).
    """
    a, b, c, d = (points[:, at] for at in range(4))
    u = np.full(len(points), 0.5)
    v = np.full(len(points), 0.5)
    twist = a - b - c + d
    with np.errstate(invalid="ignore", divide="ignore"):
        for _ in range(_ROUNDS):
            here = (
                a
                + u[:, None] * (b - a)
                + v[:, None] * (c - a)
                + (u * v)[:, None] * twist
            )
            along_u, along_v = b - a + v[:, None] * twist, c - a + u[:, None] * twist
            size = along_u[:, 0] * along_v[:, 1] - along_u[:, 1] * along_v[:, 0]
            u = u - (here[:, 0] * along_v[:, 1] - here[:, 1] * along_v[:, 0]) / size
            v = v - (along_u[:, 0] * here[:, 1] - along_u[:, 1] * here[:, 0]) / size
        inside = (u >= -_SLACK) & (u <= 1 + _SLACK) & (v >= -_SLACK) & (v <= 1 + _SLACK)
    return np.clip(u, 0, 1), np.clip(v, 0, 1), inside
