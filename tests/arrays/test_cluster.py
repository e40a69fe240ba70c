"""Blocks on other processes: two workers on 127.0.0.1, one of which dies."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import rhodolite
from conftest import PATIENCE, run_command, run_here
from rhodolite.errors import RhodoliteWarning, UsageError

distributed = pytest.importorskip("distributed")


@pytest.fixture(scope="module")
def cluster():
    with distributed.LocalCluster(
        n_workers=2,
        threads_per_worker=1,
        processes=True,
        host="127.0.0.1",
        dashboard_address=None,
    ) as made:
        yield made


def content(path):
    """The bytes of all values, without the history, which names the moment."""
    import netCDF4

    with netCDF4.Dataset(path) as file:
        file.set_auto_mask(False)
        return {
            name: variable[...].tobytes() for name, variable in file.variables.items()
        }


@pytest.mark.slow
@pytest.mark.parametrize(
    "words",
    [
        ("climatology", "--statistic", "std"),
        ("summarise", "--over", "area"),
        *(
            pytest.param(words, marks=pytest.mark.long)
            for words in (
                ("trend",),
                ("summarise", "--over", "lon", "--statistic", "max"),
                ("aggregate", "--to", "month", "--statistic", "median"),
            )
        ),
    ],
)
def test_results_merged_on_the_workers_are_those_of_the_local_run(
    demo, tmp_path, cluster, words
):
    """Sums are merged in another order: agreement to 1e-12 of the largest value."""
    verb, *rest = words
    words = [verb, "nordic_daily_201[678].nc", *rest, "--memory", "2MiB"]
    found = []
    for name, more in (
        ("local.nc", []),
        ("there.nc", ["--cluster", cluster.scheduler_address]),
    ):
        answer = run_here(*words, *more, "-o", tmp_path / name, folder=demo)
        assert answer.code == 0, answer.err
        found.append(rhodolite.read(tmp_path / name))
    for variable in found[0].fields:
        there = found[1][variable.name].values()
        here = variable.values()
        scale = np.nanmax(np.abs(here.astype("f8")))
        eps = max(1e-12, np.finfo(here.dtype).eps) if here.dtype.kind == "f" else 0
        np.testing.assert_allclose(
            there, here, rtol=0, atol=eps * scale, equal_nan=True
        )


@pytest.mark.slow
@pytest.mark.long
def test_maps_are_those_of_the_local_run(demo, tmp_path, cluster):
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
    for name, more in (
        ("local.nc", []),
        ("there.nc", ["--cluster", cluster.scheduler_address]),
    ):
        answer = run_command(*words, *more, "-o", tmp_path / name, folder=demo)
        assert (answer.code, answer.err.count("\n")) == (0, 1), answer.err
    here, there = (
        rhodolite.read(tmp_path / name)["tas"] for name in ("local.nc", "there.nc")
    )
    np.testing.assert_allclose(there.values(), here.values(), rtol=3e-7, atol=1e-12)
    there = ("--cluster", cluster.scheduler_address, "-o", tmp_path / "there.zarr")
    zarr = run_command(
        "convert", "pressure_monthly.nc", "--units", "ta=degC", *there, folder=demo
    )
    assert zarr.code == 0, zarr.err
    values = rhodolite.read(tmp_path / "there.zarr")["ta"].values()
    np.testing.assert_allclose(
        values + 273.15,
        rhodolite.read(demo / "pressure_monthly.nc")["ta"].values(),
        rtol=1e-6,
    )


_WORK = ["anomaly", "nordic_daily_201[678].nc", "--memory", "2MiB"]


def _start(demo, output, address):
    tool = str(Path(sys.executable).with_name("rhodolite"))
    command = [tool, *_WORK, "-o", str(output), "--cluster", address]
    return subprocess.Popen(command, cwd=demo, stderr=subprocess.PIPE, text=True)


@pytest.mark.slow
@pytest.mark.parametrize(
    "suffix", [".nc", pytest.param(".zarr", marks=pytest.mark.long)]
)
def test_a_worker_that_dies_costs_time_and_not_the_result(
    demo, tmp_path, cluster, suffix
):
    local, there = tmp_path / f"local{suffix}", tmp_path / f"there{suffix}"
    assert run_command(*_WORK, "-o", local, folder=demo).code == 0
    child = _start(demo, there, cluster.scheduler_address)
    while child.poll() is None and not cluster.scheduler.tasks:
        time.sleep(0.002)
    assert child.poll() is None, "the work was done before a worker could die"
    os.kill(next(iter(cluster.workers.values())).pid, signal.SIGKILL)
    _, said = child.communicate(timeout=PATIENCE)
    assert child.returncode == 0, said
    values = [rhodolite.read(path)["tas"].values().tobytes() for path in (local, there)]
    assert values[0] == values[1]


@pytest.mark.slow
@pytest.mark.long
def test_a_scheduler_that_dies_ends_the_command_clearly_and_leaves_nothing(
    demo, tmp_path
):
    dask = Path(sys.executable).with_name("dask")
    place = tmp_path / "scheduler.json"
    started = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    scheduler = subprocess.Popen(
        [dask, "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard"]
        + ["--scheduler-file", place],
        **started,
    )
    worker = subprocess.Popen(
        [dask, "worker", "--scheduler-file", place, "--nthreads", "1", "--no-nanny"]
        + ["--host", "127.0.0.1", "--no-dashboard", "--death-timeout", "60"],
        **started,
    )
    try:
        while not place.exists() or not place.read_text().strip():
            time.sleep(0.05)
        address = json.loads(place.read_text())["address"]
        child = _start(demo, tmp_path / "there.nc", address)
        while child.poll() is None and not list(tmp_path.glob(".*.part*")):
            time.sleep(0.01)
        scheduler.kill()
        _, said = child.communicate(timeout=PATIENCE)
    finally:
        for process in (scheduler, worker):
            process.kill()
            process.wait()
    assert child.returncode == 4, said
    assert "is gone" in said
    assert "internal error" not in said
    assert [path.name for path in tmp_path.iterdir()] == [place.name]


@pytest.mark.slow
@pytest.mark.long
def test_workers_may_come_when_there_is_work(demo, tmp_path):
    with distributed.LocalCluster(
        n_workers=0, threads_per_worker=1, host="127.0.0.1", dashboard_address=None
    ) as made:
        made.adapt(minimum=0, maximum=2, interval="200ms")
        there = ["--cluster", made.scheduler_address, "-o", tmp_path / "there.nc"]
        answer = run_command(*_WORK, *there, folder=demo)
    assert answer.code == 0, answer.err
    assert run_command(*_WORK, "-o", tmp_path / "local.nc", folder=demo).code == 0
    assert content(tmp_path / "local.nc") == content(tmp_path / "there.nc")


def _read_slowly():
    import rhodolite.formats.netcdf.direct_chunk_reader as reader

    read_at = reader.read_at

    def wait_and_read(*arguments):
        time.sleep(0.02)
        return read_at(*arguments)

    reader.read_at = wait_and_read


def _count_executed(dask_worker):
    return dask_worker.state.executed_count


@pytest.mark.slow
@pytest.mark.long
def test_a_worker_that_comes_late_takes_part(demo, tmp_path):
    with (
        distributed.LocalCluster(
            n_workers=1, threads_per_worker=1, host="127.0.0.1", dashboard_address=None
        ) as made,
        distributed.Client(made.scheduler_address, set_as_default=False) as client,
    ):
        client.run(_read_slowly)
        child = _start(demo, tmp_path / "there.nc", made.scheduler_address)
        while child.poll() is None and not made.scheduler.tasks:
            time.sleep(0.002)
        made.scale(2)
        client.wait_for_workers(2, timeout=PATIENCE)
        assert child.poll() is None, "the work was done before a worker could come"
        _, said = child.communicate(timeout=PATIENCE)
        assert child.returncode == 0, said
        assert min(client.run(_count_executed).values()) > 1
    assert run_command(*_WORK, "-o", tmp_path / "local.nc", folder=demo).code == 0
    assert content(tmp_path / "local.nc") == content(tmp_path / "there.nc")


def test_versions_that_differ_are_named():
    """A worker without the package, one with another, a scheduler that knows nothing of it."""
    from rhodolite.arrays.cluster import _compare_versions
    from rhodolite.version import __version__

    def having(**others):
        usual = {
            "python": "3.11.7.final.0",
            "distributed": "2025.1.0",
            "numpy": "2.1.0",
        }
        return {"packages": {**usual, **others}}

    same = having(rhodolite=__version__, python="3.11.9.final.0")
    everyone = {
        "client": having(),
        "scheduler": having(rhodolite=None),
        "workers": {"w": same},
    }
    _compare_versions(everyone)
    for changes, message in (
        ({"rhodolite": None}, "the worker w has no rhodolite, and here it is"),
        ({"rhodolite": "9.9"}, "the worker w has rhodolite 9.9, and here it is"),
        ({"python": "3.12.1.final.0"}, r"has python 3\.12, and here it is 3\.11"),
        ({"distributed": "2024.8.0"}, r"has distributed 2024\.8\.0"),
    ):
        worker = having(**{"rhodolite": __version__, **changes})
        with pytest.raises(UsageError, match=message):
            _compare_versions({**everyone, "workers": {"v": same, "w": worker}})
    other = having(rhodolite=__version__, numpy="2.2.0")
    with pytest.warns(RhodoliteWarning, match="may differ in their last digits"):
        _compare_versions({**everyone, "workers": {"w": other}})


@pytest.mark.slow
@pytest.mark.long
def test_a_file_with_the_address_of_a_scheduler_stands_for_it(demo, tmp_path, cluster):
    place = tmp_path / "scheduler.json"
    place.write_text(json.dumps({"address": cluster.scheduler_address}))
    line = (
        "summarise",
        demo / "garnet_monthly_1981-2020.nc",
        "--variable",
        "tas",
        "--cluster",
    )
    answers = []
    for address in (cluster.scheduler_address, place):
        assert (
            run_command(*line, address, "-o", tmp_path / "a.csv", "--overwrite").code
            == 0
        )
        answers.append((tmp_path / "a.csv").read_text())
    assert answers[0] == answers[1]
    place.write_text("{}")
    refused = run_command(*line, place, "-o", tmp_path / "b.csv")
    assert refused.code == 2 and "this file holds no address" in refused.err


def test_a_cluster_that_is_not_there_is_told(monkeypatch):
    from rhodolite.arrays import cluster as module

    monkeypatch.setattr(module, "_PATIENCE", 1)
    with pytest.raises(
        UsageError, match=r"no scheduler answers at tcp://127\.0\.0\.1:9; start one"
    ):
        module.Cluster("tcp://127.0.0.1:9")
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(UsageError, match=r"pip install 'rhodolite\[cluster\]'"):
        module.Cluster("tcp://127.0.0.1:9")


@pytest.mark.slow
@pytest.mark.long
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
            said.append(
                [line for line in answer.err.split("\n") if line.startswith("warning")]
            )
    assert said[:2] == said[2:]
    assert any("monthly values are missing" in line for line in said[0])


@pytest.mark.parametrize(
    "address", ["nonsense", "tcp://127.0.0.1", "tcp://127.0.0.1:1", "x:y:z"]
)
def test_addresses_without_a_scheduler_are_refused_without_a_traceback(
    demo, tmp_path, address
):
    words = (
        "subset",
        demo / "reservoirs.csv",
        "--cluster",
        address,
        "-o",
        tmp_path / "x.nc",
    )
    answer = run_command(*words)
    assert (answer.code, "Traceback" in answer.err) == (2, False), answer.err
    assert "no scheduler answers" in answer.err


def test_a_store_that_a_worker_does_not_see_is_not_written(tmp_path):
    """What it wrote would be lost on its own machine."""
    import zarr

    from rhodolite.arrays import InMemory
    from rhodolite.errors import OutputError
    from rhodolite.formats.cf.encode import Encoding
    from rhodolite.formats.zarr import writer
    from rhodolite.formats.zarr.stoppable_store import StoppableStore

    for version, described in ((2, ".zarray"), (3, "zarr.json")):
        store = StoppableStore(tmp_path / f"{version}.zarr")
        root = zarr.create_group(store, zarr_format=version)
        stored = root.create_array("x", shape=(4,), chunks=(2,), dtype="f4")
        (tmp_path / f"{version}.zarr" / "x" / described).unlink()
        with pytest.raises(OutputError, match="does not see the folder"):
            encoding = Encoding("x", np.dtype("f4"), None, None, {})
            writer._put(stored, encoding, InMemory(np.ones(4)), (slice(0, 2),))


def test_chunks_that_workers_have_written_are_counted(tmp_path, monkeypatch):
    import zarr

    from rhodolite.arrays import InMemory
    from rhodolite.errors import OutputError
    from rhodolite.formats.cf.encode import Encoding
    from rhodolite.formats.zarr import writer
    from rhodolite.formats.zarr.stoppable_store import StoppableStore

    monkeypatch.setattr(writer, "_BETWEEN_LOOKS", 0.0)
    for version in (2, 3):
        root = zarr.create_group(
            StoppableStore(tmp_path / f"{version}.zarr"), zarr_format=version
        )
        stored = root.create_array(
            "x", shape=(5, 4), chunks=(2, 2), dtype="f4", fill_value=0
        )
        values = np.ones((5, 4))
        values[:2, :2] = 0.0  # as missing values are kept, in no file
        encoding = Encoding("x", np.dtype("f4"), None, None, {})
        whole = (slice(0, 5), slice(0, 4))
        written = writer._put(stored, encoding, InMemory(values), whole)
        assert written == 5
        writer._need_chunks(stored, written)
        next(writer._chunk_files(stored, (slice(4, 5), slice(2, 4)))).unlink()
        with pytest.raises(OutputError, match="written 5 chunks of x, and 4 are there"):
            writer._need_chunks(stored, written)
