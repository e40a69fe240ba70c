"""Opening many small files: anew, from the headers that are known, and from those of a collection.

    python benchmarks/many_files.py [--files 20000] [--runs 3]

prints milliseconds a file, as medians of runs in turn, and the peak memory of each.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import netCDF4
import numpy as np

_OPEN = """
import json, resource, sys, time
import rhodolite
from rhodolite.formats.header_cache import without_cache
began = time.perf_counter()
if sys.argv[2] == "anew":
    with without_cache():
        data = rhodolite.read(sys.argv[1])
else:
    data = rhodolite.read(sys.argv[1])
took = time.perf_counter() - began
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
print(json.dumps([took, peak, data.need_time().numbers.size]))
"""


def main() -> None:
    """Write the files and open them in each way."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for number in range(options.files):
            _write_day(folder / f"d_{number:05d}.nc", number)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        pattern, collection = str(folder / "d_*.nc"), str(folder / "all.toml")
        ways = {
            "anew": (pattern, "anew"),
            "for the first time": (pattern, "first"),
            "from known headers": (pattern, "known"),
            "from a collection with headers": (collection, "known"),
        }
        command = [sys.executable, "-m", "rhodolite", "join", pattern, "--headers"]
        subprocess.run([*command, "-o", collection, "--quiet"], check=True)
        found: dict[str, list[tuple[float, int]]] = {way: [] for way in ways}
        for _ in range(options.runs):
            for way, words in ways.items():
                if words[1] == "first":
                    (folder / "cache/rhodolite/headers.sqlite").unlink(missing_ok=True)
                found[way].append(_open(words, options.files))
    print(f"{options.files:,} files, {options.runs} runs in turn")
    for way, runs in found.items():
        each = statistics.median(took for took, _ in runs) / options.files * 1000
        print(
            f"{way:32} {each:6.2f} ms a file {max(peak for _, peak in runs) / 1024:6.0f} MB"
        )


def _open(words: tuple[str, str], expected: int) -> tuple[float, int]:
    run = subprocess.run(
        [sys.executable, "-c", _OPEN, *words],
        check=True,
        capture_output=True,
        text=True,
    )
    took, peak, steps = json.loads(run.stdout)
    assert steps == expected
    return took, peak


def _write_day(path: Path, number: int) -> None:
    with netCDF4.Dataset(path, "w") as file:
        for name, size in (("time", 1), ("lat", 18), ("lon", 36)):
            file.createDimension(name, size)
        time = file.createVariable("time", "f8", ("time",))
        time.units = "days since 1950-01-01"
        time[:] = number
        for name, units in (("lat", "degrees_north"), ("lon", "degrees_east")):
            axis = file.createVariable(name, "f8", (name,))
            axis.units = units
            axis[:] = (
                np.arange(5, 360, 10.0) if name == "lon" else np.arange(-85, 90, 10.0)
            )
        field = file.createVariable("tas", "f4", ("time", "lat", "lon"), zlib=True)
        field.units = "K"
        field[:] = 280.0


if __name__ == "__main__":
    main()
