"""A package of somebody else that adds a verb, a picture and a format: the one in the docs."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import rhodolite
from conftest import make_dataset

DOCS = (Path(__file__).parents[2] / "docs" / "extending.md").read_text()


@pytest.fixture
def package(tmp_path):
    """Install the package of the docs into a folder, as an installer would."""
    code = re.search(r"```python\n(.*?)```", DOCS, re.DOTALL)[1]
    tables = re.search(r"```toml\n(.*?)```", DOCS, re.DOTALL)[1]
    home = tmp_path / "installed"
    about = home / "garnets-1.0.dist-info"
    about.mkdir(parents=True)
    (home / "garnets.py").write_text(code)
    points = re.sub(r'\[project\.entry-points\."(.*?)"\]', r"[\1]", tables).replace(
        '"', ""
    )
    points = points.replace(
        "cap = garnets:Cap", "cap = garnets:Cap\nbroken = garnets:nothing"
    )
    points = points.replace("lists = ", "numbers = garnets:np\nlists = ")
    (about / "entry_points.txt").write_text(points)
    (about / "METADATA").write_text(
        "Metadata-Version: 2.1\nName: garnets\nVersion: 1.0\n"
    )
    return home


def run(package, folder, *words, code=0):
    """Run the installed program, or Python, beside the package."""
    done = subprocess.run(
        [sys.executable, *words],
        cwd=folder,
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONPATH": str(package)},
    )
    assert done.returncode == code, done.stderr
    return done.stdout + done.stderr


def test_a_package_adds_a_verb_a_picture_and_a_format(package, tmp_path):
    values = np.arange(24.0).reshape(4, 2, 3)
    rhodolite.write(make_dataset(values), tmp_path / "a.nc")
    command = ("-m", "rhodolite")
    page = run(package, tmp_path, *command, "--help", code=0)
    assert "Verbs of other packages" in page
    assert "Values above a limit become that limit." in page
    assert "'broken' of the package garnets cannot be loaded" in page
    assert "--limit" in run(package, tmp_path, *command, "cap", "--help")
    words = ("cap", "a.nc", "--limit", "7", "-o", "b.nc", "--record", "b.toml")
    run(package, tmp_path, *command, *words)
    capped = rhodolite.read(tmp_path / "b.nc")["tas"].values()
    np.testing.assert_array_equal(capped, np.minimum(values, 7))
    run(package, tmp_path, *command, "study", "b.toml", "--overwrite")
    picture = (
        "cap",
        "a.nc",
        "--limit",
        "7",
        "then",
        "draw",
        "histogram",
        "-o",
        "c.png",
    )
    run(package, tmp_path, *command, *picture)
    assert (tmp_path / "c.png").read_bytes().startswith(b"\x89PNG")
    (tmp_path / "d.lengths").write_text("1 2 3.5")
    page = run(package, tmp_path, *command, "inspect", "d.lengths")
    assert "List of lengths" in page
    assert "'numbers' of the package garnets (garnets:np) is no Format" in page
    script = (
        "import rhodolite\n"
        "data = rhodolite.read('a.nc').cap(limit=5)\n"
        "print(data['tas'].values().max(), type(data).__name__, data.draw_histogram())\n"
    )
    assert run(package, tmp_path, "-c", script).startswith("5.0 Dataset Figure(")


def test_what_a_package_cannot_give_is_said_with_its_name(package, tmp_path):
    rhodolite.write(make_dataset(np.zeros((2, 2, 2))), tmp_path / "a.nc")
    words = ("-m", "rhodolite", "broken", "a.nc", "-o", "b.nc")
    said = run(package, tmp_path, *words, code=2)
    assert "'broken' of the package garnets cannot be loaded" in said
    said = run(
        package, tmp_path, "-m", "rhodolite", "cop", "a.nc", "-o", "b.nc", code=2
    )
    assert "Did you mean cap?" in said
    assert not hasattr(rhodolite.read(tmp_path / "a.nc"), "cap")
