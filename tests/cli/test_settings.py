"""Defaults of the user's own, completion, and versions."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import run_command, write_plain

PROGRAM = str(Path(sys.executable).with_name("rhodolite"))


@pytest.fixture
def plain(tmp_path):
    write_plain(tmp_path / "a.nc", [[[1.0, 2.0], [3.0, 4.0]]] * 3)
    return tmp_path


@pytest.mark.slow
@pytest.mark.long
def test_defaults_come_from_the_environment_and_the_configuration(plain):
    config = plain / "config" / "rhodolite"
    config.mkdir(parents=True)
    (config / "config.toml").write_text('memory = "64MiB"\nworkers = 3\n')
    words = ["subset", "a.nc", "-o", "b.nc", "--plan"]
    known = {"XDG_CONFIG_HOME": str(plain / "config")}
    answer = run_command(*words, folder=plain, **known)
    assert "(67.1 MB for data are allowed), 3 blocks at a time" in answer.out
    answer = run_command(*words, folder=plain, **known, RHODOLITE_WORKERS="2")
    assert "67.1 MB for data are allowed), 2 blocks at a time" in answer.out
    answer = run_command(
        *words, "--workers", "1", folder=plain, **known, RHODOLITE_WORKERS="2"
    )
    assert "1 blocks at a time" in answer.out
    for name, value, message in (
        ("RHODOLITE_MEMORY", "much", "RHODOLITE_MEMORY: 'much' is not a size"),
        ("RHODOLITE_WORKERS", "0", "RHODOLITE_WORKERS: '0' is not a number of workers"),
        (
            "RHODOLITE_COMPRESSION",
            "tiny",
            "RHODOLITE_COMPRESSION: 'tiny' is not offered",
        ),
    ):
        answer = run_command(*words, folder=plain, **{name: value})
        assert (answer.code, message in answer.err) == (2, True), answer.err
    (config / "config.toml").write_text("memry = 1\n")
    answer = run_command(*words, folder=plain, **known)
    assert answer.code == 2
    assert (
        "config.toml: there is no setting 'memry'. Did you mean memory?" in answer.err
    )


@pytest.mark.slow
def test_a_default_compression_is_for_data_alone(plain):
    chosen = {"RHODOLITE_COMPRESSION": "none"}
    assert run_command("subset", "a.nc", "-o", "b.nc", folder=plain, **chosen).code == 0
    answer = run_command("inspect", "b.nc", "--variable", "tas", folder=plain)
    assert "deflate" not in answer.out
    assert (
        run_command("draw", "map", "a.nc", "-o", "b.png", folder=plain, **chosen).code
        == 0
    )


@pytest.mark.skipif(sys.platform == "win32", reason="shells of other systems")
@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("rhodolite ano", {"anomaly"}),
        ("rhodolite subset a.nc then ano", {"anomaly"}),
        ("rhodolite subset a.nc --lat -35..10 then trend --meth", {"--method"}),
        ("rhodolite subset a.nc then trend --method ", {"least-squares", "theil-sen"}),
        ("rhodolite draw pa", {"panels"}),
        ("rhodolite draw map a.nc --variable ", {"tas"}),
        ("rhodolite inspect a.nc --stat", {"--statistics"}),
        ("rhodolite climatology a.nc --cyc", {"--cycle"}),
        ("rhodolite subset a.n", {"a.nc"}),
    ],
)
def test_shells_complete_each_step_of_a_chain(plain, line, offered):
    answer = plain / "offered"
    asked = {
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": "\n",
        "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(answer),
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "COMP_TYPE": "9",
    }
    subprocess.run([PROGRAM], cwd=plain, env={**os.environ, **asked}, check=True)
    assert set(answer.read_text().split()) == offered


def test_the_version_names_the_libraries_where_they_are_wanted():
    assert run_command("--version").out.count("\n") == 1
    answer = run_command("--version", "--debug")
    assert "\nnumpy 2." in answer.out
    assert "\nPython 3." in answer.out
