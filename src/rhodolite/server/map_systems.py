"""Reference systems of maps, and where on Earth the pixels of a map lie."""

from __future__ import annotations

import importlib.util
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from rhodolite.arrays import Array

EARTH_RADIUS = 6378137.0
"""Of the sphere of EPSG:3857, in metres."""
_GEOGRAPHIC = ("EPSG:4326", "CRS:84")
_MERCATOR = "EPSG:3857"
_POLAR = ("EPSG:3995", "EPSG:3413", "EPSG:3031", "EPSG:3976")
_UTM = tuple(f"EPSG:{band + zone}" for band in (32600, 32700) for zone in range(1, 61))
_OTHER_NAMES = {"EPSG:900913": _MERCATOR, "EPSG:102100": _MERCATOR}
"""Codes that older clients send for systems of another code."""
_HALF_WAY_ROUND = np.pi * EARTH_RADIUS
_DEGREES = 57.29577951308232


@cache
def offered_systems() -> tuple[str, ...]:
    """Return the codes of all systems: those of the poles and of UTM where pyproj is installed."""
    usual = (*_GEOGRAPHIC, _MERCATOR)
    if importlib.util.find_spec("pyproj") is None:
        return usual
    return (*usual, *_POLAR, *_UTM)


def system_named(code: str) -> str | None:
    """Return the code of a system under its usual name; None where it is not offered.

    Parameters
    ----------
    code : str
    """
    plain = _OTHER_NAMES.get(code.upper(), code.upper())
    return plain if plain in offered_systems() else None


def has_latitude_first(code: str) -> bool:
    """Return whether the authority of a system has latitude before longitude."""
    return code == "EPSG:4326"


def furthest(code: str) -> float:
    """Return how far from the origin a map may reach, in the units of its system."""
    return 4 * (180.0 if code in _GEOGRAPHIC else _HALF_WAY_ROUND)


@dataclass(frozen=True)
class Window:
    """The part of the world that a map shows.

    Parameters
    ----------
    crs : str
    west, south, east, north : float
        In the units of the system: degrees, or metres.
    width, height : int
        In pixels.
    """

    crs: str
    west: float
    south: float
    east: float
    north: float
    width: int
    height: int

    def places(
        self, rows: Array | None = None, columns: Array | None = None
    ) -> tuple[Array, Array]:
        """Return latitudes and longitudes of the middles of pixels, in degrees.

        They are of shape (rows, 1) and (1, columns) where rows are circles of latitude, and
        otherwise of shape (rows, columns), infinite where the system has no place.

        Parameters
        ----------
        rows, columns : ndarray, optional
            Of some pixels, from above and from the left, which may lie beyond the map.
        """
        rows = np.arange(self.height) if rows is None else rows
        columns = np.arange(self.width) if columns is None else columns
        x = self.west + (self.east - self.west) / self.width * (columns + 0.5)
        y = self.north - (self.north - self.south) / self.height * (rows + 0.5)
        if self.crs in _GEOGRAPHIC:
            return y[:, None], x[None, :]
        if self.crs == _MERCATOR:
            latitudes = np.arctan(np.sinh(y / EARTH_RADIUS)) * _DEGREES
            return latitudes[:, None], (x / EARTH_RADIUS * _DEGREES)[None, :]
        longitudes, latitudes = _to_degrees(self.crs).transform(*np.meshgrid(x, y))
        return np.asarray(latitudes), np.asarray(longitudes)


@cache
def _to_degrees(code: str) -> Any:
    from pyproj import Transformer

    return Transformer.from_crs(code, "OGC:CRS84", always_xy=True)
