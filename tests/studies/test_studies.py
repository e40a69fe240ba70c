"""Studies, as files and as what outputs carry: the same computation in other words."""

from __future__ import annotations

import contextlib
import html
import os
import re
import shlex
import shutil
import tomllib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
import rhodolite.pipeline.result
import rhodolite.studies.record
from conftest import EXAMPLES, run_here, write_plain
from rhodolite import Anomaly, Engine, Subset, Trend
from rhodolite.cli.chain import parse_chain
from rhodolite.errors import UsageError
from rhodolite.formats.collection import inputs_of, write_collection
from rhodolite.studies.fingerprints import files_named, fingerprint
from rhodolite.studies.reader import read_study_text
from rhodolite.studies.record import write_study
from rhodolite.studies.toml_lines import TomlLines
from test_differential import files, make
from test_independence import STEPS

_BASIC = """
title = "A study"

[settings]
base = "2000..2002"

[lists]
part = ["north", "south"]

[inputs]
data = "a.nc"

[steps.departures]
of = "data"
do = "anomaly"
base = "{base}"

[steps.north]
of = "departures"
do = "subset"
lat = "0..90"

[steps.south]
of = "departures"
do = "subset"
lat = "-90..-1"

[steps."mean_{part}"]
of = "{part}"
do = "summarise"
over = "area"

[outputs."out/{part}.csv"]
of = "mean_{part}"

[outputs."departures.nc"]
of = "departures"
compression = "small"

[outputs."north.svg"]
of = "north"
draw = "map"
time = "2001-07"
"""
_CHAINS = [
    "anomaly a.nc --base 2000..2002",
    "anomaly a.nc --min-years 1 then trend --method theil-sen",
    "subset a.nc --lat -30..45.5 --time 2001-02..2002-11 then aggregate --to year --min-coverage 0",
    "calc a.nc --formula 'tas - 273.15[K] + 1e-3[K]' --name t2 then summarise --over area",
    "aggregate a.nc --to year --statistic 'count-above 280.5K' --min-coverage 0",
    "regrid a.nc --to lat=15,lon=20 --method nearest then convert --units tas=degC",
    "compare a.nc --with b.nc --kind ratio",
    "trend a.nc b.nc --members",
    # Two steps in a row that say how an input is to be understood, before anything is guessed.
    "annotate figures.nc --set :title=Made-up then annotate --set 'time:units=s since 2000-01-01'",
    # Files that steps name are read as the input is.
    "compare one.csv --with two.csv --missing-text unread",
    # What is missing is not joined to what is there.
    "calc a.nc --variable tas --missing-value 280 --formula 'tas * 2' --name twice",
]


@pytest.fixture
def folder(tmp_path):
    rng = np.random.default_rng(4)
    times = 14.5 + np.arange(48) * 30.4375
    latitudes, longitudes = np.arange(-60.0, 61, 20), np.arange(0.0, 360, 40)
    for name in ("a", "b"):
        values = rng.normal(280, 5, (48, 7, 9)).astype("f4")
        write_plain(
            tmp_path / f"{name}.nc",
            values,
            times=times,
            lats=latitudes,
            lons=longitudes,
        )
    return tmp_path


@pytest.fixture
def odd_files(folder):
    """Beside the others, a file whose times are figures of the calendar, and two tables."""
    days = 20000101.0 + np.arange(3)
    write_plain(
        folder / "figures.nc", np.ones((3, 2, 2)), times=days, units="day as %Y%m%d.%f"
    )
    for name, cell in (("one", "1.5"), ("two", "unread")):
        (folder / f"{name}.csv").write_text(
            f"date,rain\n2000-01-01,2\n2000-01-02,{cell}\n"
        )


def _values(path):
    data = rhodolite.read(path)
    values = {name: data[name].values() for name in data}
    return {
        name: array.tolist() if array.dtype.kind == "O" else array.tobytes()
        for name, array in values.items()
    }


@pytest.mark.usefixtures("odd_files")
@pytest.mark.parametrize("chain", _CHAINS)
def test_a_chain_its_study_and_what_its_output_carries_are_the_same(folder, chain):
    words = (*shlex.split(chain), "--record", "s.toml", "-o", "o.nc")
    answer = run_here(*words, folder=folder)
    assert answer.code == 0, answer.err
    answer = run_here("study", "s.toml", "--into", "again", folder=folder)
    assert answer.code == 0, answer.err
    answer = run_here(
        "retrace", "again/o.nc", "--run", "--into", "third", folder=folder
    )
    assert answer.code == 0, answer.err
    expected = _values(folder / "o.nc")
    assert _values(folder / "again/o.nc") == expected
    assert _values(folder / "third/o.nc") == expected
    # What was typed can be typed again, word by word.
    line = rhodolite.read(folder / "o.nc").attributes["history"].rpartition(": ")[2]
    assert run_here(*shlex.split(line), "-o", "typed.nc", folder=folder).code == 0
    assert _values(folder / "typed.nc") == expected
    assert [path.name for path in (folder / "third").iterdir()] == ["o.nc"]


def test_a_study_makes_all_its_outputs_once(folder):
    (folder / "s.toml").write_text(
        f"\ufeff{_BASIC}", encoding="utf-8"
    )  # as some editors do
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 0, answer.err
    assert answer.err.count("wrote ") == 4
    data = rhodolite.read(folder / "a.nc")
    expected = data.anomaly(base="2000..2002")
    made = rhodolite.read(folder / "departures.nc")
    np.testing.assert_array_equal(made["tas"].values(), expected["tas"].values())
    places = ["departures.nc", "out/north.csv", "out/south.csv", "north.svg"]
    before = {name: (folder / name).stat().st_mtime_ns for name in places}

    def remade(*more):
        answer = run_here("study", "s.toml", *more, folder=folder)
        assert answer.code == 0, answer.err
        now = {name: (folder / name).stat().st_mtime_ns for name in places}
        changed = {name for name in places if now[name] != before[name]}
        before.update(now)
        return changed

    assert remade() == set()
    text = _BASIC.replace('lat = "0..90"', 'lat = "10..90"')
    (folder / "s.toml").write_text(text)
    assert remade() == {"out/north.csv", "north.svg"}
    text = text.replace('draw = "map"', 'draw = "map"\nvariable = "tas"')
    (folder / "s.toml").write_text(text)
    assert remade() == {"north.svg"}
    text = text.replace('compression = "small"', 'compression = "fast"')
    (folder / "s.toml").write_text(text)
    assert remade() == {"departures.nc"}
    assert remade("--only", "departures.nc", "--fresh") == {"departures.nc"}
    assert remade("--set", "base=2001..2003", "--only", "out/south.csv") == {
        "out/south.csv"
    }
    assert remade() == {"out/south.csv"}
    (folder / "departures.nc").unlink()
    before["departures.nc"] = 0
    assert remade() == {"departures.nc"}
    os.utime(folder / "a.nc", (1, 1))
    assert remade() == set(places)


def test_an_interrupted_study_goes_on_where_it_was(folder, monkeypatch):
    (folder / "s.toml").write_text(_BASIC)
    real, calls = rhodolite.pipeline.result.write, []

    def write(dataset, path, **options):
        calls.append(path.name)
        if len(calls) == 2:
            raise KeyboardInterrupt
        return real(dataset, path, **options)

    with monkeypatch.context() as patch:
        patch.setattr(rhodolite.pipeline.result, "write", write)
        assert run_here("study", "s.toml", folder=folder).code == 130
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 0
    assert f"out/{calls[0]} is up to date" in answer.err
    assert answer.err.count("wrote ") == 3


def test_a_plan_says_the_way_to_each_output_and_computes_nothing(folder):
    (folder / "s.toml").write_text(_BASIC)
    answer = run_here("study", "s.toml", "--plan", folder=folder)
    assert answer.code == 0, answer.err
    assert (
        "out/north.csv: data, then departures (anomaly), then north (subset)"
        in answer.out
    )
    assert sorted(path.name for path in folder.iterdir()) == ["a.nc", "b.nc", "s.toml"]


@pytest.mark.parametrize(
    ("old", "new", "line", "said"),
    [
        (
            'do = "anomaly"',
            'do = "anomly"',
            15,
            "no verb 'anomly'. Did you mean anomaly?",
        ),
        (
            'lat = "0..90"',
            'latt = "0..90"',
            21,
            "subset has no parameter 'latt'. Did you mean lat",
        ),
        (
            'lat = "0..90"',
            'lat = "90..0"',
            21,
            "--lat: '90..0' runs from north to south",
        ),
        ('lat = "0..90"', "lat = [[1]]", 21, "--lat"),
        ('lat = "0..90"', "lat = {a = 1}", 21, "--lat: {'a': 1} cannot be used here"),
        ('lat = "0..90"', "region = true", 21, "--region: true cannot be used here"),
        (
            'lat = "0..90"',
            "lat = 2001-01-01",
            21,
            "--lat: '2001-01-01' is not a latitude",
        ),
        (
            'of = "departures"\ndo',
            'of = "departure"\ndo',
            19,
            "no input or step 'departure'. Did",
        ),
        ('of = "data"', 'of = "south"', 13, "steps need each other in a circle"),
        ('over = "area"', 'over = "{base"', 31, "--over"),
        (
            'base = "{base}"',
            'base = "{bas}"',
            13,
            "no setting or list 'bas'. Did you mean base",
        ),
        ('of = "mean_{part}"', 'of = "{part}"\ndraw = "mapp"', 35, "no drawing 'mapp'"),
        ('[outputs."north.svg"]', '[outputs."../north.svg"]', 40, "within it"),
        ('[outputs."north.svg"]', '[outputs."/tmp/north.svg"]', 40, "within it"),
        ('[outputs."north.svg"]', '[outputs."--north.svg"]', 40, "within it"),
        (
            '[outputs."north.svg"]',
            '[outputs."out/north.csv"]',
            40,
            "two outputs are called",
        ),
        (
            '[outputs."north.svg"]',
            '[outputs."./north.svg"]',
            40,
            "write it as 'north.svg'",
        ),
        ('compression = "small"', 'compression = "tiny"', 36, "--compression: 'tiny'"),
        ('data = "a.nc"', "data = 5", 11, "an input needs files"),
        (
            'do = "anomaly"\nbase = "{base}"',
            'do = "regrid"\nto = 5\nsave-weights = "w.nc"',
            13,
            "beside",
        ),
        ('title = "A study"', "title = [1]", 2, "title is text"),
        ("[steps.north]", '[steps."no rth"]', 18, "is no name"),
    ],
)
def test_what_is_wrong_with_a_study_is_said_with_its_line(folder, old, new, line, said):
    assert old in _BASIC
    (folder / "s.toml").write_text(_BASIC.replace(old, new, 1))
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 2, answer.err
    assert said in answer.err
    assert f"s.toml, line {line}: " in answer.err
    assert not (folder / "departures.nc").exists()


def test_files_that_the_study_has_not_made_are_not_replaced(folder):
    (folder / "s.toml").write_text(_BASIC)
    (folder / "departures.nc").write_text("mine")
    answer = run_here("study", "s.toml", folder=folder)
    assert (answer.code, (folder / "departures.nc").read_text()) == (4, "mine"), (
        answer.err
    )
    assert not (folder / "out/north.csv").exists()
    assert run_here("study", "s.toml", "--overwrite", folder=folder).code == 0
    for old, new in (('"departures.nc"', '"a.nc"'), ('"a.nc"', '"[a-d]*.nc"')):
        (folder / "s.toml").write_text(_BASIC.replace(old, new))
        answer = run_here("study", "s.toml", "--overwrite", folder=folder)
        assert (answer.code, "is an output of the study, too" in answer.err) == (
            2,
            True,
        )


_OUTPUTS = ["o.nc", "o.zarr", "o.csv", "o_{year}.csv", "o_{year}{month}.asc"]


@pytest.mark.parametrize("output", [*_OUTPUTS, "o.png", "o.svg", "o.pdf", "o.gif"])
def test_outputs_tell_what_made_them_and_whether_it_has_changed(folder, output):
    kind = {"png": ("draw", "map"), "gif": ("draw", "animation", "--size", "300x200")}
    verb = kind.get(
        output[-3:], kind["png"] if output in ("o.svg", "o.pdf") else ("subset",)
    )
    period = "2001-03..2001-04" if output == "o.gif" else "2001-03"
    words = (*verb[:2], "a.nc", *verb[2:], "--time", period)
    if output.endswith("asc"):
        words = (
            "subset",
            "b.nc",
            "--lon",
            "0..280",
            "--time",
            period,
            "then",
            "regrid",
        )
        words += ("--to", "lat=20,lon=20", "--method", "nearest")
        (folder / "b.nc").replace(folder / "a.nc")
        words = ("subset", "a.nc", *words[2:])
    answer = run_here(*words, "-o", output, folder=folder)
    assert answer.code == 0, answer.err
    output = output.replace("{year}", "2001").replace("{month}", "03")
    assert (folder / output).exists()
    told = run_here("retrace", output, folder=folder)
    assert told.code == 0, told.err
    assert tomllib.loads(told.out)["inputs"]["data"]["files"] == "a.nc"
    assert (
        run_here("retrace", output, "--verify", folder=folder).out == "a.nc: the same\n"
    )
    assert (
        run_here("retrace", output, "--run", "--into", "again", folder=folder).code == 0
    )
    with (folder / "a.nc").open("r+b") as file:
        file.seek(100)
        file.write(b"\xff")
    changed = run_here("retrace", output, "--verify", folder=folder)
    assert (changed.code, changed.out) == (3, "a.nc: changed\n")
    (folder / "a.nc").unlink()
    assert "a.nc: gone" in run_here("retrace", output, "--verify", folder=folder).out
    (folder / "b.csv").write_text("time,tas\n2000-01,1\n2000-02,2\n")
    assert "carries no study" in run_here("retrace", "b.csv", folder=folder).err


@pytest.mark.parametrize("verb", ["join", "build"])
def test_joining_and_building_are_studies_too(folder, verb):
    for name, first in (("one", 0), ("two", 300)):
        write_plain(
            folder / f"{name}.nc",
            np.random.default_rng(first).random((365, 2, 2)),
            times=first + np.arange(365.0),
        )
    (folder / "grid_200001.asc").write_text(
        "ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\nNODATA_value -9\n1 2\n3 -9\n"
    )
    (folder / "about.toml").write_text(
        '[input]\nnames = "grid_{year}{month}.asc"\n[variables.grid]\nunits = "mm"\n'
    )
    words = {
        "join": ("one.nc", "two.nc", "--overlap", "last", "--variable", "tas"),
        "build": ("grid_200001.asc", "--description", "about.toml"),
    }[verb]
    answer = run_here(verb, *words, "-o", "o.nc", "--record", "s.toml", folder=folder)
    assert answer.code == 0, answer.err
    for again in (
        ("study", "s.toml", "--into", "x"),
        ("retrace", "o.nc", "--run", "--into", "y"),
    ):
        answer = run_here(*again, folder=folder)
        assert answer.code == 0, answer.err
        assert _values(folder / again[-1] / "o.nc") == _values(folder / "o.nc")
    beside = folder / ("two.nc" if verb == "join" else "about.toml")
    beside.write_bytes(beside.read_bytes() + b" ")
    assert (
        f"{beside.name}: changed"
        in run_here("retrace", "o.nc", "--verify", folder=folder).out
    )


def test_a_change_behind_a_collection_or_beside_a_shapefile_is_noticed(folder, demo):
    """What is read is what is compared, whichever file names it."""
    join = run_here("join", "a.nc", "-o", "inner.toml", folder=folder)
    outer = '[collection]\nfiles = ["inner.toml", "outer.toml"]\n'
    (folder / "outer.toml").write_text(outer)
    assert join.code == 0
    assert files_named([str(folder / "outer.toml")]) == [
        folder / name for name in ("outer.toml", "inner.toml", "a.nc")
    ]
    for part in demo.glob("catchment.*"):
        (folder / part.name).write_bytes(part.read_bytes())
    words = ("summarise", "inner.toml", "--region", "catchment.shp", "-o", "o.nc")
    assert run_here(*words, "--record", "s.toml", folder=folder).code == 0
    again = ("study", "s.toml", "--into", "again")
    assert "wrote" in run_here(*again, folder=folder).err
    assert "up to date" in run_here(*again, folder=folder).err
    os.utime(folder / "catchment.dbf", (1, 1))
    assert "up to date" not in run_here(*again, folder=folder).err
    (folder / "b.nc").replace(folder / "a.nc")
    assert "a.nc: changed" in run_here("retrace", "o.nc", "--verify", folder=folder).out
    assert "up to date" not in run_here(*again, folder=folder).err


def test_several_regions_are_named_and_watched_one_by_one(folder, demo):
    """A shipped one is no file, wherever the study lies."""
    for part in demo.glob("catchment.*"):
        (folder / part.name).write_bytes(part.read_bytes())
    words = (
        "summarise",
        "a.nc",
        "--region",
        "Norway,catchment.geojson,catchment.shp#Skarn",
    )
    ended = ("-o", "deep/o.nc", "--record", "deep/s.toml")
    (folder / "deep").mkdir()
    assert run_here(*words, *ended, folder=folder).code == 0
    named = tomllib.loads((folder / "deep/s.toml").read_text())["steps"]["summarise"][
        "region"
    ]
    assert named == ["Norway", "../catchment.geojson", "../catchment.shp#Skarn"]
    again = ("study", "deep/s.toml", "--into", "again")
    assert run_here(*again, folder=folder).code == 0
    assert _values(folder / "again/o.nc") == _values(folder / "deep/o.nc")
    for touched, current in ((None, True), ("geojson", False), ("dbf", False)):
        if touched:
            os.utime(folder / f"catchment.{touched}", (1, 1))
        assert ("up to date" in run_here(*again, folder=folder).err) == current


def test_addresses_stay_as_they_are_in_collections(tmp_path):
    place = tmp_path / "deep" / "all.toml"
    place.parent.mkdir()
    given = ["http://127.0.0.1:1/dap/rain", str(tmp_path / "b_{year}.nc")]
    write_collection(place, place, given, None, None)
    assert inputs_of(place) == [given[0], str(place.parent / ".." / "b_{year}.nc")]


def test_what_was_said_and_taken_for_granted_is_on_record(folder):
    answer = run_here(
        "aggregate", "a.nc", "--to", "season", "-o", "s.nc", folder=folder
    )
    assert "warning: " in answer.err
    told = tomllib.loads(run_here("retrace", "s.nc", folder=folder).out)
    assert told["made"]["calendar"] == "standard"
    assert all(f"warning: {said}" in answer.err for said in told["made"]["warnings"])
    assert told["steps"]["aggregate"] == {
        "of": "data",
        "do": "aggregate",
        "to": "season",
        "statistic": "mean",
        "coverage": False,
    }
    page = run_here("inspect", "s.nc", folder=folder).out
    assert re.search(r"^Made     .*: aggregate a.nc --to season$", page, re.MULTILINE)
    assert "rhodolite retrace s.nc shows all of it" in page


@pytest.mark.parametrize("output", ["o.csv", "o.nc", "o.png", "y_{year}.csv"])
def test_what_made_an_output_is_known_wherever_it_went(folder, output):
    words = ("draw", "map", "a.nc", "--time", "2001-02", "--variable", "tas")
    if output != "o.png":
        words = ("anomaly", "a.nc", "--min-years", "1", "--variable", "tas")
    assert run_here(*words, "-o", output, folder=folder).code == 0
    there = {path.name for path in folder.iterdir()}
    name = output.replace("{year}", "2001")
    assert name in there
    # Nothing lies beside it that nobody asked for.
    assert not [n for n in there if n.endswith(".toml")]
    elsewhere = folder / "deep" / "down"
    elsewhere.mkdir(parents=True)
    shutil.move(folder / name, elsewhere / f"moved{Path(name).suffix}")
    moved = f"deep/down/moved{Path(name).suffix}"
    study = tomllib.loads(run_here("retrace", moved, folder=folder).out)
    assert list(study["outputs"]) == [output]
    assert study["inputs"]["data"]["files"] == "a.nc"
    if name.endswith(".csv"):
        # Its inputs are named from where it was made, and are found there.
        answer = run_here("retrace", moved, "--verify", folder=folder)
        assert (answer.code, answer.out) == (0, "a.nc: the same\n")
        again = run_here("retrace", moved, "--run", "--into", "again", folder=folder)
        assert again.code == 0
        made = (folder / "again" / name).read_bytes()
        assert made == (folder / moved).read_bytes()
        with (folder / moved).open("a") as file:
            file.write("mine\n")
        answer = run_here("retrace", moved, folder=folder)
        assert (answer.code, "knows no output of this content" in answer.err) == (
            3,
            True,
        )


@pytest.mark.parametrize("way", ["option", "environment", "unwritable"])
def test_nothing_is_noted_where_nobody_wants_it(folder, monkeypatch, way):
    state = folder / "state"
    monkeypatch.setenv("XDG_STATE_HOME", str(state))
    more = ("--no-journal",) if way == "option" else ()
    if way == "environment":
        monkeypatch.setenv("RHODOLITE_JOURNAL", "off")
    if way == "unwritable":
        state.write_text("a file where a folder belongs")
    words = ("subset", "a.nc", "--variable", "tas", "-o", "o.csv", *more)
    assert run_here(*words, folder=folder).code == 0
    assert way == "unwritable" or not state.exists()
    assert run_here("retrace", "o.csv", folder=folder).code == 3


def test_the_journal_is_this_users_alone(folder, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "own"))
    assert run_here("subset", "a.nc", "-o", "p.csv", folder=folder).code == 0
    kept = folder / "own" / "rhodolite" / "journal.sqlite"
    assert kept.stat().st_mode & 0o077 == 0
    assert "subset" in run_here("retrace", "p.csv", folder=folder).out
    kept.chmod(0o666)
    answer = run_here("retrace", "p.csv", folder=folder)
    assert (answer.code, "others can write to it" in answer.err) == (3, True)


@settings(max_examples=EXAMPLES or 8)
@given(how=files(), chain=st.lists(st.sampled_from(STEPS), min_size=1, max_size=3))
def test_random_chains_are_the_same_in_every_form(tmp_path_factory, how, chain):
    """Command, study, what the output carries, what its history says, and Python."""
    folder = tmp_path_factory.mktemp("a")
    make(folder / "a.nc", how)
    verb, *rest = " then ".join(" ".join(step) for step in chain).split()
    words = (verb, "a.nc", *rest, "-o", "o.nc")
    if run_here(*words, "--record", "s.toml", folder=folder).code:
        assert not (folder / "s.toml").exists()
        return
    line = rhodolite.read(folder / "o.nc").attributes["history"].rpartition(": ")[2]
    for again in (
        ("study", "s.toml", "--into", "again"),
        ("retrace", "o.nc", "--run", "--into", "third"),
        (*shlex.split(line), "-o", "typed.nc"),
    ):
        answer = run_here(*again, folder=folder)
        assert answer.code == 0, answer.err
    with contextlib.chdir(folder):
        parsed, _ = parse_chain(list(words))
    data = rhodolite.read(folder / "a.nc")
    for step in parsed.steps:
        data = step(data)
    rhodolite.write(data, folder / "python.nc")
    expected = _values(folder / "o.nc")
    for path in ("again/o.nc", "third/o.nc", "typed.nc", "python.nc"):
        assert _values(folder / path) == expected


def test_two_hundred_steps(folder):
    steps = [
        f'[steps.s{at}]\nof = "{f"s{at - 1}" if at else "data"}"\ndo = "calc"\n'
        'formula = "tas + 1[K]"\nname = "tas"\n'
        for at in range(200)
    ]
    text = (
        '[inputs]\ndata = "a.nc"\n'
        + "\n".join(steps)
        + '\n[outputs."o.nc"]\nof = "s199"\n'
    )
    (folder / "s.toml").write_text(text)
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 0, answer.err
    before, after = (
        rhodolite.read(folder / name)["tas"].values() for name in ("a.nc", "o.nc")
    )
    np.testing.assert_allclose(after, before + 200, rtol=1e-5)


_WORDS = st.text(st.characters(codec="utf-8", exclude_characters="\r{}"), max_size=20)


@given(title=_WORDS, files=st.lists(_WORDS, min_size=1, max_size=3), setting=_WORDS)
def test_a_study_is_read_back_from_its_text(tmp_path_factory, title, files, setting):
    text = _BASIC.replace("2000..2002", "1999..2001")
    path = tmp_path_factory.mktemp("s") / "s.toml"
    study = read_study_text(text, path)
    again = read_study_text(write_study(study), path)
    assert write_study(again) == write_study(study)
    assert set(again.steps) == {
        "departures",
        "north",
        "south",
        "mean_north",
        "mean_south",
    }
    given_ = {"title": title, "files": files, "set": setting}
    quoted = "\n".join(
        f"{key} = {rhodolite.studies.record._text(value)}"
        for key, value in given_.items()
    )
    assert tomllib.loads(quoted) == given_


@given(text=st.text(max_size=200))
def test_any_text_is_a_study_or_is_refused(text):
    try:
        read_study_text(text, Path("s.toml"))
    except UsageError as error:
        assert str(error).startswith("s.toml")
    TomlLines(text)


def test_a_fingerprint_notices_every_byte_of_a_small_file_and_sizes_of_all(tmp_path):
    path = tmp_path / "x"
    path.write_bytes(bytes(1000))
    before = fingerprint(path)
    for at in range(0, 1000, 111):
        content = bytearray(1000)
        content[at] = 1
        path.write_bytes(content)
        assert fingerprint(path) != before
    for size in (5_000_000, 70_000_000):
        path.write_bytes(bytes(size))
        large = fingerprint(path)
        assert str(large["checksum"]).startswith("whole:") == (size < 64 << 20)
        with path.open("r+b") as file:
            file.seek(size // 2 + 100)
            file.write(b"1")
        assert (fingerprint(path) != large) == (size < 64 << 20)
        path.write_bytes(bytes(size + 1))
        assert fingerprint(path) != large


def test_verifying_says_what_it_does_not_know(folder):
    """What is on record of parts alone, as of large files, is not called the same."""
    assert run_here("subset", "a.nc", "-o", "x.nc", folder=folder).code == 0
    answer = run_here("retrace", "x.nc", "--verify", folder=folder)
    assert (answer.code, answer.out) == (0, "a.nc: the same\n")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(rhodolite.studies.fingerprints, "_MOST_WHOLE", 1000)
        rhodolite.studies.fingerprints._of_state.cache_clear()
        assert run_here("subset", "a.nc", "-o", "y.nc", folder=folder).code == 0
    answer = run_here("retrace", "y.nc", "--verify", folder=folder)
    assert answer.code == 0
    assert (
        answer.out
        == "a.nc: the same size, and the same in the parts that are on record\n"
    )
    content = bytearray((folder / "a.nc").read_bytes())
    content[len(content) // 2] ^= 1
    (folder / "a.nc").write_bytes(content)
    answer = run_here("retrace", "x.nc", "--verify", folder=folder)
    assert (answer.code, answer.out) == (3, "a.nc: changed\n")


_REPORT = """
title = "Is <b>it</b> warm & dry?"

[inputs]
a = "a.nc"

[steps.departures]
of = "a"
do = "anomaly"
min-years = 1

[steps.trend]
of = "departures"
do = "trend"

[outputs."curve.png"]
of = "departures"
draw = "series"
heading = "How did it <i>go</i>?"
note = "A note."

[outputs."cell.png"]
of = "a"
draw = "series"
at = "20N,40E"
without-cycle = true
trend = true

[outputs."trend.svg"]
of = "trend"
draw = "map"
variable = "tas_trend"

[outputs."cell.csv"]
of = "departures"

[outputs."departures.nc"]
of = "departures"

[outputs."all.html"]
report = ["curve.png", "cell.png", "trend.svg", "cell.csv", "departures.nc"]
text = '''First.

Second <script>alert(1)</script>.'''
"""


def test_outputs_behind_a_link_out_of_the_folder_are_refused(folder, tmp_path_factory):
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    (folder / "out").symlink_to(elsewhere)
    (folder / "s.toml").write_text(
        '[inputs.a]\nfiles = ["a.nc"]\n[outputs."out/deep/b.nc"]\nof = "a"\n'
    )
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 4
    assert "lies behind a link that leads out of the study's folder" in answer.err
    assert list(elsewhere.iterdir()) == []


def test_a_report_says_what_the_data_say(folder):
    """Its numbers are those of NumPy, and nothing in it is run."""
    (folder / "s.toml").write_text(_REPORT.replace("A note.", r"A note.\u001b\u0007"))
    answer = run_here("study", "s.toml", folder=folder)
    assert answer.code == 0, answer.err
    page = (folder / "all.html").read_text()
    assert r"A note.\x1b\x07" in page
    assert not re.search("[\x00-\x08\x0b-\x1f]", page)
    tags = set(re.findall(r"<(\w+)", re.sub(r'src="data:[^"]*"', "", page)))
    assert not tags & {"script", "b", "i", "link", "iframe", "object"}
    assert not re.search(r'(?:src|href)="(?!data:|#)', page)
    assert page.count("<img ") == 3
    text = html.unescape(re.sub(r"<[^>]+>", "", page))
    for said in (
        "Is <b>it</b> warm & dry?",
        "A note.",
        "anomaly --min-years 1: departures",
    ):
        assert said in text
    values = rhodolite.read(folder / "departures.nc")["tas"].values()
    lats = np.radians(np.arange(-60.0, 61, 20))
    half = np.radians(10)
    weights = np.sin(lats + half) - np.sin(lats - half)
    series = np.average(values.mean(axis=2), axis=1, weights=weights)
    numbers = [f"{series.min():.4g}", f"{series.max():.4g}"]
    # What is said of a cell's trend is what its picture says, of the values without their cycle.
    data = rhodolite.read(folder / "a.nc")
    cell = Anomaly()(Subset(at="20N,40E")(data))
    told = str(Trend()(cell).remarks[0].text(Engine()))
    slope = (
        re.search(r"[-+\N{MINUS SIGN}]?[\d.]+(?= K per)", told)
        .group()
        .lstrip("+-\N{MINUS SIGN}")
    )
    assert f"{float(slope):.3g}"[:4] in text
    for number in numbers:
        assert f"{number} K".replace("-", "\N{MINUS SIGN}") in text, number
    assert re.search(r"K per year|K per decade", text)
    assert "It is significant in" in text
    assert "more rows are in cell.csv" in text
    assert "a.nc" in text
    # Whoever has no mouse can scroll what is wider than the page.
    scrolling = re.findall(r'<(?:pre|div class="wide")[^>]*>', page)
    assert scrolling and all('tabindex="0"' in tag for tag in scrolling)
    again = run_here("study", "s.toml", folder=folder)
    assert "all.html is up to date" in again.err
    changed = _REPORT.replace("A note.", "Another.")
    (folder / "s.toml").write_text(changed)
    assert run_here("study", "s.toml", "--only", "all.html", folder=folder).code == 0
    assert "Another." in (folder / "all.html").read_text()
    assert (
        run_here("retrace", "all.html", "--verify", folder=folder).out
        == "a.nc: the same\n"
    )
    assert (
        run_here("retrace", "all.html", "--run", "--into", "x", folder=folder).code == 0
    )
    assert len(list((folder / "x").iterdir())) == 6
    for old, new, said in (
        (
            '"cell.csv",',
            '"cel.csv",',
            "there is no output 'cel.csv' to show. Did you mean cell.csv",
        ),
        ('"all.html"', '"all.txt"', "a report is a page; write .html"),
        ("text =", "texts =", "there is no key of a report 'texts'. Did you mean text"),
    ):
        (folder / "s.toml").write_text(_REPORT.replace(old, new))
        answer = run_here("study", "s.toml", folder=folder)
        assert (answer.code, said in answer.err) == (2, True), answer.err
