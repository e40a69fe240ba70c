"""The mountains of the made-up world seen closely: a rotated grid with levels, and rain by the
hour."""

from __future__ import annotations

from typing import Any

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import InMemory
from rhodolite.demo.noise import Weather, round_to_bits
from rhodolite.demo.parts import (
    data,
    described,
    horizontal,
    monthly_time,
    time_with_bounds,
)
from rhodolite.demo.signals import SIGNALS
from rhodolite.kernels.sphere import from_rotated
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Storage, Variable

Array = NDArray[Any]
_POLE: tuple[float, float] = (39.25, -162.0)
_HOURS = 61 * 24
_SINCE = "hours since 1800-01-01 00:00:00"


_MAPPING = {
    "grid_mapping_name": "rotated_latitude_longitude",
    "grid_north_pole_latitude": _POLE[0],
    "grid_north_pole_longitude": _POLE[1],
}
_HEIGHT = {
    "standard_name": "height",
    "long_name": "height above the ground",
    "units": "m",
    "axis": "Z",
    "positive": "up",
}
_ROTATED = {
    "standard_name": "air_temperature",
    "long_name": "air temperature",
    "units": "K",
    "coordinates": "lat lon",
    "grid_mapping": "rotated_pole",
}


def _position(name: str, word: str, units: str, values: Array) -> Variable:
    about = {"standard_name": word, "long_name": word, "units": units}
    return Variable(name, ("rlat", "rlon"), InMemory(values), about)


def rotated() -> Dataset:
    """Return two years of monthly temperature on five heights of a rotated grid."""
    rows, columns = np.arange(4.0, 20.5, 0.5), np.arange(-10.0, 6.5, 0.5)
    heights = np.array([10.0, 500.0, 1500.0, 3000.0, 5500.0])
    time, _, month = monthly_time(2017, 24, "days since 2000-01-01")
    grid = np.meshgrid(rows, columns, indexing="ij")
    latitudes, longitudes = from_rotated(grid[0], grid[1], *_POLE)
    season = -np.cos(2 * np.pi * (month - 0.5) / 12)[:, None, None, None]
    noise = Weather(rows, columns, 24, wavelength=12, persistence=0.2, seed=51)[:][
        :, None
    ]
    temperature = (
        282.0
        - 0.0065 * heights[:, None, None]
        - 0.6 * (latitudes - 60.0)
        + 9.0 * season
        + 0.8 * noise
    )
    grid_of_data = ("time", "height", "rlat", "rlon")
    stored = Storage(chunks=(1, heights.size, rows.size, columns.size))
    variables = [
        *time,
        Variable("height", ("height",), InMemory(heights), _HEIGHT),
        _rotated_axis("rlat", rows),
        _rotated_axis("rlon", columns),
        _position("lat", "latitude", "degrees_north", latitudes),
        _position("lon", "longitude", "degrees_east", longitudes),
        Variable("rotated_pole", (), InMemory(np.int32(0)), _MAPPING),
        data("ta", grid_of_data, round_to_bits(temperature, 11), _ROTATED, stored),
    ]
    title = (
        "Rotated, made-up monthly temperature over the Nordic mountains, 2017 and 2018"
    )
    return described(title, SIGNALS["rotated"], variables, "time")


def _rotated_axis(name: str, values: Array) -> Variable:
    which = "latitude" if name == "rlat" else "longitude"
    about = {
        "standard_name": f"grid_{which}",
        "long_name": f"{which} of the rotated grid",
        "units": "degrees",
        "axis": "Y" if name == "rlat" else "X",
    }
    return Variable(name, (name,), InMemory(values), about)


def hourly() -> Dataset:
    """Return rain by the hour in October and November 2018, as an older file has it: hours since
    1800."""
    latitudes, longitudes = np.arange(58.25, 66, 0.5), np.arange(4.25, 20, 0.5)
    hours = np.arange(_HOURS, dtype=np.float64)
    clock = ((hours + 0.5) % 24)[:, None, None]
    day = 1 + np.cos(2 * np.pi * (clock - 15) / 24)
    wet = Weather(
        latitudes, longitudes, _HOURS, wavelength=8, persistence=0.9, seed=61
    )[:]
    front = np.exp(-(((longitudes - 4.0 - (hours[:, None, None] - 216.0)) / 1.5) ** 2))
    amount = (np.maximum(wet - 0.6, 0.0) * 0.8 * day + 4.0 * front) / 3600.0
    starts = hours + cftime.date2num(
        cftime.datetime(2018, 10, 1, calendar="standard"), _SINCE, "standard"
    )
    about = {
        "standard_name": "precipitation_flux",
        "long_name": "rain",
        "units": "kg m-2 s-1",
    }
    variables = [
        *time_with_bounds(starts + 0.5, np.stack([starts, starts + 1], axis=1), _SINCE),
        *horizontal(latitudes, longitudes),
        data("pr", ("time", "lat", "lon"), round_to_bits(amount, 7), about, Storage()),
    ]
    return described(
        "Hourly, made-up rain over the Nordic mountains, October and November 2018",
        SIGNALS["hourly"],
        variables,
        "time",
    )
