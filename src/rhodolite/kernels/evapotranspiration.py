"""Reference evapotranspiration, of temperatures alone or of all that the energy balance needs.

All equations are those of FAO Irrigation and Drainage Paper 56 (Allen and others 1998).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_SOLAR_CONSTANT = 0.0820
"""MJ m-2 min-1."""
_MINUTES = 24 * 60
_LATENT = 0.408
"""Millimetres of water that 1 MJ m-2 evaporates."""


def extraterrestrial_radiation(latitude: Array, day: Array) -> Array:
    """Return the daily radiation at the top of the atmosphere in MJ m-2, of degrees and days of a
    year of 365, from 1.

    Notes
    -----
    Equations 21 to 25.

    Examples
    --------
    >>> round(float(extraterrestrial_radiation(-20.0, 246.0)), 1)
    32.2
    """
    angle = 2 * np.pi * day / 365
    nearness = 1 + 0.033 * np.cos(angle)
    declination = 0.409 * np.sin(angle - 1.39)
    phi = np.radians(latitude)
    # Beyond the polar circles the sun does not set, or does not rise.
    reach = np.clip(-np.tan(phi) * np.tan(declination), -1.0, 1.0)
    sunset = np.arccos(reach)
    height = sunset * np.sin(phi) * np.sin(declination)
    height = height + np.cos(phi) * np.cos(declination) * np.sin(sunset)
    total = _MINUTES / np.pi * _SOLAR_CONSTANT * nearness * height
    return np.asarray(np.maximum(total, 0.0))


def hargreaves(lowest: Array, highest: Array, latitude: Array, day: Array) -> Array:
    """Return evapotranspiration in mm day-1, of the daily minimum and maximum in degrees Celsius.

    Notes
    -----
    Equation 52 (Hargreaves and Samani 1985), the radiation in millimetres of water.

    Examples
    --------
    >>> round(float(hargreaves(14.8, 26.6, 45.72, 196.0)), 1)
    5.0
    """
    radiation = _LATENT * extraterrestrial_radiation(latitude, day)
    span = np.sqrt(np.maximum(highest - lowest, 0.0))
    warmth = (lowest + highest) / 2 + 17.8
    return np.asarray(np.maximum(0.0023 * radiation * warmth * span, 0.0))


def penman_monteith(
    lowest: Array,
    highest: Array,
    radiation: Array,
    wind: Array,
    vapour: Array,
    pressure: Array,
) -> Array:
    """Return evapotranspiration in mm day-1 of a day, whose flux into the soil is left out.

    Parameters
    ----------
    lowest, highest : ndarray
        Degrees Celsius.
    radiation : ndarray
        Net, MJ m-2 day-1.
    wind : ndarray
        At 2 m, m s-1.
    vapour, pressure : ndarray
        kPa.

    Notes
    -----
    Equation 6, with equations 8, 11, 12 and 13.

    Examples
    --------
    >>> round(float(penman_monteith(12.3, 21.5, 13.28, 2.078, 1.409, 100.1)), 1)
    3.9
    """
    mean = (lowest + highest) / 2
    saturated = (_saturation(lowest) + _saturation(highest)) / 2
    slope = 4098 * _saturation(mean) / (mean + 237.3) ** 2
    gamma = 0.665e-3 * pressure
    by_energy = _LATENT * slope * radiation
    by_air = gamma * 900 / (mean + 273) * wind * (saturated - vapour)
    return np.asarray((by_energy + by_air) / (slope + gamma * (1 + 0.34 * wind)))


def _saturation(temperature: Array) -> Array:
    """Return the saturation vapour pressure in kPa (equation 11)."""
    return np.asarray(0.6108 * np.exp(17.27 * temperature / (temperature + 237.3)))
