"""Writes the benchmark's input: ten years of daily maps, 3650 x 181 x 360 float32, about 1 GB unpacked.

python benchmarks/make_data.py FILE
"""

from __future__ import annotations

import sys
from pathlib import Path

import netCDF4
import numpy as np

DAYS, ROWS, COLUMNS = 3650, 181, 360


def main(path: str) -> None:
    random = np.random.default_rng(5)
    latitudes, longitudes = np.linspace(-90, 90, ROWS), np.arange(0.0, COLUMNS)
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (("lat", latitudes, "degrees_north"), ("lon", longitudes, "degrees_east")):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        file.createDimension("time", DAYS)
        time = file.createVariable("time", "f8", ("time",))
        time.units, time.calendar = "days since 2001-01-01", "noleap"
        time[:] = np.arange(DAYS)
        field = file.createVariable("tas", "f4", ("time", "lat", "lon"), compression="zlib", complevel=4, shuffle=True,
                                    chunksizes=(1, ROWS, COLUMNS))  # fmt: skip
        field.setncatts({"units": "K", "standard_name": "air_temperature", "long_name": "near-surface air temperature"})
        warmth = 300 - 50 * np.sin(np.radians(latitudes))[:, None] ** 2
        wave = 4 * np.cos(np.radians(longitudes) * 3)
        for day in range(DAYS):
            season = -10 * np.cos(2 * np.pi * day / 365) * np.sin(np.radians(latitudes))[:, None]
            noise = random.standard_normal((ROWS, COLUMNS), dtype=np.float32)
            # Kept to 1/64 K, about what real fields hold, so that it compresses about as well as they do.
            field[day] = np.round((warmth + season + np.roll(wave, day) + 2 * noise) * 64) / 64


if __name__ == "__main__":
    if not Path(sys.argv[1]).exists():
        main(sys.argv[1])
