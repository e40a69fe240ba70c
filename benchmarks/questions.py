"""Indicators, windows, rare values, composites, patterns, spectra and adjusted models, beside plain
scripts of NumPy and netCDF4: whole processes in turn, medians of seconds, and peak memory.

    python benchmarks/questions.py [--runs 3] [--rows "running mean"]
"""

from __future__ import annotations

import argparse
import resource
import shlex
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import netCDF4
import numpy as np

_HEAD = """
import netCDF4, numpy as np
def read(path, name="tas"):
    with netCDF4.Dataset(path) as file:
        return file[name][:].filled(np.nan).astype("f8")
def write(path, **fields):
    with netCDF4.Dataset(path, "w") as file:
        for name, values in fields.items():
            dims = []
            for at, n in enumerate(values.shape):
                dims.append(f"{name}_{at}")
                file.createDimension(dims[-1], n)
            made = file.createVariable(name, "f4", dims, zlib=True, complevel=4)
            made[:] = values
"""
ROWS = {
    "frost days and days in warm spells": (
        "indicator days.nc --lowest tas --highest tas --kind FD,WSDI -o ours.nc",
        """
x = read("days.nc"); years = x.reshape(10, 365, *x.shape[1:])
frost = (years < 273.15).sum(axis=1)
wide = np.concatenate([np.roll(years, shift, axis=1) for shift in range(-2, 3)])
warm = years > np.quantile(wide, 0.9, axis=0, method="median_unbiased")
spells = np.zeros((10, *x.shape[1:])); run = np.zeros_like(spells)
for day in range(366):
    now = warm[:, day] if day < 365 else np.zeros_like(warm[:, 0])
    spells += np.where(~now & (run >= 6), run, 0); run = np.where(now, run + 1, 0)
write("plain.nc", FD=frost, WSDI=spells)
""",
    ),
    "running mean of 31 days": (
        "window days.nc --width 31days -o ours.nc",
        """
x = read("days.nc"); out = np.full(x.shape, np.nan)
for at in range(15, len(x) - 15):
    out[at] = x[at - 15:at + 16].mean(axis=0)
write("plain.nc", tas=out)
""",
    ),
    "standard deviation of windows of 31 days": (
        "window days.nc --width 31days --statistic std -o ours.nc",
        """
x = read("days.nc"); out = np.full(x.shape, np.nan)
for at in range(15, len(x) - 15):
    out[at] = x[at - 15:at + 16].std(axis=0, ddof=1)
write("plain.nc", tas=out)
""",
    ),
    "90th percentile of windows of 31 days": (
        "window days.nc --width 31days --statistic p90 -o ours.nc",
        """
x = read("days.nc"); out = np.full(x.shape, np.nan)
for at in range(15, len(x) - 15):
    out[at] = np.quantile(x[at - 15:at + 16], 0.9, axis=0)
write("plain.nc", tas=out)
""",
    ),
    "90th percentile of each day with 15 around it": (
        "climatology days.nc --cycle day --pool 31 --statistic p90 -o ours.nc",
        """
x = read("days.nc"); years = x.reshape(10, 365, *x.shape[1:]); out = np.empty(years.shape[1:])
for day in range(365):
    near = np.arange(day - 15, day + 16) % 365
    out[day] = np.quantile(years[:, near].reshape(310, *x.shape[1:]), 0.9, axis=0)
write("plain.nc", tas=out)
""",
    ),
    "levels of return periods": (
        "extremes years.nc --samples 0 --periods 20 -o ours.nc",
        """
from scipy.stats import genextreme
x = read("years.nc"); level = np.empty(x.shape[1:])
for place in np.ndindex(level.shape):
    c, loc, scale = genextreme.fit(x[(slice(None), *place)])
    level[place] = genextreme.isf(0.05, c, loc, scale)
write("plain.nc", level=level)
""",
    ),
    "composite of a quarter of the months": (
        "composite months.nc --when 'highest 300 of index.csv' -o ours.nc",
        """
from scipy.stats import ttest_ind
x = read("months.nc"); index = np.loadtxt("index.csv", delimiter=",", skiprows=1, usecols=1)
high = np.argsort(-index, kind="stable")[:300]; chosen = np.zeros(len(x), bool); chosen[high] = True
p = ttest_ind(x[chosen], x[~chosen], equal_var=False).pvalue
write("plain.nc", difference=x[chosen].mean(axis=0) - x[~chosen].mean(axis=0), p=p)
""",
    ),
    "five patterns": (
        "patterns months.nc --count 5 -o ours.nc",
        """
x = read("months.nc"); flat = x.reshape(len(x), -1); flat = flat - flat.mean(axis=0)
lat = np.linspace(-88.75, 88.75, x.shape[1])
root = np.sqrt(np.cos(np.radians(np.repeat(lat, x.shape[2]))))
u, s, v = np.linalg.svd(flat * root, full_matrices=False)
maps = (u[:, :5] * np.sqrt(len(x) - 1)).T @ flat / (len(x) - 1)
write("plain.nc", maps=maps.reshape(5, *x.shape[1:]), share=(s**2 / (s**2).sum())[:5])
""",
    ),
    "spectrum of every cell": (
        "spectrum months.nc --method welch -o ours.nc",
        """
from scipy.signal import welch
x = read("months.nc"); f, p = welch(x, 12, nperseg=300, axis=0)
write("plain.nc", power=p[1:])
""",
    ),
    "quantiles mapped": (
        "adjust months.nc --to months.nc --method quantiles --base 2001..2050 -o ours.nc",
        """
x = read("months.nc"); out = np.empty(x.shape); base = x[:600]
for month in range(12):
    for place in np.ndindex(x.shape[1:]):
        at = (slice(month, None, 12), *place)
        order = np.sort(base[at]); places = (np.arange(50) + 0.5) / 50
        out[at] = np.interp(np.interp(x[at], order, places), places, order)
write("plain.nc", tas=out)
""",
    ),
}


def make_data(folder: Path) -> None:
    """Write ten years of days, a century of months, sixty years, and an index."""
    random = np.random.default_rng(0)
    for name, steps, cells, step in (
        ("days", 3650, (91, 180), 1.0),
        ("months", 1200, (72, 144), 30.0),
        ("years", 60, (36, 72), 365.0),
    ):
        with netCDF4.Dataset(folder / f"{name}.nc", "w") as file:
            for axis, n in zip(("time", "lat", "lon"), (steps, *cells), strict=True):
                file.createDimension(axis, n)
            calendar = "360_day" if name == "months" else "noleap"
            made = file.createVariable("time", "f8", ("time",))
            made.setncatts({"units": "days since 2001-01-01", "calendar": calendar})
            made[:] = np.arange(steps) * step + step / 2
            for axis, n, reach in (("lat", cells[0], 88.75), ("lon", cells[1], 357.5)):
                made = file.createVariable(axis, "f8", (axis,))
                made.units = "degrees_north" if axis == "lat" else "degrees_east"
                made[:] = np.linspace(-reach if axis == "lat" else 0, reach, n)
            chunks = (min(steps, 365), *(-(-n // 4) for n in cells))
            made = file.createVariable(
                "tas", "f4", ("time", "lat", "lon"), zlib=True, chunksizes=chunks
            )
            made.units = "K"
            cycle = 8 * np.sin(np.arange(steps) * step * 2 * np.pi / 365)
            made[:] = 280 + cycle[:, None, None] + random.gumbel(0, 3, (steps, *cells))
    index = random.normal(size=1200).round(3)
    months = [f"{2001 + m // 12}-{m % 12 + 1:02d}" for m in range(1200)]
    rows = "\n".join(f"{m},{v}" for m, v in zip(months, index, strict=True))
    (folder / "index.csv").write_text(f"time,index\n{rows}\n")


def run(command: list[str], folder: Path) -> tuple[float, float]:
    """Return the seconds and the peak memory in MB of a process."""
    begin = time.perf_counter()
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
    wrapped = [
        sys.executable,
        "-c",
        "import resource, subprocess, sys;"
        "code = subprocess.run(sys.argv[1:], capture_output=True).returncode;"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss); sys.exit(code)",
        *command,
    ]
    done = subprocess.run(wrapped, cwd=folder, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{command} failed (before it {before} kB)")
    return time.perf_counter() - begin, int(done.stdout) / 1024


def main() -> None:
    """Print a table of all rows."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--rows", default="", help="part of the titles of rows")
    options = parser.parse_args()
    runs = options.runs
    ours = str(Path(sys.executable).with_name("rhodolite"))
    print(
        "| work | script, s | rhodolite, s | times as fast | script, MB | rhodolite, MB |"
    )
    print("|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_data(folder)
        for title, (words, script) in ROWS.items():
            if options.rows not in title:
                continue
            command = [ours, *shlex.split(words), "--overwrite"]
            plain = [sys.executable, "-c", _HEAD + script]
            pairs = [(run(plain, folder), run(command, folder)) for _ in range(runs)]
            seconds = [statistics.median(p[side][0] for p in pairs) for side in (0, 1)]
            memory = [max(p[side][1] for p in pairs) for side in (0, 1)]
            print(
                f"| {title} | {seconds[0]:.1f} | {seconds[1]:.1f} | "
                f"{seconds[0] / seconds[1]:.1f} | {memory[0]:.0f} | {memory[1]:.0f} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
