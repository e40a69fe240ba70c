"""Four made-up climate models, each on a grid and in a calendar of its own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.demo.noise import Weather
from rhodolite.demo.parts import (
    PRECIPITATION,
    SECONDS_A_DAY,
    TEMPERATURE,
    data,
    described,
    horizontal,
    monthly_time,
)
from rhodolite.demo.signals import SIGNALS
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Packing, Storage
from rhodolite.regions.coastlines import land_at

Array = NDArray[Any]
_FIRST, _TURN, _LAST = 1981, 2015, 2060
_PACKED = {
    "tas": Storage(
        dtype="int16", fill_value=-32767, packing=Packing("int16", 0.005, 260.0)
    ),
    "pr": Storage(
        dtype="int16", fill_value=-32767, packing=Packing("int16", 1e-8, 3.2e-4)
    ),
}


@dataclass(frozen=True)
class Model:
    """What tells a model from the others."""

    name: str
    latitudes: Array
    longitudes: Array
    calendar: str
    units: str
    warming: float
    wetter: float
    bias: float
    seed: int


_GAUSSIAN = np.degrees(np.arcsin(np.polynomial.legendre.leggauss(40)[0]))[::-1]
"""Latitudes that are nodes of a Gaussian quadrature, as spectral models have them."""
_A = (
    np.arange(-87.5, 90, 5.0),
    np.arange(2.5, 360, 5.0),
    "proleptic_gregorian",
    "days since 1850-01-01",
)
_P = (
    np.arange(-88, 90, 4.0),
    np.arange(-177.5, 180, 5.0),
    "noleap",
    "days since 1981-01-01",
)
_S = (
    np.arange(86.25, -90, -7.5),
    np.arange(3.75, 360, 7.5),
    "360_day",
    "days since 1981-01-01",
)
_G = (_GAUSSIAN, np.arange(0, 360, 4.5), "standard", "hours since 1900-01-01")
MODELS = (
    Model("almandine", *_A, warming=0.20, wetter=2.0, bias=0.8, seed=41),
    Model("pyrope", *_P, warming=0.30, wetter=3.0, bias=-0.5, seed=42),
    Model("spessartine", *_S, warming=0.40, wetter=4.0, bias=1.5, seed=43),
    Model("grossular", *_G, warming=0.50, wetter=5.0, bias=-1.2, seed=44),
)


def models() -> Iterator[tuple[str, Dataset]]:
    """Yield a historical and a future file of monthly temperature and precipitation for each
    model."""
    for model in MODELS:
        temperature, precipitation = _fields(model)
        split = (_TURN - _FIRST) * 12
        for word, first, part in (
            ("historical", _FIRST, slice(0, split)),
            ("future", _TURN, slice(split, None)),
        ):
            months = len(temperature[part])
            time, _, _ = monthly_time(first, months, model.units, model.calendar)
            variables = [
                *time,
                *horizontal(model.latitudes, model.longitudes),
                data(
                    "tas",
                    ("time", "lat", "lon"),
                    temperature[part],
                    TEMPERATURE,
                    _PACKED["tas"],
                ),
                data(
                    "pr",
                    ("time", "lat", "lon"),
                    precipitation[part],
                    PRECIPITATION,
                    _PACKED["pr"],
                ),
            ]
            signals = SIGNALS["models"].format(
                warming=model.warming, wetter=model.wetter
            )
            years = f"{first} to {first + months // 12 - 1}"
            title = (
                f"{model.name.capitalize()}, a made-up climate model, {word}, {years}"
            )
            yield (
                f"{model.name}_{word}.nc",
                described(title, signals, variables, "time"),
            )


def _fields(model: Model) -> tuple[Array, Array]:
    """Return temperature (K) and precipitation (kg m-2 s-1) of all months, shape (time, lat,
    lon)."""
    months = (_LAST - _FIRST + 1) * 12
    steps = np.arange(months)
    season = -np.cos(2 * np.pi * (steps % 12 - 0.5) / 12)[:, None, None]
    decades = (steps / 120)[:, None, None]
    sine = np.sin(np.radians(model.latitudes))[:, None]
    land = land_at(*np.meshgrid(shortest_turn(model.longitudes), model.latitudes))
    # The mean of 0.5 + 1.5 sin^2 over the sphere is 1, so the globe warms by what is asked for.
    warming = model.warming * decades * (0.5 + 1.5 * sine**2)
    cold = Weather(
        model.latitudes,
        model.longitudes,
        months,
        wavelength=45,
        persistence=0.3,
        seed=model.seed,
    )[:]
    temperature = (
        300.0
        + model.bias
        - 18.0 * sine**2
        - 28.0 * sine**4
        + np.where(land, 16.0, 6.0) * sine * season
        + warming
        + (0.5 + 0.8 * sine**2) * cold
    )
    tropics = np.exp(-(((model.latitudes[:, None] - 7 * season) / 11) ** 2))
    storms = np.exp(-(((np.abs(model.latitudes[:, None]) - 50) / 16) ** 2))
    shower = Weather(
        model.latitudes,
        model.longitudes,
        months,
        wavelength=30,
        persistence=0.1,
        seed=model.seed + 100,
    )[:]
    daily = (0.6 + 6.0 * tropics + 2.2 * storms) * np.exp(0.3 * shower[:])
    wetter = 1 + model.wetter / 100 * model.warming * decades
    return temperature, daily * wetter / SECONDS_A_DAY
