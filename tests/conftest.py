"""What the tests share: small datasets, files made without rhodolite, and the installed command."""

from __future__ import annotations

import contextlib
import io
import os
import random
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import netCDF4
import numpy as np
import pytest
from hypothesis import HealthCheck, settings

from rhodolite.api.dataset import Dataset
from rhodolite.arrays import InMemory
from rhodolite.cli.main import main
from rhodolite.model.variable import Variable

# The same examples in every run, so that a build never fails by chance; RHODOLITE_EXAMPLES=1000
# looks for new ones.
EXAMPLES = int(os.environ.get("RHODOLITE_EXAMPLES", "0"))
settings.register_profile(
    "here",
    deadline=None,
    suppress_health_check=list(HealthCheck),
    derandomize=not EXAMPLES,
    max_examples=EXAMPLES or 25,
    database=None,
)
settings.load_profile("here")
# What is kept of files goes nowhere but here.
os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="rhodolite-cache-")
os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"]
PATIENCE = 1800
"""Seconds after which a command hangs; no working one takes as long, on however slow a machine."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark what needs the demo data as slow, begin with what takes longest, so that no process is
    left alone with it, and shuffle where RHODOLITE_SHUFFLE names a seed."""
    items.sort(key=lambda item: item.path.name != "test_docs.py")
    for item in items:
        if "demo" in getattr(item, "fixturenames", ()):
            item.add_marker(pytest.mark.slow)
    if seed := os.environ.get("RHODOLITE_SHUFFLE"):
        random.Random(seed).shuffle(items)


@dataclass
class Answer:
    """What a run of the command gave."""

    code: int
    out: str
    err: str


def run_command(
    *words: object, folder: Path | None = None, **environment: str
) -> Answer:
    """Run the installed command as a person does."""
    command = [str(Path(sys.executable).with_name("rhodolite")), *map(str, words)]
    done = subprocess.run(
        command,
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=PATIENCE,
        env={**os.environ, **environment},
    )
    return Answer(done.returncode, done.stdout, done.stderr)


def run_here(*words: object, folder: Path | None = None) -> Answer:
    """Run a command line in this process, which saves the time of starting; for what depends on the
    words alone."""
    out, err = io.StringIO(), io.StringIO()
    with (
        contextlib.chdir(folder or "."),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        code = main([str(word) for word in words])
    return Answer(code, out.getvalue(), err.getvalue())


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of the demo data, which the first process that needs it writes for all."""
    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    folder, done = base / "demo", base / "demo-is-complete"
    try:
        folder.mkdir()
    except FileExistsError:
        until = time.monotonic() + PATIENCE
        while not done.exists():
            assert time.monotonic() < until, (
                "the process that writes the demo data has died"
            )
            time.sleep(0.1)
        return folder
    answer = run_command("demo", folder, "--data-only")
    assert answer.code == 0, answer.err
    done.touch()
    return folder


def make_dataset(
    values,
    *,
    times=None,
    lats=None,
    lons=None,
    calendar="standard",
    units="days since 2000-01-01",
    name="tas",
    attributes=None,
):
    """A dataset of one variable over (time, lat, lon), in memory."""
    values = np.asarray(values)
    axes = [
        np.arange(n, dtype=float) if given is None else np.asarray(given, dtype=float)
        for n, given in zip(values.shape, (times, lats, lons), strict=True)
    ]
    about = {
        "units": "K",
        "standard_name": "air_temperature",
        "cell_methods": "time: mean",
    } | (attributes or {})
    variables = [
        Variable(
            "time", ("time",), InMemory(axes[0]), {"units": units, "calendar": calendar}
        ),
        Variable("lat", ("lat",), InMemory(axes[1]), {"units": "degrees_north"}),
        Variable("lon", ("lon",), InMemory(axes[2]), {"units": "degrees_east"}),
        Variable(name, ("time", "lat", "lon"), InMemory(values), about),
    ]
    return Dataset({v.name: v for v in variables})


def write_plain(
    path,
    values,
    *,
    times=None,
    units="days since 2000-01-01",
    calendar="standard",
    lats=None,
    lons=None,
    name="tas",
    format="NETCDF4",
    kind="f4",
    attributes=None,
    fill=None,
    **options,
):
    """A file of one variable over (time, lat, lon), written with netCDF4 alone; `values` as
    stored."""
    values = np.asarray(values)
    with netCDF4.Dataset(path, "w", format=format) as file:
        about = (
            {"units": units, "calendar": calendar},
            {"units": "degrees_north"},
            {"units": "degrees_east"},
        )
        for axis, n, given, words in zip(
            ("time", "lat", "lon"),
            values.shape,
            (times, lats, lons),
            about,
            strict=True,
        ):
            file.createDimension(axis, n)
            file.createVariable(axis, "f8", (axis,)).setncatts(words)
            file[axis][:] = np.arange(n) if given is None else given
        made = file.createVariable(
            name, kind, ("time", "lat", "lon"), fill_value=fill, **options
        )
        made.set_auto_maskandscale(False)
        made.setncatts(attributes or {"units": "K", "standard_name": "air_temperature"})
        made[:] = values
    return path


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(1)
