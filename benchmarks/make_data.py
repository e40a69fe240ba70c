"""Writes an input of the benchmarks: daily fields of 181 x 360 cells, 1 GB of float32 in ten years.

python benchmarks/make_data.py FILE [maps|blocks|packed|long|months] [YEARS]
python benchmarks/make_data.py FILE year YEAR
python benchmarks/make_data.py FILE half YEARS

`maps` has one map a chunk, `blocks` 365 days of 46 x 90 cells; `packed` is `maps` in 16-bit
integers. `long` has a quarter of the cells, `months` twelve steps a year. `year` is one year of a
few cells. `half` is monthly, a map a chunk, of the centres of cells of half a degree.
"""

from __future__ import annotations

import sys
from pathlib import Path

import netCDF4
import numpy as np

ROWS, COLUMNS, YEAR = 181, 360, 365
CHUNKS = {
    "maps": (1, ROWS, COLUMNS),
    "blocks": (YEAR, 46, 90),
    "packed": (1, ROWS, COLUMNS),
    "months": (1, ROWS, COLUMNS),
}


def main(path: str, kind: str, years: int, first: int = 2001) -> None:
    latitudes, longitudes = np.linspace(-90, 90, ROWS), np.arange(0.0, COLUMNS)
    if kind == "half":
        latitudes, longitudes = np.arange(-89.75, 90, 0.5), np.arange(0.25, 360, 0.5)
    if kind == "year":
        latitudes, longitudes = latitudes[::60], longitudes[::90]
    if kind == "long":
        latitudes, longitudes = latitudes[::2], longitudes[::2]
    days = (
        np.arange(15, YEAR, 30.4).astype(int)
        if kind in ("months", "half")
        else np.arange(YEAR)
    )
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("lat", latitudes, "degrees_north"),
            ("lon", longitudes, "degrees_east"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        file.createDimension("time", years * days.size)
        time = file.createVariable("time", "f8", ("time",))
        time.units, time.calendar = f"days since {first}-01-01", "noleap"
        time[:] = (YEAR * np.arange(years)[:, None] + days).ravel()
        dtype = "i2" if kind == "packed" else "f4"
        field = file.createVariable(
            "tas",
            dtype,
            ("time", "lat", "lon"),
            compression="zlib",
            complevel=4,
            shuffle=True,
            chunksizes=CHUNKS.get(kind, (1, latitudes.size, longitudes.size)),
        )
        field.setncatts(
            {
                "units": "K",
                "standard_name": "air_temperature",
                "long_name": "near-surface air temperature",
            }
        )
        if kind == "packed":
            field.setncatts({"scale_factor": 1 / 64, "add_offset": 250.0})
        for year in range(years):
            field[year * days.size : (year + 1) * days.size] = one_year(
                latitudes, longitudes, year, days
            )


def one_year(
    latitudes: np.ndarray, longitudes: np.ndarray, year: int, days: np.ndarray
) -> np.ndarray:
    """Return days of a year, kept to 1/64 K, about what real fields hold, so that it compresses
    about as well."""
    random = np.random.default_rng(year)
    warmth = 300 - 50 * np.sin(np.radians(latitudes))[:, None] ** 2
    wave = 4 * np.cos(np.radians(longitudes) * 3)
    season = (
        -10
        * np.cos(2 * np.pi * days / YEAR)[:, None, None]
        * np.sin(np.radians(latitudes))[:, None]
    )
    waves = np.stack([np.roll(wave, day) for day in days])[:, None, :]
    noise = random.standard_normal(
        (days.size, latitudes.size, longitudes.size), dtype=np.float32
    )
    return (np.round((warmth + season + waves + 2 * noise) * 64) / 64).astype(
        np.float32
    )


if __name__ == "__main__":
    target = sys.argv[1]
    kind = sys.argv[2] if len(sys.argv) > 2 else "maps"
    years = int(sys.argv[3]) if len(sys.argv) > 3 else 10
    if not Path(target).exists():
        main(target, kind, *((1, years) if kind == "year" else (years,)))
