"""From longitude and latitude to a flat map: the few projections that the extents of climate data
ask for."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_A = (1.340264, -0.081106, 0.000893, 0.003796)
"""Coefficients of the Equal Earth projection (Šavrič, Patterson and Jenny 2019)."""
_M = np.sqrt(3.0) / 2


class Projection(ABC):
    """A flat map.

    Attributes
    ----------
    west : float
        Longitude of the cut along which the sphere is opened; places are taken within 360 degrees
        east of it.
    """

    west: float = -180.0

    @abstractmethod
    def flat(self, longitudes: Array, latitudes: Array) -> tuple[Array, Array]:
        """Return x and y of places in degrees, longitudes counted from `west` on without jumps."""


class Equirectangular(Projection):
    """Degrees east along x and degrees north along y."""

    def __init__(self, west: float) -> None:
        self.west = west

    def flat(self, longitudes: Array, latitudes: Array) -> tuple[Array, Array]:
        return longitudes, latitudes


class EqualArea(Projection):
    """The Equal Earth projection of the whole globe.

    Notes
    -----
    Šavrič, Patterson and Jenny 2019, International Journal of Geographical Information Science 33,
    454-465.
    """

    def __init__(self, west: float) -> None:
        self.west = west

    def flat(self, longitudes: Array, latitudes: Array) -> tuple[Array, Array]:
        theta = np.arcsin(_M * np.sin(np.radians(latitudes)))
        square = theta * theta
        sixth = square**3
        slope = (
            9 * _A[3] * sixth * square + 7 * _A[2] * sixth + 3 * _A[1] * square + _A[0]
        )
        x = np.radians(longitudes - self.west - 180.0) * np.cos(theta) / (_M * slope)
        y = theta * (_A[0] + _A[1] * square + sixth * (_A[2] + _A[3] * square))
        return np.degrees(x), np.degrees(y)


class Polar(Projection):
    """Lambert's azimuthal equal-area projection about a pole, with the meridian of Greenwich
    pointing down.

    Notes
    -----
    Snyder 1987, Map projections: a working manual, equations 24-23 and 24-28.
    """

    def __init__(self, sign: float) -> None:
        self.sign = sign

    def flat(self, longitudes: Array, latitudes: Array) -> tuple[Array, Array]:
        radius = 2 * np.sin(np.radians(90.0 - self.sign * np.asarray(latitudes)) / 2)
        lam = np.radians(longitudes)
        return np.degrees(radius * np.sin(lam)), np.degrees(
            -self.sign * radius * np.cos(lam)
        )
