"""Times work on 1, 10 and 100 GB that are hardly there: maps that were never written, and every
hundredth that was; shows that time is linear and memory bounded.

    python benchmarks/sparse.py [--data FOLDER] [--largest 100]
"""

from __future__ import annotations

import argparse
from pathlib import Path

import netCDF4
import numpy as np
from run import HERE, TOOL, measure

ROWS, COLUMNS = 721, 1440


def main() -> None:
    """Print a table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--data", type=Path, default=HERE / "data")
    parser.add_argument("--largest", type=int, default=100)
    options = parser.parse_args()
    options.data.mkdir(parents=True, exist_ok=True)
    print(
        "| GB | time mean, s | s a GB | MB | monthly means, s | s a GB | MB |\n"
        + "|---" * 7
        + "|"
    )
    for size in (size for size in (1, 10, 100) if size <= options.largest):
        source, target = options.data / f"sparse_{size}.nc", options.data / "ours.nc"
        make_data(source, round(size * 1e9 / (4 * ROWS * COLUMNS)))
        cells = []
        for words in (
            ["summarise", "{in}", "--over", "time"],
            ["aggregate", "{in}", "--to", "month", "--min-coverage", "0"],
        ):
            filled = [word.replace("{in}", str(source)) for word in words]
            command = [*TOOL, *filled, "-o", str(target), "--overwrite", "--quiet"]
            took, memory = measure(command)
            cells += [f"{took:.1f}", f"{took / size:.2f}", f"{memory:.0f}"]
        print(f"| {size} | {' | '.join(cells)} |", flush=True)
        source.unlink()
        target.unlink()


def make_data(path: Path, steps: int) -> None:
    """Write every hundredth of so many daily maps."""
    field = np.random.default_rng(1).normal(280, 10, (ROWS, COLUMNS)).astype("f4")
    with netCDF4.Dataset(path, "w") as file:
        for name, values, units in (
            ("lat", np.linspace(-90, 90, ROWS), "degrees_north"),
            ("lon", np.arange(COLUMNS) * 0.25, "degrees_east"),
            ("time", np.arange(steps) + 0.5, "days since 1900-01-01"),
        ):
            file.createDimension(name, values.size)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        maps = file.createVariable(
            "tas",
            "f4",
            ("time", "lat", "lon"),
            compression="zlib",
            chunksizes=(1, ROWS, COLUMNS),
        )
        maps.setncatts({"units": "K", "cell_methods": "time: mean"})
        for step in range(0, steps, 100):
            maps[step] = field


if __name__ == "__main__":
    main()
