"""Times what should take no time: commands on a file of a few kilobytes, with the modules that each
imports, and the example on made-up data.

    python benchmarks/start.py [--runs 9]
"""

from __future__ import annotations

import argparse
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import netCDF4
import numpy as np
from run import TOOL, measure

_COUNT = """
import sys
from rhodolite.cli.main import main
try:
    main(sys.argv[1:])
except SystemExit:
    pass
ours = [name for name in sys.modules if name.split(".")[0] == "rhodolite"]
print("COUNTED", len(sys.modules), len(ours))
"""


def main() -> None:
    """Print a table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--runs", type=int, default=9)
    runs = parser.parse_args().runs
    print("| command | s | MB | modules | of them ours |\n|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_data(folder / "small.nc")
        small, output = str(folder / "small.nc"), str(folder / "out.nc")
        ending = ["-o", output, "--overwrite", "--quiet"]
        for words in (
            ["--help"],
            ["inspect", small],
            ["subset", small, "--lat", "0..60", *ending],
            ["climatology", small, "--min-years", "1", *ending],
            [
                "summarise",
                small,
                "--over",
                "area",
                "-o",
                str(folder / "mean.csv"),
                *ending[2:],
            ],
            [
                "draw",
                "map",
                small,
                "--time",
                "2001-01",
                "-o",
                str(folder / "map.png"),
                *ending[2:],
            ],
        ):
            print_row(words, runs)
        time_demo(folder, max(1, runs // 3))


def print_row(words: list[str], runs: int) -> None:
    """Run a command so many times, and once to count."""
    taken = [measure([*TOOL, *words]) for _ in range(runs)]
    seconds, memory = (statistics.median(one[at] for one in taken) for at in (0, 1))
    said = subprocess.run(
        [sys.executable, "-c", _COUNT, *words],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    counted = next(
        line.split()[1:] for line in said.splitlines() if line.startswith("COUNTED")
    )
    named = " ".join(Path(word).name for word in words[: 2 + (words[0] == "draw")])
    print(
        f"| {named} | {seconds:.2f} | {memory:.0f} | {' | '.join(counted)} |",
        flush=True,
    )


def time_demo(folder: Path, runs: int) -> None:
    """Time the data of the example, its first picture, and all of it."""
    taken = []
    for run in range(runs):
        place = folder / f"demo{run}"
        began = time.monotonic()
        with subprocess.Popen(
            [*TOOL, "demo", str(place)],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        ) as process:
            while process.poll() is None and not any(place.glob("*.png")):
                time.sleep(0.1)
            first = time.monotonic() - began
            process.communicate()
        whole = time.monotonic() - began
        data, _ = measure([*TOOL, "demo", str(folder / f"data{run}"), "--data-only"])
        taken.append((first, whole, data))
    first, whole, data = (
        statistics.median(column) for column in zip(*taken, strict=True)
    )
    print(
        f"\ndemo: first picture {first:.1f} s, all {whole:.1f} s; --data-only {data:.1f} s"
    )


def make_data(path: Path) -> None:
    """Write two years of months on a coarse grid."""
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("lat", np.arange(-85, 90, 10.0), "degrees_north"),
            ("lon", np.arange(5, 360, 10.0), "degrees_east"),
            ("time", np.arange(24) * 30.0 + 15, "days since 2001-01-01"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        file["time"].calendar = "360_day"
        field = file.createVariable("tas", "f4", ("time", "lat", "lon"))
        field.units = "K"
        field[:] = np.random.default_rng(1).normal(280, 10, (24, 18, 36))


if __name__ == "__main__":
    main()
