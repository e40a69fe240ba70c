"""Outputs are whole: against kills, second writers, inputs that change, and what the dead left."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError, OutputError
from rhodolite.formats.atomic_output import complete_or_nothing
from rhodolite.formats.replacing import hidden_name, holding_signals, lock

PROGRAM = str(Path(sys.executable).with_name("rhodolite"))
posix = pytest.mark.skipif(
    os.name != "posix", reason="processes are asked whether they live"
)


@pytest.fixture
def source(tmp_path):
    values = np.arange(6 * 40 * 50, dtype="f4").reshape(6, 40, 50)
    return write_plain(tmp_path / "a.nc", values, times=np.arange(6) * 31.0)


def name_of_the_dead(path, ending="part"):
    """The hidden name that a process has used which ended meanwhile."""
    done = subprocess.run(
        [sys.executable, "-c", "import os; print(os.getpid())"], stdout=-1
    )
    return hidden_name(path, ending).with_name(
        hidden_name(path, ending).name.replace(
            str(os.getpid()), done.stdout.decode().strip(), 1
        )
    )


@posix
def test_what_a_dead_process_left_is_finished_undone_or_removed(source):
    folder = source.parent
    name_of_the_dead(folder / "b.nc").write_text("half")
    (folder / ".b.nc.lock").write_text(
        name_of_the_dead(folder / "x.nc").name.split(".")[2].rpartition("-")[0]
    )
    kept = hidden_name(folder / "b.nc")
    kept.write_text("of a process that lives")
    assert run_here("subset", source, "-o", folder / "b.nc").code == 0
    assert {path.name for path in folder.iterdir()} == {"a.nc", "b.nc", kept.name}
    # A store that was renamed away comes back, and is not replaced unasked.
    assert run_here("subset", source, "-o", folder / "c.zarr").code == 0
    (folder / "c.zarr").rename(name_of_the_dead(folder / "c.zarr", "old"))
    assert run_here("subset", source, "-o", folder / "c.zarr").code == 4
    assert rhodolite.read(folder / "c.zarr")["tas"].shape == (6, 40, 50)
    assert not list(folder.glob(".c.*"))
    # A set of files that was being moved is complete afterwards.
    left = name_of_the_dead(folder / "d_{year}{month}.asc")
    left.mkdir()
    (left / "d_200001.asc").write_text("one")
    (left / ".complete").touch()
    answer = run_here("subset", source, "-o", folder / "d_{year}{month}.asc")
    assert (answer.code, "exists already" in answer.err) == (4, True)
    assert (folder / "d_200001.asc").read_text() == "one"
    assert not left.exists()


def test_a_second_writer_is_refused_at_once(source):
    out = source.parent / "b.nc"
    with lock(out):
        answer = run_here("subset", source, "-o", out)
    assert answer.code == 5
    assert "b.nc: another process is writing it" in answer.err
    assert run_here("subset", source, "-o", out).code == 0


def test_a_lock_that_names_nobody_holds_for_a_moment_only(source):
    """As one that was made where the file system knows no links, by a process killed at once."""
    lock = source.parent / ".b.nc.lock"
    lock.touch()
    answer = run_here("subset", source, "-o", "b.nc", folder=source.parent)
    assert (answer.code, "another process is writing it" in answer.err) == (5, True)
    os.utime(lock, (1, 1))
    assert run_here("subset", source, "-o", "b.nc", folder=source.parent).code == 0
    assert not lock.exists()


@pytest.mark.parametrize("more", [b"more", b""], ids=["longer", "as long"])
def test_inputs_that_change_while_they_are_read_are_refused(source, more):
    out = source.parent / "b.nc"
    with (
        pytest.raises(OutputError, match=r"a.nc changed while it was being read"),
        complete_or_nothing(out, False, [source]) as path,
    ):
        path.write_text("made of the old one")
        source.write_bytes(source.read_bytes()[::-1] + more)
        os.utime(source, (1, 1))
    assert [path.name for path in source.parent.iterdir()] == ["a.nc"]


@posix
def test_signals_wait_until_a_move_is_done():
    done = []
    with pytest.raises(KeyboardInterrupt), holding_signals():
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(0.01)
        done.append("moved")
    assert done == ["moved"]


@pytest.mark.parametrize("call", ["unlink", "write_text"])
def test_an_interruption_while_a_lock_is_taken_leaves_nothing(
    tmp_path, monkeypatch, call
):
    """Not even between two steps of the library that removes a file."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    done = getattr(Path, call)

    def interrupted(path, *words, **more):
        signal.raise_signal(signal.SIGINT)
        return done(path, *words, **more)

    monkeypatch.setattr(Path, call, interrupted)
    try:
        with pytest.raises(KeyboardInterrupt), lock(tmp_path / "b.nc"):
            pass
    finally:
        signal.signal(signal.SIGINT, before)
    assert list(tmp_path.iterdir()) == []


@posix
@pytest.mark.slow
@pytest.mark.parametrize(
    "suffix",
    [
        ".nc",
        *(pytest.param(s, marks=pytest.mark.long) for s in (".zarr", ".csv", ".asc")),
    ],
)
def test_a_kill_at_any_moment_leaves_the_old_or_the_new_output_whole(source, suffix):
    """Killed at 5 moments each; RHODOLITE_KILLS=500 tries as many."""
    folder = source.parent
    name = "b_{year}{month}.asc" if suffix == ".asc" else f"b{suffix}"
    words = ["-o", name, "--overwrite", "--workers", "1"]
    assert run_here("subset", source, *words, folder=folder).code == 0
    old = whole(folder, suffix)
    changed = ["calc", "a.nc", "--formula", "tas + 1[K]", "--name", "tas", *words]
    began = time.monotonic()
    subprocess.run([PROGRAM, *changed], cwd=folder, check=True, capture_output=True)
    span = time.monotonic() - began
    new = whole(folder, suffix)
    assert old != new
    moments = random.Random(1)
    for _ in range(int(os.environ.get("RHODOLITE_KILLS", "5"))):
        assert run_here("subset", source, *words, folder=folder).code == 0
        assert whole(folder, suffix) == old
        running = subprocess.Popen(
            [PROGRAM, *changed], cwd=folder, stderr=subprocess.DEVNULL
        )
        time.sleep(span * moments.uniform(0.3, 1.0))
        running.send_signal(
            moments.choice([signal.SIGKILL, signal.SIGTERM, signal.SIGINT])
        )
        running.wait()
        # The next run that writes there finishes or undoes what was begun, and is refused.
        assert run_here("subset", source, "-o", name, folder=folder).code == 4
        assert whole(folder, suffix) in (old, new)
        assert not [path for path in folder.iterdir() if path.name.startswith(".")]


def whole(folder, suffix):
    """The values of an output, each of its files read to the end."""
    if suffix in (".nc", ".zarr"):
        return rhodolite.read(folder / f"b{suffix}")["tas"].values().tobytes()
    return [path.read_text() for path in sorted(folder.glob(f"b*{suffix}"))]


@posix
@pytest.mark.parametrize("suffix", [".nc", ".zarr"])
def test_links_are_written_through_and_long_names_written(source, suffix):
    folder = source.parent
    (folder / "real").mkdir()
    link, target = folder / f"b{suffix}", folder / "real" / f"t{suffix}"
    link.symlink_to(target)
    line = ("summarise", "a.nc", "-o", link.name)
    refused = run_here(*line, folder=folder)
    assert refused.code == 4 and "where there is nothing" in refused.err
    for _ in range(2):
        assert run_here(*line, "--overwrite", folder=folder).code == 0
        assert link.is_symlink() and target.exists() and not target.is_symlink()
    (folder / "c.nc").symlink_to("c.nc")
    refused = run_here("summarise", "a.nc", "-o", "c.nc", "--overwrite", folder=folder)
    assert refused.code == 4 and "a link to itself" in refused.err
    for name in ("x" * (255 - len(suffix)), "é" * 125):
        for _ in range(2):
            line = ("summarise", "a.nc", "-o", f"{name}{suffix}", "--overwrite")
            assert run_here(*line, folder=folder).code == 0
    names = {path.name for path in folder.iterdir()}
    assert not {name for name in names if name.startswith(".")}


def test_what_cannot_be_removed_after_an_output_is_in_place_is_a_warning(
    source, monkeypatch
):
    real = Path.unlink

    def fail_for_locks(path, missing_ok=False):
        if path.suffix == ".lock":
            raise PermissionError(13, "Permission denied")
        real(path, missing_ok=missing_ok)

    monkeypatch.setattr(Path, "unlink", fail_for_locks)
    answer = run_here("summarise", "a.nc", "-o", "b.nc", folder=source.parent)
    assert answer.code == 0
    assert "what is no longer needed cannot be removed" in answer.err


@posix
@pytest.mark.parametrize(
    "suffix",
    [".nc", ".zarr", ".png"]
    + [
        pytest.param(n, marks=pytest.mark.long)
        for n in (".csv", ".asc", ".svg", ".gif")
    ],
)
def test_a_disk_that_is_full_ends_with_code_4_and_nothing_left(tmp_path, rng, suffix):
    """The size of files is limited to 8 kB, which stands for a disk with as much room."""
    import resource

    values = rng.normal(size=(4, 60, 80))
    source = write_plain(tmp_path / "a.nc", values, times=14.5 + np.arange(4) * 30.4375)
    name = "b_{year}{month}.asc" if suffix == ".asc" else f"b{suffix}"
    verb = {
        ".png": ["draw", "map"],
        ".svg": ["draw", "map"],
        ".gif": ["draw", "animation"],
    }
    words = [*verb.get(suffix, ["subset"]), source, "-o", name]
    done = subprocess.run(
        [PROGRAM, *map(str, words)],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (8192, 8192)),
    )
    assert done.returncode == 4, done.stderr
    assert "cannot be written" in done.stderr
    assert [path.name for path in tmp_path.iterdir()] == ["a.nc"]


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".nc", ".zarr"])
def test_a_reader_sees_one_whole_input_or_is_refused_while_a_writer_replaces_it(
    tmp_path, suffix
):
    for name, value in (("p", 1.0), ("q", 2.0)):
        values = np.full((40, 40, 60), value, dtype="f4")
        write_plain(tmp_path / f"{name}.nc", values, zlib=True, chunksizes=(1, 40, 60))
    script = (
        "import time, rhodolite; both = [rhodolite.read(f'{n}.nc') for n in 'pq']\n"
        f"for at in range(10): both[at % 2].write('in{suffix}', overwrite=True); time.sleep(0.1)"
    )
    rhodolite.read(tmp_path / "p.nc").write(tmp_path / f"in{suffix}")
    writer = subprocess.Popen([sys.executable, "-c", script], cwd=tmp_path)
    seen = 0
    while writer.poll() is None:
        words = (
            "summarise",
            f"in{suffix}",
            "--over",
            "time",
            "-o",
            "o.nc",
            "--overwrite",
        )
        answer = run_here(*words, folder=tmp_path)
        if answer.code == 0:
            found = np.unique(rhodolite.read(tmp_path / "o.nc")["tas"].values())
            assert found.tolist() in ([1.0], [2.0])
        else:
            assert "it was being read" in answer.err, answer.err
        seen += 1
    assert writer.returncode == 0 and seen


@pytest.mark.parametrize("format", ["NETCDF3_CLASSIC", "NETCDF4"])
def test_the_file_that_was_checked_is_the_one_that_is_read(
    tmp_path, monkeypatch, format
):
    """Though another takes its name between the two."""
    path = write_plain(tmp_path / "a.nc", np.ones((4, 3, 2)), format=format)
    data = rhodolite.read(path)
    before = path.stat()
    write_plain(tmp_path / "b.nc", np.zeros((4, 3, 2)), format=format).replace(path)
    with monkeypatch.context() as patch:
        patch.setattr(Path, "stat", lambda *_, **__: before)
        with pytest.raises(DataError, match="was replaced"):
            data["tas"].values()
    fresh = rhodolite.read(path)
    with path.open("r+b") as file:
        file.truncate(before.st_size - 60)
    os.utime(path, ns=(path.stat().st_atime_ns, 1))
    with pytest.raises(DataError):
        fresh["tas"].values()
