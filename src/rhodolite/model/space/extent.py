"""The part of the sphere in which places lie, and the words for it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.space.range_text import format_latitude, format_longitude

_ALIKE = 1e-6
"""Degrees by which gaps that are alike may differ through rounding."""
NARROW_GAP = 5.0
"""Degrees of longitude without a place that are no more than a few cells."""


@dataclass(frozen=True)
class Extent:
    """From where to where places lie.

    Attributes
    ----------
    south, north : float
        Degrees north.
    west, east : float
        Ends of the shortest way that meets all places, in degrees east as the places have them;
        `east` is below `west` where their numbers begin anew on the way, as at the dateline.

    Examples
    --------
    >>> extent = Extent.of(np.array([50.0, 52.0, 51.0]), np.array([-179.0, 178.0, -176.0]))
    >>> extent.words(), extent.eastward
    ('50N..52N, 178E..176W', (178.0, 184.0))
    """

    south: float
    north: float
    west: float
    east: float

    @classmethod
    def of(cls, latitudes: Array, longitudes: Array) -> Extent:
        """Return the extent of places, of which at least one is known.

        Parameters
        ----------
        latitudes, longitudes : ndarray
            In degrees, of any shapes; NaN where unknown.
        """
        south, north = float(np.nanmin(latitudes)), float(np.nanmax(latitudes))
        return cls(south, north, *find_ends(longitudes))

    @property
    def eastward(self) -> tuple[float, float]:
        """The western and the eastern end, of numbers that increase."""
        return increasing(self.west, self.east)

    def words(self, between: str = "..") -> str:
        """Say from where to where, such as `50N..60N, 178E..176W`."""
        rows = map(format_latitude, (self.south, self.north))
        columns = map(format_longitude, (self.west, self.east))
        return f"{between.join(rows)}, {between.join(columns)}"


def find_ends(longitudes: Array) -> tuple[float, float]:
    """Return the western and the eastern end of the shortest way that meets all longitudes.

    Parameters
    ----------
    longitudes : ndarray
        Degrees east, in any order and turn, of which at least one is known.

    Returns
    -------
    tuple of float
        As the longitudes have them, so that the second may be below the first.

    Examples
    --------
    >>> find_ends(np.array([-179.0, 178.0, -176.0])), find_ends(np.arange(0.0, 360.0, 10.0))
    ((178.0, -176.0), (0.0, 350.0))
    """
    known = np.asarray(longitudes, dtype=np.float64)
    known = known[np.isfinite(known)]
    turned = known % 360.0
    order = np.argsort(turned, kind="stable")
    before = np.diff(turned[order], prepend=turned[order[-1]] - 360.0)
    widest = int(np.argmax(before))
    lowest = int(np.searchsorted(turned[order], turned[np.argmin(known)]))
    # All round the globe no gap tells more than another, and the numbers tell where it begins.
    if before[widest] < NARROW_GAP or before[lowest] >= before[widest] - _ALIKE:
        widest = lowest
        if np.ptp(known) <= 360.0 + _ALIKE:
            return float(known.min()), float(known.max())
    return float(known[order[widest]]), float(known[order[widest - 1]])


def increasing(west: float, east: float) -> tuple[float, float]:
    """Return both ends of a way east, the second a turn on where it is below the first."""
    return west, east + 360.0 if east < west else east
