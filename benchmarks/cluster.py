"""Times work on a cluster of this machine: against threads, and with slow storage.

    python benchmarks/cluster.py [--runs 3] [--data FOLDER]

The first table has two worker processes of one thread against two threads, in turn: daily maps of
one degree, then three years of packed quarter-degree maps (`fine`). The second has
1, 2 and 4 worker processes that wait 20 ms for every read, as for storage that is far away; what
they wait for is not the processor, so that throughput can grow beyond its cores.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import fine_grid
from run import ENVIRONMENT, HERE, TOOL, make_data

_SLOW = """
import time
import rhodolite.formats.netcdf.direct_chunk_reader as reader
def slowed(read_at):
    def wait_and_read(*arguments):
        time.sleep(0.02)
        return read_at(*arguments)
    wait_and_read.slow = True
    return wait_and_read
if not hasattr(reader.read_at, "slow"):
    reader.read_at = slowed(reader.read_at)
"""
_FILES = {"maps": "maps", "blocks": "blocks", "fine": "quarter_3"}
_DAILY = ("climatology", "--cycle", "day", "--min-years", "1")
_ROWS = {
    "time mean": ["summarise", "{maps}", "--over", "time"],
    "monthly climatology": ["climatology", "{maps}"],
    "monthly means": ["aggregate", "{maps}", "--to", "month"],
    "area-mean series": ["summarise", "{blocks}", "--over", "area"],
    "trend": ["trend", "{maps}"],
    "unit conversion, written": ["convert", "{maps}", "--units", "tas=degC"],
    "anomaly, written": ["anomaly", "{maps}"],
    "fine time mean": ["summarise", "{fine}", "--over", "time"],
    "fine monthly maxima": [
        "aggregate",
        "{fine}",
        "--to",
        "month",
        "--statistic",
        "max",
    ],
    "fine day-of-year climatology": [*_DAILY[:1], "{fine}", *_DAILY[1:]],
    "fine daily 90th percentiles": [
        *_DAILY[:1],
        "{fine}",
        *_DAILY[1:],
        "--statistic",
        "p90",
    ],
    "fine annual 95th percentile": [
        "aggregate",
        "{fine}",
        "--to",
        "year",
        "--statistic",
        "p95",
    ],
    "fine day-of-year anomaly": ["anomaly", "{fine}", *_DAILY[1:]],
}


@contextmanager
def workers(count: int, slow: bool = False) -> Iterator[str]:
    """Yield the address of a scheduler that has so many workers of one thread."""
    with tempfile.TemporaryDirectory() as name:
        place = Path(name) / "scheduler.json"
        preload = Path(name) / "slow_storage.py"
        preload.write_text(_SLOW)
        dask = Path(sys.executable).with_name("dask")
        quiet = {
            "stdout": subprocess.DEVNULL,
            "stderr": subprocess.DEVNULL,
            "cwd": name,
            "env": ENVIRONMENT,
        }
        here = ["--scheduler-file", place, "--host", "127.0.0.1", "--no-dashboard"]
        worker = [dask, "worker", *here, "--nthreads", "1", "--no-nanny"]
        worker += ["--preload", preload] if slow else []
        running = [subprocess.Popen([dask, "scheduler", *here, "--port", "0"], **quiet)]
        running += [subprocess.Popen(worker, **quiet) for _ in range(count)]
        try:
            while not place.exists() or not place.read_text().strip():
                time.sleep(0.1)
            address = json.loads(place.read_text())["address"]
            _wait_for(address, count)
            yield address
        finally:
            for process in running:
                process.kill()
            for process in running:
                process.wait()


def _wait_for(address: str, count: int) -> None:
    from distributed import Client

    with Client(address, set_as_default=False) as client:
        client.wait_for_workers(count, timeout=120)


def _time(words: list[str], data: Path, *more: str) -> float:
    names = {name: data / f"{file}.nc" for name, file in _FILES.items()}
    filled = [word.format(**names) for word in words]
    command = [
        *TOOL,
        *filled,
        "-o",
        str(data / "out.nc"),
        "--overwrite",
        "--quiet",
        *more,
    ]
    os.sync()  # what earlier runs have written does not hold up this one
    began = time.perf_counter()
    subprocess.run(command, check=True, env={**ENVIRONMENT, "OMP_NUM_THREADS": "1"})
    return time.perf_counter() - began


def main() -> None:
    """Print both tables."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--data", type=Path, default=HERE / "data")
    parser.add_argument(
        "--only", default="", help="rows of the first table with this word"
    )
    options = parser.parse_args()
    options.data.mkdir(parents=True, exist_ok=True)
    for layout in ("maps", "blocks"):
        make_data(options.data / f"{layout}.nc", layout, 10)
    if not (options.data / "quarter_3.nc").exists():
        fine_grid.make_data(options.data / "quarter_3.nc", 3)
    print("| work | 2 threads, s | 2 workers, s | times as long |\n" + "|---" * 4 + "|")
    with workers(2) as address:
        for name, words in _ROWS.items():
            if options.only not in name:
                continue
            pairs = [
                (
                    _time(words, options.data, "--workers", "2"),
                    _time(words, options.data, "--cluster", address),
                )
                for _ in range(options.runs)
            ]
            here, there = (
                statistics.median(column) for column in zip(*pairs, strict=True)
            )
            print(
                f"| {name} | {here:.1f} | {there:.1f} | {there / here:.2f} |",
                flush=True,
            )
    if options.only:
        return
    print(
        "\n| workers | monthly means of slow storage, s | anomaly, s |\n"
        + "|---" * 3
        + "|"
    )
    for count in (1, 2, 4):
        with workers(count, slow=True) as address:
            took = [
                _time(_ROWS[name], options.data, "--cluster", address)
                for name in ("monthly means", "anomaly, written")
            ]
        print(f"| {count} | {took[0]:.1f} | {took[1]:.1f} |", flush=True)


if __name__ == "__main__":
    main()
