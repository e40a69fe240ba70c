"""Areas on the sphere."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def zone_areas(latitude_edges: Array) -> Array:
    """Return the area of the zones between neighbouring latitudes, per radian of longitude.

    Parameters
    ----------
    latitude_edges : ndarray, shape (n + 1,)
        Edges in degrees north, in either direction.

    Returns
    -------
    ndarray of float64, shape (n,)
        ``|sin(north) - sin(south)|``, for a sphere of radius 1. Times 2 pi, the zones from
        pole to pole add up to 4 pi.

    Notes
    -----
    Archimedes' theorem: the area of a zone of height h on a unit sphere is 2 pi h.
    """
    return np.abs(np.diff(np.sin(np.radians(latitude_edges))))


def widths(longitude_edges: Array) -> Array:
    """Return the width of the cells between neighbouring longitudes, in radians.

    Parameters
    ----------
    longitude_edges : ndarray, shape (n + 1,)
        Edges in degrees east, in either direction.

    Returns
    -------
    ndarray of float64, shape (n,)
    """
    return np.abs(np.diff(np.radians(longitude_edges)))


def cell_with(edges: Array, value: float) -> int | None:
    """Return the index of the cell whose edges enclose a value; None where none does.

    Parameters
    ----------
    edges : ndarray, shape (n + 1,)
        Monotonic edges, in either direction.
    value : float
    """
    ascending = edges if edges[-1] >= edges[0] else edges[::-1]
    if not ascending[0] <= value <= ascending[-1]:
        return None
    at = min(int(np.searchsorted(ascending, value, side="right")) - 1, edges.size - 2)
    return at if edges[-1] >= edges[0] else edges.size - 2 - at


def great_circle(latitudes: Array, longitudes: Array, latitude: Array | float, longitude: Array | float) -> Array:
    """Return the distance of places from one place along great circles.

    Parameters
    ----------
    latitudes, longitudes : ndarray
        In degrees, of the same shape.
    latitude, longitude : float or ndarray
        In degrees; one place, or one for each of the others.

    Returns
    -------
    ndarray of float64
        Degrees of arc, of that shape.

    Notes
    -----
    The haversine formula, which keeps its figures for small distances (Sinnott, Sky and Telescope 68, 1984).
    """
    phi, phi0 = np.radians(latitudes), np.radians(latitude)
    half = np.sin((phi - phi0) / 2) ** 2
    half = half + np.cos(phi) * np.cos(phi0) * np.sin(np.radians(longitudes - longitude) / 2) ** 2
    return np.asarray(np.degrees(2 * np.arcsin(np.sqrt(np.clip(half, 0.0, 1.0)))))
