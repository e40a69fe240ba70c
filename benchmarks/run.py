"""Times rhodolite against plain netCDF4 + NumPy scripts, in turn, and prints one table.

    python benchmarks/run.py [--runs 3] [--data FOLDER]

Each row gives medians over interleaved runs of whole processes, their ratio, and the peak memory of
each. The input, 1 GB of daily data, is made on the first run. The results of both sides are compared.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).parent


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--data", type=Path, default=HERE / "data")
    options = parser.parse_args()
    options.data.mkdir(parents=True, exist_ok=True)
    source = options.data / "daily_maps.nc"
    subprocess.run([sys.executable, str(HERE / "make_data.py"), str(source)], check=True)
    tool = [sys.executable, "-m", "rhodolite"]
    rows = {
        "anomaly": ["anomaly", str(source)],
        "climatology": ["climatology", str(source)],
        "subset": ["subset", str(source), "--lat", "30N..75N", "--lon", "0..60"],
    }
    print("| work | script, s | rhodolite, s | times as fast | script, MB | rhodolite, MB |\n|---|---|---|---|---|---|")
    for name, words in rows.items():
        theirs, ours = options.data / f"{name}_script.nc", options.data / f"{name}_rhodolite.nc"
        script = [sys.executable, str(HERE / "scripts" / f"{name}.py"), str(source), str(theirs)]
        command = [*tool, *words, "-o", str(ours), "--overwrite", "--quiet"]
        compare_runs(name, script, command, options.runs)
        # In a process of its own, since a child's peak memory counts from what its parent held.
        subprocess.run([sys.executable, str(HERE / "check_same.py"), str(theirs), str(ours)], check=True)
    small = options.data / "small.nc"
    subprocess.run(
        [*tool, "subset", str(source), "--time", "2001-01", "-o", str(small), "--overwrite", "--quiet"],
        check=True,
    )
    for name, words in (("--help", ["--help"]), ("inspect a small file", ["inspect", str(small)])):
        measured = [measure([*tool, *words]) for _ in range(max(5, options.runs))]
        print(f"| {name} | | {statistics.median(m[0] for m in measured):.2f} | | | {max(m[1] for m in measured):.0f} |")


def compare_runs(name: str, script: list[str], command: list[str], runs: int) -> None:
    """Run both in turn and print a row of medians."""
    pairs = [(measure(script), measure(command)) for _ in range(runs)]
    theirs, ours = (statistics.median(pair[side][0] for pair in pairs) for side in (0, 1))
    ratio = statistics.median(pair[0][0] / pair[1][0] for pair in pairs)
    memory = [max(pair[side][1] for pair in pairs) for side in (0, 1)]
    print(
        f"| {name} | {theirs:.1f} | {ours:.1f} | {ratio:.1f} | {memory[0]:.0f} | {memory[1]:.0f} |",
        flush=True,
    )


def measure(words: list[str]) -> tuple[float, float]:
    """Return the seconds and the peak memory in MB of a process."""
    began = time.perf_counter()
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    if status:
        raise SystemExit(f"failed: {' '.join(words)}")
    return time.perf_counter() - began, usage.ru_maxrss / 1000


if __name__ == "__main__":
    main()
