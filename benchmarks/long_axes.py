"""Times commands on axes of many times, beside a plain script: what is counted in whole numbers
must not become dates first.

    python benchmarks/long_axes.py [--runs 3] [--longest 2000000]
"""

from __future__ import annotations

import argparse
import statistics
import sys
import tempfile
from pathlib import Path

import netCDF4
import numpy as np
from run import TOOL, measure

_SCRIPT = """
import sys
import netCDF4
import numpy as np
with netCDF4.Dataset(sys.argv[1]) as file:
    days = file["time"][:] // 24
    values = file["tas"][:]
    found = np.unique(days)
    means = np.array([values[days == day].mean(axis=0) for day in found])
with netCDF4.Dataset(sys.argv[2], "w") as file:
    for name, n in zip(("time", "lat", "lon"), means.shape):
        file.createDimension(name, n)
    file.createVariable("tas", "f4", ("time", "lat", "lon"), zlib=True)[:] = means
"""
CELLS = (3, 4)


def main() -> None:
    """Print a table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--longest", type=int, default=2_000_000)
    options = parser.parse_args()
    print("| hours | inspect s | MB | to days s | MB | script s | MB | script / ours |")
    print("|---|---|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for steps in (9_600, 263_000, options.longest):
            print_row(folder, steps, options.runs)


def print_row(folder: Path, steps: int, runs: int) -> None:
    """Make a file of so many hours and print what each takes."""
    source, target = folder / "hours.nc", folder / "days.nc"
    make_data(source, steps)
    daily = [
        "aggregate",
        str(source),
        "--to",
        "day",
        "--min-coverage",
        "0",
        "-o",
        str(target),
    ]
    ways = [
        [*TOOL, "inspect", str(source)],
        [*TOOL, *daily, "--overwrite", "--quiet"],
        [sys.executable, "-c", _SCRIPT, str(source), str(target)],
    ]
    taken = [[measure(way) for way in ways] for _ in range(runs)]
    middle = [
        [statistics.median(row[way][part] for row in taken) for part in (0, 1)]
        for way in range(3)
    ]
    cells = [f"{seconds:.1f} | {memory:.0f}" for seconds, memory in middle]
    print(
        f"| {steps:,} | {' | '.join(cells)} | {middle[2][0] / middle[1][0]:.1f} |",
        flush=True,
    )
    source.unlink()
    target.unlink()


def make_data(path: Path, steps: int) -> None:
    """Write hours of a few cells."""
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("time", np.arange(steps, dtype=float), "hours since 1990-01-01"),
            ("lat", np.arange(CELLS[0], dtype=float), "degrees_north"),
            ("lon", np.arange(CELLS[1], dtype=float), "degrees_east"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        made = file.createVariable(
            "tas", "f4", ("time", "lat", "lon"), zlib=True, chunksizes=(5_000, *CELLS)
        )
        made.units = "K"
        made[:] = np.random.default_rng(0).normal(280, 5, (steps, *CELLS))


if __name__ == "__main__":
    main()
