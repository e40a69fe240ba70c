"""Times Theil-Sen with Mann-Kendall against a loop of scipy.stats over cells, in turn, and prints
rows of the table.

    python benchmarks/ranks.py [--runs 3]

Cells of 40 values, as of 40 years, and of 800 values, as of 67 years of months. The loop runs over
a sample of the cells, rhodolite over more of them with all workers; both are given in cells a
second.
"""

from __future__ import annotations

import argparse
import resource
import statistics
import time

import numpy as np
import scipy.stats

from rhodolite import Dataset, Engine, Trend, Variable
from rhodolite.arrays import InMemory

CASES = {40: (1_000_000, 200), 800: (3_300, 20)}


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=3)
    runs = parser.parse_args().runs
    for steps, (cells, sample) in CASES.items():
        values = (
            np.random.default_rng(steps).normal(280, 2, (steps, cells)).astype("f4")
        )
        ours(values[:, :50])  # compiled, or read from the cache on disk
        pairs = [(loop(values[:, :sample]), ours(values)) for _ in range(runs)]
        rates = [statistics.median(pair[side] for pair in pairs) for side in (0, 1)]
        ratio = statistics.median(pair[1] / pair[0] for pair in pairs)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000
        print(
            f"| Theil-Sen and Mann-Kendall, {steps} values | {rates[0]:,.0f} cells/s | "
            f"{rates[1]:,.0f} cells/s | "
            f"{ratio:.1f} | {peak:.0f} |",
            flush=True,
        )


def loop(values: np.ndarray) -> float:
    """Return the cells a second of a loop of scipy.stats."""
    years = np.arange(len(values)) / 12
    began = time.perf_counter()
    for cell in range(values.shape[1]):
        scipy.stats.theilslopes(values[:, cell], years)
        scipy.stats.kendalltau(years, values[:, cell])
    return values.shape[1] / (time.perf_counter() - began)


def ours(values: np.ndarray) -> float:
    """Return the cells a second of rhodolite."""
    steps, cells = values.shape
    about = {"units": "days since 1950-01-01", "calendar": "360_day"}
    data = Dataset(
        {
            "time": Variable(
                "time", ("time",), InMemory(np.arange(steps) * 30.0 + 15), about
            ),
            "tas": Variable(
                "tas",
                ("time", "cell"),
                InMemory(values),
                {"units": "K", "base_period": "all"},
            ),
        }
    )
    began = time.perf_counter()
    Trend(method="theil-sen")(data)["tas_trend"].values(Engine())
    return cells / (time.perf_counter() - began)


if __name__ == "__main__":
    main()
