"""What checksums cost: writing 200 MB of maps with and without, in turns.

python benchmarks/checksums.py
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

import rhodolite
from rhodolite.arrays import Engine
from rhodolite.formats.layout import Compression, Layout
from rhodolite.model.dataset import Dataset
from rhodolite.pipeline.writing import write

_CASES = (
    ("a.nc", Layout()),
    ("a.nc", Layout(compression=Compression.NONE)),
    ("a.zarr", Layout()),
    ("a.zarr", Layout(compression=Compression.NONE)),
    ("a.zarr", Layout(variant="zarr2")),
)
_TURNS = 5


def make_maps() -> Dataset:
    """Return a hundred maps of half a million smooth values."""
    steps = np.random.default_rng(1).normal(0, 0.1, (100, 500, 1000))
    axes = {
        "time": np.arange("2000-01-01", "2000-04-10", dtype="datetime64[D]"),
        "lat": np.linspace(-89.8, 89.8, 500),
        "lon": np.arange(1000) * 0.36,
    }
    values = (280 + np.cumsum(steps, axis=2)).astype("f4")
    return rhodolite.from_arrays({"tas": values}, axes, units={"tas": "K"})


def main() -> None:
    """Print the median of the times with checksums, and their ratio to those without."""
    dataset = make_maps()
    with tempfile.TemporaryDirectory() as folder:
        for name, layout in _CASES:
            seconds: dict[bool, list[float]] = {True: [], False: []}
            for turn in range(2 * _TURNS):
                checksums = turn % 2 == 0
                chosen = Layout(
                    layout.variant, None, layout.compression, checksums=checksums
                )
                began = time.perf_counter()
                write(
                    dataset,
                    Path(folder) / name,
                    engine=Engine(),
                    overwrite=True,
                    layout=chosen,
                )
                seconds[checksums].append(time.perf_counter() - began)
            with_sums, without = (
                statistics.median(seconds[kind]) for kind in (True, False)
            )
            what = f"{name} {layout.variant or ''} {layout.compression}"
            print(f"{what:<24} {with_sums:6.2f} s  {with_sums / without:5.2f} times")


if __name__ == "__main__":
    main()
