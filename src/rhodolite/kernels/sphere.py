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
    latitude_edges : ndarray, shape (..., n + 1)
        Edges in degrees north, in either direction.

    Returns
    -------
    ndarray of float64, shape (..., n)
        ``|sin(north) - sin(south)|``, for a sphere of radius 1. Times 2 pi, the zones from
        pole to pole add up to 4 pi.

    Notes
    -----
    Archimedes' theorem: the area of a zone of height h on a unit sphere is 2 pi h.

    Examples
    --------
    >>> zone_areas(np.array([-90.0, 0.0, 30.0])).round(6).tolist()
    [1.0, 0.5]
    """
    return np.abs(np.diff(np.sin(np.radians(latitude_edges))))


def widths(longitude_edges: Array) -> Array:
    """Return the width of the cells between neighbouring longitudes, in radians.

    Parameters
    ----------
    longitude_edges : ndarray, shape (..., n + 1)
        Edges in degrees east, in either direction.

    Returns
    -------
    ndarray of float64, shape (..., n)

    Examples
    --------
    >>> widths(np.array([0.0, 90.0, 180.0])).round(6).tolist()
    [1.570796, 1.570796]
    """
    return np.abs(np.diff(np.radians(longitude_edges)))


def cell_with(edges: Array, value: float) -> int | None:
    """Return the index of the cell whose edges enclose a value; None where none does.

    Parameters
    ----------
    edges : ndarray, shape (n + 1,)
        Monotonic edges, in either direction.
    value : float

    Examples
    --------
    >>> cell_with(np.array([0.0, 1.0, 2.0]), 1.5)
    1
    """
    ascending = edges if edges[-1] >= edges[0] else edges[::-1]
    if not ascending[0] <= value <= ascending[-1]:
        return None
    at = min(int(np.searchsorted(ascending, value, side="right")) - 1, edges.size - 2)
    return at if edges[-1] >= edges[0] else edges.size - 2 - at


def great_circle(
    latitudes: Array,
    longitudes: Array,
    latitude: Array | float,
    longitude: Array | float,
) -> Array:
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
    The haversine formula, which keeps its figures for small distances (Sinnott, Sky and Telescope
    68, 1984).

    Examples
    --------
    >>> round(float(great_circle(np.array(0.0), np.array(0.0), 0.0, 90.0)), 6)
    90.0
    """
    phi, phi0 = np.radians(latitudes), np.radians(latitude)
    half = np.sin((phi - phi0) / 2) ** 2
    half = (
        half
        + np.cos(phi)
        * np.cos(phi0)
        * np.sin(np.radians(longitudes - longitude) / 2) ** 2
    )
    return np.asarray(np.degrees(2 * np.arcsin(np.sqrt(np.clip(half, 0.0, 1.0)))))


def from_rotated(
    latitudes: Array,
    longitudes: Array,
    pole_latitude: float,
    pole_longitude: float,
    pole_grid_longitude: float = 0.0,
) -> tuple[Array, Array]:
    """Return the true positions of places on a sphere whose pole was moved.

    Parameters
    ----------
    latitudes, longitudes : ndarray
        On the rotated sphere, in degrees, of the same shape.
    pole_latitude, pole_longitude : float
        True position of the rotated north pole, in degrees.
    pole_grid_longitude : float
        Rotated longitude of the true north pole, in degrees.

    Returns
    -------
    tuple of ndarray of float64
        Latitudes, and longitudes within -180..180, in degrees.

    Notes
    -----
    A rotation of Cartesian coordinates; the parameters are those of CF, Appendix F, rotated pole.

    Examples
    --------
    >>> latitude, longitude = from_rotated(np.array([0.0]), np.array([0.0]), 40.0, -170.0)
    >>> latitude.round(6).tolist(), longitude.round(6).tolist()
    ([50.0], [10.0])
    """
    phi, lam = np.radians(latitudes), np.radians(longitudes - pole_grid_longitude)
    tilt = np.radians(pole_latitude)
    x = np.cos(phi) * np.cos(lam)
    y = np.cos(phi) * np.sin(lam)
    z = np.sin(phi)
    ahead, aside = z * np.cos(tilt) - x * np.sin(tilt), -y
    # Not the arcsine, which loses half the figures near a pole.
    north = np.degrees(
        np.arctan2(x * np.cos(tilt) + z * np.sin(tilt), np.hypot(ahead, aside))
    )
    east = np.degrees(np.arctan2(aside, ahead)) + pole_longitude
    return north, shortest_turn(east)


def shortest_turn(degrees: Any) -> Any:
    """Return angles without whole turns, from -180 up to but not including 180.

    Parameters
    ----------
    degrees : float or ndarray
        Longitudes, or differences of them, in degrees.

    Returns
    -------
    float or ndarray
        Of the same shape; positive to the east.

    Examples
    --------
    >>> shortest_turn(350.0 - 10.0), shortest_turn(np.array([190.0, 180.0])).tolist()
    (-20.0, [-170.0, -180.0])
    """
    return (degrees + 180.0) % 360.0 - 180.0


def eastward_from(west: Any, longitudes: Any) -> Any:
    """Return longitudes as they are met on the way east, less than a turn from where it begins.

    Parameters
    ----------
    west : float or ndarray
        Where the way begins, in degrees east.
    longitudes : float or ndarray
        In degrees east, in any turn.

    Returns
    -------
    float or ndarray
        From `west` up to but not including ``west + 360``.

    Examples
    --------
    >>> eastward_from(-10.0, np.array([350.0, 340.0])).tolist()
    [-10.0, 340.0]
    """
    return west + (longitudes - west) % 360.0
