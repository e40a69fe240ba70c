"""Times rhodolite against plain netCDF4 + NumPy scripts, in turn, and prints one table.

    python benchmarks/run.py [--runs 3] [--data FOLDER] [--only WORD] [--large]

Each row gives medians over interleaved runs of whole processes, their ratio, and the peak memory of
each. The inputs, 1 GB of daily data in three layouts, are made on the first run. The results of
both sides are compared. `--large` adds a run over ten times the data, which takes 4 GB of disk and
many minutes.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
TOOL = [sys.executable, "-m", "rhodolite"]
ENVIRONMENT = {
    name: text for name, text in os.environ.items() if "BYTECODE" not in name
} | {
    "PYTHONPYCACHEPREFIX": str(
        Path(tempfile.gettempdir()) / "rhodolite-benchmark-bytecode"
    )
}
"""With compiled modules kept, as an installation has them."""
LAYOUTS = {
    "maps": 10,
    "blocks": 10,
    "packed": 10,
    "long": 40,
    "months": 100,
    "half": 84,
}
"""The years in each input."""
DAILY = ("maps", "blocks", "packed")
ROWS = {
    "time mean": (
        "time_mean",
        [sys.executable, str(HERE / "ours" / "mean.py"), "{in}", "{out}", "time"],
        DAILY,
    ),
    "area-mean series": (
        "area_mean",
        [sys.executable, str(HERE / "ours" / "mean.py"), "{in}", "{out}", "area"],
        DAILY,
    ),
    "monthly climatology": (
        "climatology",
        [*TOOL, "climatology", "{in}", "-o", "{out}"],
        (*DAILY, "long"),
    ),
    "day-of-year climatology": (
        "day_of_year",
        [*TOOL, "climatology", "{in}", "--cycle", "day", "-o", "{out}"],
        ("maps", "long"),
    ),
    "monthly means": (
        "aggregate",
        [*TOOL, "aggregate", "{in}", "--to", "month", "-o", "{out}"],
        DAILY,
    ),
    "rainfall anomaly index": (
        "index",
        [*TOOL, "index", "{in}", "-o", "{out}"],
        ("months",),
    ),
    "trend at each cell": ("trend", [*TOOL, "trend", "{in}", "-o", "{out}"], DAILY),
    "monthly anomaly, written": (
        "anomaly",
        [*TOOL, "anomaly", "{in}", "-o", "{out}"],
        DAILY,
    ),
    "unit conversion, written": (
        "convert",
        [*TOOL, "convert", "{in}", "--units", "tas=degC", "-o", "{out}"],
        DAILY,
    ),
    "region of all times, written": (
        "subset",
        [*TOOL, "subset", "{in}", "--lat", "30N..75N", "--lon", "0..60", "-o", "{out}"],
        DAILY,
    ),
    "bilinear to 1 degree, written": (
        "regrid",
        [*TOOL, "regrid", "{in}", "--to", "1", "--method", "bilinear", "-o", "{out}"],
        ("half",),
    ),
    "conservative to 1 degree, written": (
        "regrid_product",
        [*TOOL, "regrid", "{in}", "--to", "1", "-o", "{out}"],
        ("half",),
    ),
    "5,000 sites, written": (
        "sites",
        [*TOOL, "extract", "{in}", "--points", "{sites}", "-o", "{out}"],
        ("half",),
    ),
}
_COLUMNS = (
    "work",
    "layout",
    "script, s",
    "rhodolite, s",
    "times as fast",
    "floor, s",
    "floors",
    "script, MB",
    "rhodolite, MB",
)
HEAD = f"| {' | '.join(_COLUMNS)} |\n" + "|---" * len(_COLUMNS) + "|"


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--data", type=Path, default=HERE / "data")
    parser.add_argument("--only", default="", help="rows whose name holds this word")
    parser.add_argument("--large", action="store_true")
    options = parser.parse_args()
    options.data.mkdir(parents=True, exist_ok=True)
    for layout, years in LAYOUTS.items():
        make_data(options.data / f"{layout}.nc", layout, years)
    make_sites(options.data / "sites.csv")
    print(HEAD)
    for name, (script, command, layouts) in ROWS.items():
        for layout in layouts:
            if options.only in name:
                row(
                    f"{name} | {layout}",
                    script,
                    command,
                    options.data,
                    layout,
                    options.runs,
                )
    if options.only in "space":
        space(options.runs)
    if options.only in "small":
        small(options.data, options.runs)
    if options.large:
        large(options.data)


def row(
    name: str, script: str, command: list[str], data: Path, layout: str, runs: int
) -> None:
    """Run script and command in turn, compare what they wrote, and print a row of medians."""
    source, theirs, ours = (data / f"{part}.nc" for part in (layout, "theirs", "ours"))
    plain = [
        sys.executable,
        str(HERE / "scripts" / f"{script}.py"),
        str(source),
        str(theirs),
    ]
    names = {
        "{in}": str(source),
        "{out}": str(ours),
        "{sites}": str(data / "sites.csv"),
    }
    filled = [names.get(word, word) for word in command]
    if "rhodolite" in filled:
        filled += ["--overwrite", "--quiet"]
    found = []
    for _ in range(runs):
        pair = measure(plain), measure(filled)
        found.append((*pair, floor(source, ours, region_of(command))))
    seconds = [statistics.median(one[side][0] for one in found) for side in (0, 1)]
    ratio = statistics.median(one[0][0] / one[1][0] for one in found)
    least = statistics.median(one[2] for one in found)
    memory = [max(one[side][1] for one in found) for side in (0, 1)]
    print(
        f"| {name} | {seconds[0]:.1f} | {seconds[1]:.1f} | {ratio:.1f} | {least:.1f} | "
        f"{seconds[1] / least:.2f} | {memory[0]:.0f} | {memory[1]:.0f} |",
        flush=True,
    )
    # In a process of its own, since a child's peak memory counts from what its parent held.
    subprocess.run(
        [sys.executable, str(HERE / "check_same.py"), str(theirs), str(ours)],
        check=True,
    )
    theirs.unlink()
    ours.unlink()


def floor(source: Path, result: Path, region: list[str]) -> float:
    """Return the seconds in which the chunks of a source are decoded and those of a result
    encoded."""
    words = [
        sys.executable,
        str(HERE / "ours" / "floor.py"),
        str(source),
        str(result),
        *region,
    ]
    os.sync()
    said = subprocess.run(
        words, check=True, capture_output=True, text=True, env=ENVIRONMENT
    )
    return sum(map(float, said.stdout.split()))


def region_of(command: list[str]) -> list[str]:
    """Return the latitudes and longitudes that a command takes, if it takes a part."""
    if "--lat" not in command:
        return []
    return [command[command.index(word) + 1] for word in ("--lat", "--lon")]


def alone(name: str, layout: str, command: list[str], runs: int) -> None:
    """Print a row of what has nothing to be held against."""
    measured = [measure(command) for _ in range(runs)]
    seconds, memory = (
        statistics.median(m[0] for m in measured),
        max(m[1] for m in measured),
    )
    print(f"| {name} | {layout} | | {seconds:.2f} | | | | | {memory:.0f} |", flush=True)


def space(runs: int) -> None:
    """Time weights and coverage, which have nothing to be held against."""
    for what in (
        "weights of 0.25 to 1 degree",
        "countries on 0.25 degrees",
        "weights of 250 x 250 rotated cells",
    ):
        alone(what, "", [sys.executable, str(HERE / "ours" / "cells.py"), what], runs)


def make_sites(path: Path) -> None:
    """Write 5,000 sites anywhere."""
    if not path.exists():
        random = np.random.default_rng(1)
        rows = zip(
            random.uniform(-89, 89, 5000), random.uniform(-180, 180, 5000), strict=True
        )
        path.write_text(
            "name,lat,lon\n"
            + "".join(f"s{at},{y:.4f},{x:.4f}\n" for at, (y, x) in enumerate(rows))
        )


def small(data: Path, runs: int) -> None:
    """Time what should take no time at all."""
    month, cell, files = data / "small.nc", data / "cell.csv", data / "files"
    subprocess.run(
        [
            *TOOL,
            "subset",
            str(data / "maps.nc"),
            "--time",
            "2001-01",
            "-o",
            str(month),
            "--overwrite",
            "--quiet",
        ],
        check=True,
    )
    files.mkdir(exist_ok=True)
    for year in range(100):
        make_data(files / f"{1900 + year}.nc", "year", 1900 + year)
    series = [
        "subset",
        str(data / "blocks.nc"),
        "--at",
        "60N,10E",
        "-o",
        str(cell),
        "--overwrite",
        "--quiet",
    ]
    rows = {
        ("--help", ""): ["--help"],
        ("inspect", "a small file"): ["inspect", str(month)],
        ("inspect", "100 files"): ["inspect", str(files / "*.nc")],
        ("one cell's series to a table", "blocks"): series,
    }
    for (name, layout), words in rows.items():
        alone(name, layout, [*TOOL, *words], max(5, runs))


def large(data: Path) -> None:
    """Time ten times the data against once the data."""
    make_data(data / "large.nc", "maps", 100)
    for words in (["climatology"], ["anomaly"]):
        taken = []
        for name in ("maps", "large"):
            command = [
                *TOOL,
                *words,
                str(data / f"{name}.nc"),
                "-o",
                str(data / "ours.nc"),
                "--overwrite",
                "--quiet",
            ]
            taken.append(measure(command))
        longer = f"{taken[1][0] / taken[0][0]:.1f} times as long"
        seconds, memory = ([f"{one[at]:.1f}" for one in taken] for at in (0, 1))
        print(
            f"| {words[0]} of 10 GB, after 1 GB | maps | {' | '.join(seconds)} | {longer} | "
            f"{' | '.join(memory)} |"
        )
    (data / "ours.nc").unlink()


def make_data(path: Path, kind: str, years: int) -> None:
    subprocess.run(
        [sys.executable, str(HERE / "make_data.py"), str(path), kind, str(years)],
        check=True,
    )


def measure(words: list[str]) -> tuple[float, float]:
    """Return the seconds and the peak memory in MB of a process."""
    os.sync()  # what earlier runs have written does not hold up this one
    began = time.perf_counter()
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL, env=ENVIRONMENT)
    _, status, usage = os.wait4(child.pid, 0)
    if status:
        raise SystemExit(f"failed: {' '.join(words)}")
    return time.perf_counter() - began, usage.ru_maxrss / 1000


if __name__ == "__main__":
    main()
