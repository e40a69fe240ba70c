"""Linear interpolation between points that lie on the sphere in no order."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.great_circles import unit_vectors

if TYPE_CHECKING:
    from scipy import sparse

Array = NDArray[Any]
_SLACK = 1e-12
"""By which a place on an edge may lie outside of both triangles beside it."""
_OUTSIDE = -1
"""In place of the number of a triangle."""


def linear_in_triangles(
    latitudes: Array,
    longitudes: Array,
    wanted_latitudes: Array,
    wanted_longitudes: Array,
) -> sparse.csr_array:
    """Return the weights of the three points that enclose each place.

    Parameters
    ----------
    latitudes, longitudes : ndarray of float64, shape (n,)
        Of points, in degrees.
    wanted_latitudes, wanted_longitudes : ndarray, shape (m,)

    Returns
    -------
    sparse array, shape (m, n)
        Rows add up to 1; those of places that no triangle encloses are empty.

    Raises
    ------
    ValueError
        If the points form no triangles, such as all of a great circle.

    Notes
    -----
    The triangles are those of Delaunay on the sphere, which are the faces of the convex hull of the
    points (Brown 1979, Information Processing Letters 9, 223-228); within each values are linear
    on its plane, seen from the centre of the sphere.

    Examples
    --------
    >>> latitudes, longitudes = np.array([0.0, 0.0, 90.0, -90.0]), np.array([0.0, 90.0, 0.0, 0.0])
    >>> places = np.array([0.0]), np.array([45.0])
    >>> linear_in_triangles(latitudes, longitudes, *places).toarray().round(9).tolist()
    [[0.5, 0.5, 0.0, 0.0]]
    """
    from scipy import sparse

    points = unit_vectors(latitudes, longitudes)
    places = unit_vectors(wanted_latitudes, wanted_longitudes)
    triangles, beyond = _triangulate(points)
    inverses = np.linalg.inv(points[triangles].transpose(0, 2, 1))
    enclosing = _walk(points, triangles, beyond, inverses, places)
    rows = np.flatnonzero(enclosing != _OUTSIDE)
    shares = np.maximum(_shares(inverses[enclosing[rows]], places[rows]), 0.0)
    shares /= shares.sum(axis=1, keepdims=True)
    corners = triangles[enclosing[rows]]
    weights = sparse.csr_array(
        (shares.reshape(-1), (np.repeat(rows, 3), corners.reshape(-1))),
        shape=(len(places), len(points)),
    )
    weights.eliminate_zeros()
    return weights


def _triangulate(points: Array) -> tuple[Array, Array]:
    """Return the triangles between points, shape (k, 3), and for each corner the one beyond the
    side across from it.

    Where the points cover a part of the sphere, those that close the hull through it are left out.
    """
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = ConvexHull(points)
    except QhullError:
        raise ValueError("the points form no triangles") from None
    outer = hull.equations[:, 3] < -_SLACK
    numbers = np.where(outer, np.cumsum(outer) - 1, _OUTSIDE)
    return hull.simplices[outer], numbers[hull.neighbors[outer]]


def _walk(
    points: Array, triangles: Array, beyond: Array, inverses: Array, places: Array
) -> Array:
    """Return the triangle that encloses each place, from one at the nearest point over the side
    that it lies beyond to the next.

    Among triangles of Delaunay such a walk ends (Devillers, Pion and Teillaud 2002, International
    Journal of Foundations of Computer Science 13, 181-199).
    """
    from scipy.spatial import cKDTree

    at_point = np.full(len(points), _OUTSIDE)
    at_point[triangles.reshape(-1)] = np.repeat(np.arange(len(triangles)), 3)
    enclosing = np.full(len(places), _OUTSIDE)
    on_the_way = np.flatnonzero(np.isfinite(places).all(axis=1))
    corners = np.flatnonzero(at_point != _OUTSIDE)
    _, nearest = cKDTree(points[corners]).query(places[on_the_way])
    current = at_point[corners[nearest]]
    for _ in range(len(triangles)):
        shares = _shares(inverses[current], places[on_the_way])
        lowest = shares.argmin(axis=1)
        inside = shares.min(axis=1) >= -_SLACK * np.abs(shares).max(axis=1)
        enclosing[on_the_way[inside]] = current[inside]
        current = beyond[current, lowest]
        goes_on = ~inside & (current != _OUTSIDE)
        on_the_way, current = on_the_way[goes_on], current[goes_on]
        if not on_the_way.size:
            break
    return enclosing


def _shares(inverses: Array, places: Array) -> Array:
    """Return of which multiples of the corners of its triangle each place is the sum."""
    return np.asarray(np.einsum("nij,nj->ni", inverses, places))
