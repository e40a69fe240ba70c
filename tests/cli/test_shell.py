"""The command line among others: pipes, lists, logs, scratch folders and the limits of a job."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_command, run_here, write_plain
from rhodolite import limits
from rhodolite.cli import console
from rhodolite.cli.main import bound_library_threads


def pipe(folder, *commands, given=b""):
    """Run commands joined by pipes; return what the last one writes."""
    for words in commands:
        done = subprocess.run(
            [sys.executable, "-m", "rhodolite", *words],
            cwd=folder,
            input=given,
            capture_output=True,
        )
        assert done.returncode == 0, done.stderr.decode()
        given = done.stdout
    return given


@pytest.fixture
def days(tmp_path):
    values = np.arange(60.0).reshape(60, 1, 1)
    for name, part in (("a", slice(0, 30)), ("b", slice(30, 60))):
        data = make_dataset(values[part], times=np.arange(60.0)[part])
        rhodolite.write(data, tmp_path / f"{name}.nc")
    return tmp_path


def test_tables_and_files_go_through_pipes(days):
    """What comes out of three commands is what one command writes."""
    month = ("--to", "month", "--min-coverage", "0")
    given = (days / "a.nc").read_bytes()
    first = ("convert", "-", "-o", "-")
    out = pipe(
        days, first, ("aggregate", "-", *month, "-o", "/dev/stdout"), given=given
    )
    asked = ("aggregate", "a.nc", *month, "-o", "direct.csv")
    assert run_here(*asked, folder=days).code == 0
    assert out.decode() == (days / "direct.csv").read_text()
    picture = pipe(days, ("draw", "series", "a.nc", "-o", "-"))
    assert picture.startswith(b"\x89PNG")
    for words, message in (
        (("inspect", "-"), "what is piped in is empty"),
        (("convert", "a.nc", "-o", "-", "--plan"), "need an output with a name"),
    ):
        done = subprocess.run(
            [sys.executable, "-m", "rhodolite", *words],
            cwd=days,
            input=b"",
            capture_output=True,
        )
        assert done.returncode in (2, 3) and message in done.stderr.decode()


def test_a_list_names_inputs_and_they_go_on_record(days):
    (days / "list.txt").write_text("# halves of two months\na.nc\n\n[b].nc\n")
    month = ("--to", "month", "-o")
    assert run_here("aggregate", "@list.txt", *month, "l.nc", folder=days).code == 0
    assert run_here("aggregate", "a.nc", "b.nc", *month, "d.nc", folder=days).code == 0
    both = [rhodolite.read(days / name)["tas"].values() for name in ("l.nc", "d.nc")]
    np.testing.assert_array_equal(*both)
    assert 'files = ["a.nc", "[b].nc"]' in run_here("retrace", "l.nc", folder=days).out
    for content, message in (
        ("", "names no file"),
        ("@list.txt\n", "cannot name another list"),
    ):
        (days / "odd.txt").write_text(content)
        answer = run_here("inspect", "@odd.txt", folder=days)
        assert (answer.code, message in answer.err) == (3, True), answer.err
    answer = run_here("inspect", "@none.txt", folder=days)
    assert (
        "@none.txt: the list cannot be read (No such file or directory)" in answer.err
    )
    plan = run_here("aggregate", "@list.txt", *month, "p.nc", "--dry-run", folder=days)
    assert plan.code == 0 and "was not written" in plan.out
    assert not (days / "p.nc").exists()


def test_dates_in_names_choose_inputs_and_a_new_file_among_them_is_noticed(tmp_path):
    for year in (1999, 2000, 2001):
        (tmp_path / str(year)).mkdir()
        for month in (1, 2, 12):
            write_plain(
                tmp_path / f"{year}/rain_{month:02d}.nc",
                np.full((1, 2, 2), year + month),
                times=[0],
                units=f"days since {year}-{month}-15",
            )
    (tmp_path / "2000/rain_v2.nc").write_text("no data")
    asked = "{year:2000..2001}/rain_{month:2}.nc"
    words = ("summarise", asked, "--over", "area", "-o", "s.csv", "--record", "s.toml")
    assert run_here(*words, folder=tmp_path).code == 0
    values = rhodolite.read(tmp_path / "s.csv")["tas"].values()
    assert values.reshape(-1).tolist() == [2002.0, 2003.0]
    for touched, remade in ((None, True), (None, False), ("12", False), ("02", True)):
        if touched is not None:
            os.utime(tmp_path / f"2001/rain_{touched}.nc", (1, 1))
        answer = run_here("study", "s.toml", "--into", "again", folder=tmp_path)
        assert ("s.csv is up to date" in answer.err) != remade, answer.err
    for asked, said in (
        (
            "{yeer}/rain_{month}.nc",
            "there is no field '{yeer}' in names of inputs. Did you mean",
        ),
        (
            "{year:2005..2006}/rain_{month}.nc",
            "no file is of such a date; there are 9, 1999/",
        ),
        ("{year}/snow_{month}.nc", "no file has such a name"),
    ):
        answer = run_here("inspect", asked, folder=tmp_path)
        assert answer.code in (2, 3) and said in answer.err, answer.err


def test_messages_are_objects_where_programs_read_them(days):
    answer = run_here(
        "aggregate",
        "a.nc",
        "--to",
        "year",
        "-o",
        "y.nc",
        "--log-format",
        "json",
        folder=days,
    )
    lines = [json.loads(line) for line in answer.err.splitlines()]
    assert [line["level"] for line in lines] == ["info", "warning"]
    assert lines[0]["message"].startswith("wrote y.nc")
    answer = run_here("--log-format=json", "inspect", "none.nc", folder=days)
    assert json.loads(answer.err)["level"] == "error"
    assert run_here("inspect", "a.nc", "--log-format", "xml", folder=days).code == 2


def test_a_log_gets_a_line_every_ten_seconds(monkeypatch, capsys):
    clock = iter(range(0, 4000, 4))
    monkeypatch.setattr(console.time, "monotonic", lambda: float(next(clock)))
    progress = console.LineProgress()
    progress.begin("writing tas", 20, 0)
    for _ in range(10):
        progress.advance()
    progress.end()
    lines = capsys.readouterr().err.splitlines()
    assert len(lines) == 3
    assert re.fullmatch(r"\d\d:\d\d:\d\d writing tas: 15%, about 68 s left", lines[0])


def test_a_job_gets_the_cores_and_the_memory_of_its_group(tmp_path, monkeypatch):
    """Those of the group of the process, and of all above it."""
    groups = tmp_path / "groups"
    job = groups / "batch" / "job_7"
    job.mkdir(parents=True)
    (tmp_path / "own").write_text("0::/batch/job_7\n")
    monkeypatch.setattr(limits, "group_limits", limits.group_limits.__wrapped__)
    monkeypatch.setattr(limits, "_CONTROL_GROUPS", groups)
    monkeypatch.setattr(limits, "_OWN_GROUP", tmp_path / "own")
    monkeypatch.setattr(limits.os, "cpu_count", lambda: 64)
    monkeypatch.setattr(
        limits.os, "sched_getaffinity", lambda _: set(range(48)), raising=False
    )
    assert limits.usable_cores() == 48
    (job / "cpu.max").write_text("max 100000\n")
    (groups / "batch" / "cpu.max").write_text("250000 100000\n")
    (groups / "batch" / "memory.max").write_text("max\n")
    (job / "memory.max").write_text("1000000\n")
    assert (limits.usable_cores(), limits.machine_memory()) == (3, 1_000_000)


def test_scratch_files_lie_where_they_are_told(days):
    words = ("aggregate", "a.nc", "--to", "month", "-o", "m.nc", "--scratch")
    answer = run_here(*words, "none", folder=days)
    assert (answer.code, "is no folder that can be written to" in answer.err) == (
        2,
        True,
    )
    (days / "large").mkdir()
    assert run_command(*words, "large", folder=days).code == 0
    script = (
        "import tempfile; from rhodolite.cli.engine import make_engine\n"
        "make_engine(True, {}); print(tempfile.gettempdir())"
    )
    done = subprocess.run(
        [sys.executable, "-c", script],
        env={**os.environ, "RHODOLITE_SCRATCH": str(days / "large")},
        capture_output=True,
        text=True,
    )
    assert Path(done.stdout.strip()) == (days / "large").resolve()


def test_libraries_get_no_more_threads_than_workers(monkeypatch):
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("MKL_NUM_THREADS", "7")
    bound_library_threads(["aggregate", "a.nc", "--workers=3"])
    assert (os.environ["OMP_NUM_THREADS"], os.environ["MKL_NUM_THREADS"]) == ("3", "7")
