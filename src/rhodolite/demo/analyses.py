"""What the made-up world was like: global months, Nordic days, winds aloft."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import InMemory
from rhodolite.demo.noise import Weather, round_to_bits
from rhodolite.demo.parts import (
    PRECIPITATION,
    SECONDS_A_DAY,
    TEMPERATURE,
    daily_time,
    data,
    described,
    horizontal,
    monthly_time,
)
from rhodolite.demo.signals import SIGNALS
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Packing, Storage, Variable
from rhodolite.regions.coastlines import land_at

Array = NDArray[Any]

NORDIC_YEARS = range(2009, 2019)
LEVELS = (
    1000.0,
    925.0,
    850.0,
    700.0,
    600.0,
    500.0,
    400.0,
    300.0,
    250.0,
    200.0,
    100.0,
    50.0,
)
_GRID = ("time", "lat", "lon")


def garnet() -> Dataset:
    """Return 40 years of monthly global temperature and precipitation, packed, north to south,
    0..360."""
    latitudes, longitudes = np.arange(88.75, -90, -2.5), np.arange(1.25, 360, 2.5)
    time, years, month = monthly_time(1981, 480, "days since 1850-01-01 00:00:00")
    grid = np.meshgrid(longitudes, latitudes)
    land = land_at(grid[0], grid[1])
    sine = np.sin(np.radians(latitudes))[:, None]
    # The warmest month is July in the north and January in the south.
    season = -np.cos(2 * np.pi * (month - 0.5) / 12)[:, None, None]
    amplitude = np.where(land, 18.0, 6.0) * sine
    decades = (years - years.mean())[:, None, None] / 10
    cold = Weather(latitudes, longitudes, 480, wavelength=40, persistence=0.3, seed=11)
    temperature = (
        300.0
        - 18.0 * sine**2
        - 28.0 * sine**4
        - 2.0 * land
        + amplitude * season
        + (0.10 + 0.40 * sine**2) * decades
        + (0.4 + 0.8 * sine**2 + 0.4 * land) * cold[:]
    )
    tropics = np.exp(-(((latitudes[:, None] - 7 * season) / 10) ** 2))
    storms = np.exp(-(((np.abs(latitudes[:, None]) - 48) / 15) ** 2))
    daily = (0.6 + 6.0 * tropics + 2.2 * storms) * np.where(land, 0.8, 1.0)
    shower = Weather(
        latitudes, longitudes, 480, wavelength=25, persistence=0.1, seed=12
    )[:]
    precipitation = daily * np.exp(0.35 * shower) / SECONDS_A_DAY
    gap = (grid[1] >= -35) & (grid[1] <= -20) & (grid[0] >= 70) & (grid[0] <= 95)
    temperature[:, gap] = precipitation[:, gap] = np.nan
    variables = [
        *time,
        *horizontal(latitudes, longitudes),
        data("tas", _GRID, temperature, TEMPERATURE, _packed(0.0025, 265.0)),
        data("pr", _GRID, precipitation, PRECIPITATION, _packed(1e-8, 3.2e-4)),
    ]
    return described(
        "Garnet, a made-up global monthly climate, 1981 to 2020",
        SIGNALS["garnet"],
        variables,
    )


def nordic() -> Iterator[tuple[str, Dataset]]:
    """Yield ten years of daily temperature and precipitation over the Nordic countries, a file
    each."""
    latitudes, longitudes = np.arange(54, 72.25, 0.5), np.arange(0, 40.25, 0.5)
    grid = np.meshgrid(longitudes, latitudes)
    land = land_at(grid[0], grid[1], scale="50m")
    east = (longitudes / 40)[None, None, :]
    times = [daily_time(year) for year in NORDIC_YEARS]
    total = sum(days.size for _, days in times)
    cold = Weather(
        latitudes, longitudes, total, wavelength=30, persistence=0.6, seed=21
    )
    wet = Weather(
        latitudes, longitudes, total, wavelength=14, persistence=0.35, seed=22
    )
    stored = Storage(chunks=(1, latitudes.size, longitudes.size))
    first = 0
    for year, (time, days) in zip(NORDIC_YEARS, times, strict=True):
        here = slice(first, first := first + days.size)
        share = (days + 0.5) / days.size
        season = -np.cos(2 * np.pi * (share - 0.055))[:, None, None]
        winter = ((days >= 334) if year == 2013 else (days < 59) & (year == 2014))[
            :, None, None
        ]
        temperature = (
            280.5
            - 0.45 * (latitudes[:, None] - 60)
            - 1.5 * land
            - 2.0 * east
            + (5.0 + 3.0 * land + 5.0 * east) * season
            + (0.05 * (year + share - 2009))[:, None, None]
            + 3.0 * (1 - east) * winter
            + (2.2 - 0.6 * season) * cold[here]
        )
        amount = np.maximum(wet[here] - 0.1, 0.0) ** 1.3 * (
            7.0 - 3.5 * east + 1.5 * season
        )
        variables = [
            *time,
            *horizontal(latitudes, longitudes),
            data(
                "tas",
                _GRID,
                (np.round(temperature * 64) / 64).astype(np.float32),
                TEMPERATURE,
                stored,
            ),
            data(
                "pr",
                _GRID,
                round_to_bits(amount * (1 + 0.3 * land) / SECONDS_A_DAY, 9),
                PRECIPITATION,
                stored,
            ),
        ]
        yield f"nordic_daily_{year}.nc", _nordic_year(variables)


def _nordic_year(variables: list[Variable]) -> Dataset:
    return described(
        "Nordic, made-up daily weather of the Nordic mountains",
        SIGNALS["nordic"],
        variables,
        "time",
    )


def pressure() -> Dataset:
    """Return two years of monthly temperature and wind on pressure levels."""
    latitudes, longitudes = np.arange(-87.5, 90, 5.0), np.arange(-177.5, 180, 5.0)
    time, _, month = monthly_time(2017, 24, "hours since 1900-01-01 00:00:00")
    levels = np.array(LEVELS)
    height = -7.0 * np.log(levels / 1000.0)[:, None, None]
    sine = np.sin(np.radians(latitudes))[:, None]
    season = -np.cos(2 * np.pi * (month - 0.5) / 12)[:, None, None, None]
    noise = [
        Weather(latitudes, longitudes, 24, wavelength=50, persistence=0.2, seed=seed)[
            :
        ][:, None]
        for seed in (31, 32, 33)
    ]
    temperature = (
        300.0
        - 40.0 * sine**2
        - 6.5 * np.minimum(height, 11.0)
        + 8.0 * sine * season
        + 1.2 * noise[0]
    )
    jet = (
        np.exp(-(((np.abs(latitudes[:, None]) - 40) / 12) ** 2))
        * np.exp(-((np.log(levels / 200) / 1.2) ** 2))[:, None, None]
    )
    eastward = (
        30.0 * jet - 4.0 * np.exp(-((latitudes[:, None] / 15) ** 2)) + 2.0 * noise[1]
    )
    northward = 1.5 * noise[2] * (1 + height / 11)
    attributes = {
        "standard_name": "air_pressure",
        "long_name": "pressure",
        "units": "hPa",
        "axis": "Z",
        "positive": "down",
    }
    grid = ("time", "plev", "lat", "lon")
    stored = Storage(chunks=(1, levels.size, latitudes.size, longitudes.size))
    variables = [
        *time,
        Variable("plev", ("plev",), InMemory(levels), attributes),
        *horizontal(latitudes, longitudes),
        *(
            data(
                name,
                grid,
                round_to_bits(values, 11),
                {"standard_name": standard, "long_name": long, "units": units},
                stored,
            )
            for name, values, standard, long, units in (
                ("ta", temperature, "air_temperature", "air temperature", "K"),
                ("ua", eastward, "eastward_wind", "eastward wind", "m s-1"),
                ("va", northward, "northward_wind", "northward wind", "m s-1"),
            )
        ),
    ]
    return described(
        "Pressure, made-up monthly temperature and wind aloft, 2017 and 2018",
        SIGNALS["pressure"],
        variables,
    )


def _packed(scale: float, offset: float) -> Storage:
    return Storage(
        dtype="int16",
        fill_value=-32768,
        chunks=(12, 72, 144),
        packing=Packing("int16", scale, offset),
    )
