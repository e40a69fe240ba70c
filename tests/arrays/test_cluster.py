"""Blocks on other processes: two workers on 127.0.0.1, one of which dies."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import rhodolite
from conftest import PATIENCE, run_command

distributed = pytest.importorskip("distributed")


@pytest.fixture(scope="module")
def cluster():
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, host="127.0.0.1", dashboard_address=None
    ) as made:
        yield made


def content(path):
    """The bytes of all values, without the history, which names the moment."""
    import netCDF4

    with netCDF4.Dataset(path) as file:
        file.set_auto_mask(False)
        return {name: variable[...].tobytes() for name, variable in file.variables.items()}


@pytest.mark.slow
def test_results_are_those_of_the_local_run_to_the_bit(demo, tmp_path, cluster):
    words = [
        "anomaly",
        "nordic_daily_201[678].nc",
        "--kind",
        "standardised",
        "--memory",
        "64MiB",
        "--compression",
        "small",
    ]
    for name, more in (("local.nc", []), ("there.nc", ["--cluster", cluster.scheduler_address])):
        answer = run_command(*words, *more, "-o", tmp_path / name, folder=demo)
        assert (answer.code, answer.err.count("\n")) == (0, 1), answer.err
    assert content(tmp_path / "local.nc") == content(tmp_path / "there.nc")
    there = ("--cluster", cluster.scheduler_address, "-o", tmp_path / "there.zarr")
    zarr = run_command("convert", "pressure_monthly.nc", "--units", "ta=degC", *there, folder=demo)
    assert zarr.code == 0, zarr.err
    values = rhodolite.read(tmp_path / "there.zarr")["ta"].values()
    np.testing.assert_allclose(
        values + 273.15, rhodolite.read(demo / "pressure_monthly.nc")["ta"].values(), rtol=1e-6
    )


@pytest.mark.slow
def test_a_worker_that_dies_costs_time_and_not_the_result(demo, tmp_path, cluster):
    words = ["anomaly", "nordic_daily_201[678].nc", "--memory", "2MiB"]
    assert run_command(*words, "-o", tmp_path / "local.nc", folder=demo).code == 0
    tool = str(Path(sys.executable).with_name("rhodolite"))
    command = [
        tool,
        *words,
        "-o",
        str(tmp_path / "there.nc"),
        "--cluster",
        cluster.scheduler_address,
    ]
    child = subprocess.Popen(command, cwd=demo, stderr=subprocess.PIPE, text=True)
    while child.poll() is None and not cluster.scheduler.tasks:
        time.sleep(0.002)
    assert child.poll() is None, "the work was done before a worker could die"
    os.kill(next(iter(cluster.workers.values())).pid, signal.SIGKILL)
    _, said = child.communicate(timeout=PATIENCE)
    assert child.returncode == 0, said
    assert content(tmp_path / "local.nc") == content(tmp_path / "there.nc")


def test_a_cluster_that_is_not_there_is_told(monkeypatch):
    from rhodolite.arrays import cluster as module
    from rhodolite.errors import UsageError

    monkeypatch.setattr(module, "_PATIENCE", 1)
    with pytest.raises(
        UsageError, match=r"no scheduler answers at tcp://127\.0\.0\.1:9; start one"
    ):
        module.Cluster("tcp://127.0.0.1:9")
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(UsageError, match=r"pip install 'rhodolite\[cluster\]'"):
        module.Cluster("tcp://127.0.0.1:9")


@pytest.mark.slow
def test_what_workers_warn_of_is_said(demo, tmp_path, cluster):
    """The same warnings, with the same counts, as of the local run."""
    import netCDF4

    with netCDF4.Dataset(demo / "nordic_daily_2018.nc") as source:
        days = source["tas"][:].filled(np.nan)
    from conftest import write_plain

    days[:20, :3] = np.nan
    write_plain(tmp_path / "a.nc", days, times=np.arange(len(days)))
    said = []
    for more in ([], ["--cluster", cluster.scheduler_address]):
        for words in (
            ["aggregate", "--to", "month", "--statistic", "median"],
            ["climatology", "--cycle", "season"],
        ):
            verb, *rest = words
            answer = run_command(
                verb,
                tmp_path / "a.nc",
                *rest,
                "--memory",
                "2MiB",
                "--overwrite",
                *more,
                "-o",
                tmp_path / "b.nc",
            )
            said.append([line for line in answer.err.split("\n") if line.startswith("warning")])
    assert said[:2] == said[2:]
    assert any("monthly values are missing" in line for line in said[0])
