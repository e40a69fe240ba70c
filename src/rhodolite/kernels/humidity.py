"""Water vapour and how air feels: saturation, humidity, heat index, wind chill, wet bulb."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_EPSILON = 0.622
"""The molar mass of water over that of dry air (WMO-No. 8)."""
_WARM = 80.0
"""Degrees Fahrenheit from which the regression of the heat index holds."""


def saturation_pressure(temperature: Array) -> Array:
    """Return the pressure of saturated vapour over water in hPa, of degrees Celsius.

    Notes
    -----
    WMO-No. 8 (2021), volume I, annex 4.B.

    Examples
    --------
    >>> round(float(saturation_pressure(20.0)), 3)
    23.326
    """
    return np.asarray(6.112 * np.exp(17.62 * temperature / (243.12 + temperature)))


def dew_point(temperature: Array, humidity: Array) -> Array:
    """Return the dew point in degrees Celsius, of degrees Celsius and percent.

    Notes
    -----
    `saturation_pressure`, solved for the temperature.

    Examples
    --------
    >>> round(float(dew_point(20.0, 50.0)), 3)
    9.255
    """
    reduced = np.log(humidity / 100) + 17.62 * temperature / (243.12 + temperature)
    return np.asarray(243.12 * reduced / (17.62 - reduced))


def relative_humidity(temperature: Array, dew: Array) -> Array:
    """Return the relative humidity in percent, of temperature and dew point in degrees Celsius.

    Examples
    --------
    >>> round(float(relative_humidity(20.0, 9.255)), 2)
    50.0
    """
    return 100 * saturation_pressure(dew) / saturation_pressure(temperature)


def specific_humidity(dew: Array, pressure: Array) -> Array:
    """Return the mass of vapour in a mass of air, of a dew point in degrees Celsius and hPa.

    Notes
    -----
    WMO-No. 8 (2021), volume I, annex 4.B.

    Examples
    --------
    >>> round(float(specific_humidity(10.0, 1000.0)), 6)
    0.007661
    """
    vapour = saturation_pressure(dew)
    return _EPSILON * vapour / (pressure - (1 - _EPSILON) * vapour)


def vapour_pressure_deficit(temperature: Array, humidity: Array) -> Array:
    """Return what vapour lacks of saturation in hPa, of degrees Celsius and percent.

    Examples
    --------
    >>> round(float(vapour_pressure_deficit(20.0, 50.0)), 3)
    11.663
    """
    return saturation_pressure(temperature) * (1 - humidity / 100)


def wet_bulb(temperature: Array, humidity: Array) -> Array:
    """Return the wet-bulb temperature in degrees Celsius at 1013.25 hPa, of degrees Celsius and
    percent.

    Notes
    -----
    Stull 2011, Journal of Applied Meteorology and Climatology 50, 2267-2269, equation 1; for 5 % to
    99 % and -20 degrees Celsius to 50.

    Examples
    --------
    >>> round(float(wet_bulb(20.0, 50.0)), 1)
    13.7
    """
    return np.asarray(
        temperature * np.arctan(0.151977 * np.sqrt(humidity + 8.313659))
        + np.arctan(temperature + humidity)
        - np.arctan(humidity - 1.676331)
        + 0.00391838 * humidity**1.5 * np.arctan(0.023101 * humidity)
        - 4.686035
    )


def heat_index(temperature: Array, humidity: Array) -> Array:
    """Return what temperature warm air feels like in degrees Fahrenheit, of degrees Fahrenheit and
    percent.

    Notes
    -----
    The regression of Rothfusz 1990 (SR 90-23) on Steadman 1979 (Journal of Applied Meteorology 18),
    with its adjustments for dry and for moist air; below 80 degrees the mean of the temperature and
    of Steadman's simple formula.

    Examples
    --------
    >>> round(float(heat_index(np.array(90.0), np.array(70.0))))
    106
    """
    t, r = temperature, humidity
    simple = 0.5 * (t + 61 + 1.2 * (t - 68) + 0.094 * r)
    mild = (simple + t) / 2
    full = (
        -42.379
        + 2.04901523 * t
        + 10.14333127 * r
        - 0.22475541 * t * r
        - 0.00683783 * t**2
        - 0.05481717 * r**2
        + 0.00122874 * t**2 * r
        + 0.00085282 * t * r**2
        - 0.00000199 * t**2 * r**2
    )
    reach = np.sqrt(np.maximum(17 - np.abs(t - 95), 0) / 17)
    dry = (r < 13) & (t >= _WARM) & (t <= 112)
    moist = (r > 85) & (t >= _WARM) & (t <= 87)
    full = np.where(dry, full - (13 - r) / 4 * reach, full)
    full = np.where(moist, full + (r - 85) / 10 * (87 - t) / 5, full)
    return np.where(mild >= _WARM, full, mild)


def wind_chill(temperature: Array, speed: Array) -> Array:
    """Return what temperature cold air feels like in degrees Celsius, of degrees Celsius and km/h
    at 10 m; the temperature itself above 10 degrees and below 4.8 km/h.

    Notes
    -----
    Osczevski and Bluestein 2005, Bulletin of the American Meteorological Society 86, 1453-1458.

    Examples
    --------
    >>> round(float(wind_chill(np.array(-10.0), np.array(30.0))), 1)
    -19.5
    """
    power = np.maximum(speed, 0.0) ** 0.16
    chill = 13.12 + 0.6215 * temperature - 11.37 * power + 0.3965 * temperature * power
    cold = (temperature <= 10) & (speed >= 4.8)
    return np.where(cold | np.isnan(speed), chill, temperature)
