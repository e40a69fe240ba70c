"""What files say reaches no terminal, picture or spreadsheet in a form that acts there."""

from __future__ import annotations

import json
import re

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here, write_plain

NASTY = "\x1b[31mred\x07\u202eturned $x^2$ \\frac"
UNSEEN = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


@pytest.fixture
def nasty(tmp_path):
    path = write_plain(tmp_path / "a.nc", np.arange(12.0).reshape(3, 2, 2))
    with netCDF4.Dataset(path, "a") as file:
        file.title = NASTY + "\nsecond line"
        file["tas"].long_name = NASTY
        file["tas"].comment = NASTY
    return path


@pytest.mark.parametrize(
    "words",
    [
        ["inspect", "a.nc"],
        ["inspect", "a.nc", "--json"],
        ["inspect", "a.nc", "--variable", "tas"],
        ["check", "a.nc"],
        ["check", "a.nc", "--json"],
        ["subset", "a.nc", "--variable", "\x1b[2Jx", "-o", "b.nc"],
        ["convert", "a.nc", "--units", "\x1b[2Jm", "-o", "b.nc"],
    ],
)
def test_nothing_that_steers_a_terminal_is_printed(nasty, words):
    answer = run_here(*words, folder=nasty.parent)
    assert not UNSEEN.search(answer.out + answer.err)
    if words[0] == "inspect" and "--json" not in words:
        assert r"\x1b[31mred\x07\u202eturned" in answer.out
    if words[:1] == ["inspect"] and "--json" in words:
        assert json.loads(answer.out)["title"] == NASTY + "\nsecond line"


@pytest.mark.parametrize("suffix", [".png", ".svg", ".pdf"])
def test_names_are_no_formulas_in_pictures(nasty, suffix):
    out = nasty.with_suffix(suffix)
    for kind in ("map", "series"):
        answer = run_here("draw", kind, nasty, "-o", out, "--overwrite")
        assert answer.code == 0, answer.err
        assert out.stat().st_size > 1000
    figure = rhodolite.read(nasty).draw_series()
    shown = [text.get_text() for text in figure.texts]
    assert any(r"\x1b[31mred\x07\u202eturned $x^2$ \frac" in text for text in shown)
    if suffix == ".svg":
        assert not UNSEEN.search(out.read_text().replace("\n", ""))


def test_text_that_a_spreadsheet_would_run_is_quoted_and_comes_back(tmp_path):
    texts = ["=1+2", "@sum", "+cmd|x", "-5", "plain"]
    made = rhodolite.from_arrays(
        {"rain": np.arange(5.0)},
        {"site": np.array(texts, dtype=object)},
        units={"rain": "1"},
        attributes={"site": {"cf_role": "timeseries_id"}},
    )
    made.write(tmp_path / "a.csv")
    cells = [
        line.split(",")[0] for line in (tmp_path / "a.csv").read_text().splitlines()[1:]
    ]
    assert cells == ["'=1+2", "'@sum", "'+cmd|x", "-5", "plain"]
    made.write(tmp_path / "a.nc")
    answer = run_here("subset", tmp_path / "a.nc", "--raw", "-o", tmp_path / "raw.csv")
    assert answer.code == 0, answer.err
    assert (tmp_path / "raw.csv").read_text().splitlines()[1].startswith("=1+2,")
    back = rhodolite.read(tmp_path / "a.csv")
    assert [
        str(text) for text in back["site" if "site" in back else "name"].values()
    ] == texts
