"""Times work on quarter-degree daily maps against plain scripts and against the floor.

    python benchmarks/fine_grid.py [--years 3] [--runs 1] [--script-runs 1] [--data FOLDER]
                                    [--only WORD]

The input is made on the first run: 721 x 1440 values a day, packed into 16 bits, one map a chunk.
The floor is the time in which all chunks of the input are decoded and all those of the result are
encoded on all cores, in a run of its own between the others. The scripts read all into memory,
which for three years fits into 8 GB; of more years rhodolite is held against the floor alone. The
results of both sides are compared.
"""

from __future__ import annotations

import argparse
import math
import statistics
import subprocess
import sys
from pathlib import Path

import netCDF4
import numpy as np
from run import HERE, TOOL, floor, measure, region_of

ROWS, COLUMNS = 721, 1440
_MOST_YEARS = 4
"""Of which a script can hold all maps in 8 GB; of more there is no script to compare with."""
_WORKS = {
    "day-of-year climatology": ("day-mean", ["climatology", "--cycle", "day"]),
    "its 90th percentile": (
        "day-p90",
        ["climatology", "--cycle", "day", "--statistic", "p90"],
    ),
    "day-of-year anomaly": ("day-anomaly", ["anomaly", "--cycle", "day"]),
    "monthly maxima": (
        "month-max",
        ["aggregate", "--to", "month", "--statistic", "max"],
    ),
    "annual 95th percentile": (
        "year-p95",
        ["aggregate", "--to", "year", "--statistic", "p95"],
    ),
    "monthly climatology": ("month-mean", ["climatology"]),
    "time mean": ("time-mean", ["summarise", "--over", "time"]),
    "area mean": ("area-mean", ["summarise", "--over", "area"]),
    "region": ("region", ["subset", "--lat", "30N..75N", "--lon", "0..59.9"]),
}


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--years", type=int, default=3)
    parser.add_argument("--runs", type=int, default=1)
    parser.add_argument(
        "--script-runs", type=int, help="fewer, since scripts take long"
    )
    parser.add_argument("--data", type=Path, default=HERE / "data")
    parser.add_argument("--only", default="", help="rows whose name holds this word")
    parser.add_argument(
        "--compare", nargs=2, type=Path, help="two results, and nothing else"
    )
    options = parser.parse_args()
    if options.compare:
        compare(*options.compare)
        return
    scripted = options.runs if options.script_runs is None else options.script_runs
    options.data.mkdir(parents=True, exist_ok=True)
    source = options.data / f"quarter_{options.years}.nc"
    if not source.exists():
        make_data(source, options.years)
    columns = (
        "work",
        "script, s",
        "rhodolite, s",
        "times as fast",
        "floor, s",
        "floors",
    )
    print(
        f"| {' | '.join((*columns, 'script, MB', 'rhodolite, MB'))} |\n"
        + "|---" * 8
        + "|"
    )
    for name, (work, words) in _WORKS.items():
        if options.only in name:
            fits = options.years <= _MOST_YEARS
            print_row(name, work, words, source, options.runs, scripted if fits else 0)


def print_row(
    name: str, work: str, words: list[str], source: Path, runs: int, scripted: int
) -> None:
    """Run script, command and floor in turn, compare what was written, and print medians."""
    theirs, ours = source.with_name("theirs.nc"), source.with_name("ours.nc")
    verb, *rest = words
    script = [
        sys.executable,
        str(HERE / "scripts" / "fine.py"),
        work,
        str(source),
        str(theirs),
    ]
    command = [
        *TOOL,
        verb,
        str(source),
        *rest,
        "-o",
        str(ours),
        "--overwrite",
        "--quiet",
    ]
    if verb in ("climatology", "anomaly"):
        command += ["--min-years", "1"]
    slow, quick, least_of_each = [(math.nan, math.nan)] * (not scripted), [], []
    for run in range(runs):
        if run < scripted:
            slow.append(measure(script))
        quick.append(measure(command))
        least_of_each.append(floor(source, ours, region_of(words)))
    plain, fast = (statistics.median(one[0] for one in side) for side in (slow, quick))
    least = statistics.median(least_of_each)
    memory = [max(one[1] for one in side) for side in (slow, quick)]
    print(
        f"| {name} | {plain:.1f} | {fast:.1f} | {plain / fast:.1f} | {least:.1f} | "
        f"{fast / least:.2f} | {memory[0]:.0f} | {memory[1]:.0f} |",
        flush=True,
    )
    if not scripted:
        ours.unlink()
        return
    # In a process of its own, since a child's peak memory counts from what its parent held.
    subprocess.run(
        [sys.executable, __file__, "--compare", str(theirs), str(ours)], check=True
    )
    theirs.unlink()
    ours.unlink()


def compare(theirs: Path, ours: Path) -> None:
    """Stop with an error where the results differ by more than packing explains."""
    with netCDF4.Dataset(theirs) as a, netCDF4.Dataset(ours) as b:
        whole = a["tas"].ndim != b["tas"].ndim
        step = a["tas"].shape[0] if whole else 50
        for first in range(0, a["tas"].shape[0], step):
            here = np.ma.filled(a["tas"][first : first + step], np.nan)
            there = b["tas"][...] if whole else b["tas"][first : first + step]
            there = np.ma.filled(there, np.nan).reshape(here.shape)
            np.testing.assert_allclose(here, there, rtol=1e-4, atol=1e-3)


def make_data(path: Path, years: int) -> None:
    """Write daily maps with a yearly cycle and noise that compresses badly."""
    random = np.random.default_rng(1)
    latitudes, longitudes = np.linspace(-90, 90, ROWS), np.arange(COLUMNS) * 0.25
    base = 280 - 40 * np.sin(np.radians(latitudes))[:, None] ** 2 + 0 * longitudes
    weather = [
        (np.cumsum(random.normal(0, 1, (ROWS, COLUMNS)), axis=1) * 0.05).astype("f4")
        for _ in range(20)
    ]
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("lat", latitudes, "degrees_north"),
            ("lon", longitudes, "degrees_east"),
            ("time", np.arange(365 * years) + 0.5, "days since 2001-01-01"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        file["time"].calendar = "noleap"
        field = file.createVariable(
            "tas",
            "i2",
            ("time", "lat", "lon"),
            compression="zlib",
            complevel=4,
            shuffle=True,
            chunksizes=(1, ROWS, COLUMNS),
            fill_value=-32768,
        )
        field.setncatts({"units": "K", "scale_factor": 0.01, "add_offset": 273.15})
        field.set_auto_maskandscale(False)
        for day in range(365 * years):
            turned = np.roll(weather[day * 7 % 20], day * 13 % COLUMNS, axis=1)
            kelvin = (
                base + 8 * np.sin(2 * np.pi * day / 365) + weather[day % 20] + turned
            )
            field[day] = np.clip((kelvin - 273.15) / 0.01, -32000, 32000).astype("i2")


if __name__ == "__main__":
    main()
