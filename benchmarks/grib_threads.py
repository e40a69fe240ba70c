"""How much faster two threads decode the messages of GRIB than one, in turns, by packing.

python benchmarks/grib_threads.py
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

import rhodolite
from rhodolite.arrays import Engine
from rhodolite.formats.grib.messages import library

_PACKINGS = {"simple": 60, "ccsds": 60, "complex": 40, "jpeg": 12}
"""How many maps of a quarter of a degree are written with each."""
_ROWS, _COLUMNS = 721, 1440
_TURNS = 5
_GRID = {
    "Ni": _COLUMNS,
    "Nj": _ROWS,
    "latitudeOfFirstGridPointInDegrees": 90,
    "latitudeOfLastGridPointInDegrees": -90,
    "longitudeOfFirstGridPointInDegrees": 0,
    "longitudeOfLastGridPointInDegrees": 359.75,
    "iDirectionIncrementInDegrees": 0.25,
    "jDirectionIncrementInDegrees": 0.25,
    "bitsPerValue": 16,
    "dataDate": 20010101,
}


def write_messages(path: Path, packing: str, count: int) -> None:
    """Write hourly maps of smooth values with some noise."""
    eccodes = library()
    noise = np.random.default_rng(0)
    waves = 280 + 10 * np.sin(np.linspace(0, 60, _ROWS * _COLUMNS))
    with path.open("wb") as file:
        for hour in range(count):
            message = eccodes.codes_grib_new_from_samples("regular_ll_sfc_grib2")
            for key, value in _GRID.items():
                eccodes.codes_set(message, key, value)
            eccodes.codes_set_values(message, waves)
            eccodes.codes_set(message, "packingType", f"grid_{packing}")
            eccodes.codes_set(message, "dataDate", 20010101 + hour // 24)
            eccodes.codes_set(message, "dataTime", hour % 24 * 100)
            values = waves + noise.normal(0, 0.5, waves.size)
            eccodes.codes_set_values(message, values)
            eccodes.codes_write(message, file)
            eccodes.codes_release(message)


def time_decoding(path: Path, workers: int) -> float:
    """Return the seconds in which all values are decoded."""
    values = rhodolite.read(path).plain.fields[0].data
    engine = Engine(workers=workers)
    _, total, regions = engine.blocks(values)
    began = time.perf_counter()
    for _ in engine.stream(lambda part: values.read(part).max(), regions, "", total):
        pass
    return time.perf_counter() - began


def main() -> None:
    """Print the medians with one thread and with two, and their ratio."""
    with tempfile.TemporaryDirectory() as folder:
        for packing, count in _PACKINGS.items():
            path = Path(folder) / f"{packing}.grib2"
            write_messages(path, packing, count)
            seconds: dict[int, list[float]] = {1: [], 2: []}
            for turn in range(2 * _TURNS):
                workers = 1 + turn % 2
                seconds[workers].append(time_decoding(path, workers))
            alone, both = (statistics.median(seconds[workers]) for workers in (1, 2))
            print(
                f"{packing:<8} {alone:6.2f} s  {both:6.2f} s  {alone / both:5.2f} times"
            )


if __name__ == "__main__":
    main()
