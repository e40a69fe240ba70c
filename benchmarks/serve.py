"""Asks a server for small maps and series at a fixed rate, and prints how long answers take.

    python benchmarks/serve.py [--rate 200] [--seconds 60]

The server runs in a process of its own on a quarter-degree field of months; requests go out at
their time whether or not earlier ones have been answered, over connections that stay open.
"""

from __future__ import annotations

import argparse
import http.client
import queue
import random
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from urllib.parse import urlencode

import netCDF4
import numpy as np

_CALLERS = 24


def main() -> None:
    """Print a row of the table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rate", type=int, default=200)
    parser.add_argument("--seconds", type=int, default=60)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        source = Path(name) / "field.nc"
        make_data(source)
        server = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "rhodolite",
                "serve",
                str(source),
                "--port",
                "0",
                "--quiet",
            ],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert server.stdout is not None
        root = next(
            line for line in server.stdout if line.strip().endswith("/")
        ).strip()
        place = root.removeprefix("http://").rstrip("/")
        for path in [*requests(1000)]:
            ask(http.client.HTTPConnection(place), path)  # so that caches are full
        before = memory(server.pid)
        taken, failed = load(place, options.rate, options.seconds)
        after = memory(server.pid)
        server.terminate()
        server.wait()
    ordered = sorted(taken)
    rank = ordered[int(0.95 * len(ordered))] * 1000
    print(
        "| requests | failed | median, ms | 95th percentile, ms | MB before | MB after |"
    )
    print("|---|---|---|---|---|---|")
    print(
        f"| {len(taken):,} | {failed} | {statistics.median(ordered) * 1000:.0f} | {rank:.0f} | "
        f"{before:.0f} | {after:.0f} |"
    )


def load(place: str, rate: int, seconds: int) -> tuple[list[float], int]:
    """Send requests at a rate, and return how long each took and how many failed."""
    waiting: queue.Queue[tuple[float, str] | None] = queue.Queue()
    taken: list[float] = []
    failed = 0

    def call() -> None:
        nonlocal failed
        connection = http.client.HTTPConnection(place)
        while (one := waiting.get()) is not None:
            due, path = one
            good = ask(connection, path)
            failed += not good
            taken.append(time.perf_counter() - due)

    callers = [threading.Thread(target=call) for _ in range(_CALLERS)]
    for caller in callers:
        caller.start()
    began = time.perf_counter()
    for at, path in enumerate(requests(rate * seconds)):
        due = began + at / rate
        time.sleep(max(0.0, due - time.perf_counter()))
        waiting.put((due, path))
    for _ in callers:
        waiting.put(None)
    for caller in callers:
        caller.join()
    return taken, failed


def requests(count: int):
    """Yield maps and series, a quarter of them series."""
    dice = random.Random(1)
    for _ in range(count):
        moment = f"{dice.randint(2001, 2004)}-{dice.randint(1, 12):02d}"
        west, south = dice.uniform(-180, 140), dice.uniform(-90, 60)
        if dice.random() < 0.25:
            words = {"coords": f"POINT({west} {south})", "parameter-name": "tas"}
            yield f"/edr/collections/field/position?{urlencode(words)}"
            continue
        words = {
            "SERVICE": "WMS",
            "VERSION": "1.3.0",
            "REQUEST": "GetMap",
            "LAYERS": "tas",
            "STYLES": "cells",
            "CRS": "CRS:84",
            "BBOX": f"{west},{south},{west + 40},{south + 30}",
            "WIDTH": "256",
            "HEIGHT": "192",
            "FORMAT": "image/png",
            "TIME": moment,
        }
        yield f"/wms/field?{urlencode(words)}"


def ask(connection: http.client.HTTPConnection, path: str) -> bool:
    """Return whether an answer came whole and good."""
    try:
        connection.request("GET", path)
        answer = connection.getresponse()
        return answer.status == 200 and bool(answer.read())
    except (OSError, http.client.HTTPException):
        connection.close()
        return False


def memory(process: int) -> float:
    """Return the memory of a process in MB."""
    text = Path(f"/proc/{process}/status").read_text()
    return int(text.partition("VmRSS:")[2].split()[0]) / 1000


def make_data(path: Path) -> None:
    """Write four years of months on 721 x 1440 cells, cut into chunks that suit maps and series."""
    field = np.random.default_rng(1).normal(280, 10, (721, 1440)).astype("f4")
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("lat", np.linspace(-90, 90, 721), "degrees_north"),
            ("lon", np.arange(1440) * 0.25 - 180, "degrees_east"),
            ("time", np.arange(48) * 30.4375 + 15, "days since 2001-01-01"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        made = file.createVariable(
            "tas",
            "f4",
            ("time", "lat", "lon"),
            compression="zlib",
            chunksizes=(48, 103, 96),
        )
        made.units = "K"
        for step in range(48):
            made[step] = field + step / 10


if __name__ == "__main__":
    main()
