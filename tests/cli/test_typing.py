"""What people type: options twice, ranges with spaces, units and words as they come to mind."""

from __future__ import annotations

import subprocess
import sys

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here, write_plain
from rhodolite import Climatology, DataError


@pytest.fixture
def folder(tmp_path, rng):
    """Three variables on levels, and a file whose missing values nobody declared."""
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        months = np.arange(24) * 30.4375 + 15
        for name, values, units in (
            ("time", months, "days since 2000-01-01"),
            ("plev", [1000, 850], "hPa"),
            ("lat", [0, 10, 20], "degrees_north"),
            ("lon", [0, 10], "degrees_east"),
        ):
            file.createDimension(name, len(values))
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = values
        for name, units in (("ta", "K"), ("ua", "m s-1"), ("q", "1")):
            file.createVariable(
                name, "f4", ("time", "plev", "lat", "lon")
            ).units = units
            file[name][:] = rng.random((24, 2, 3, 2)) + 280
    values = np.arange(24, dtype="f4").reshape(24, 1, 1)
    values[3] = -9999
    write_plain(tmp_path / "m.nc", values, times=np.arange(24) * 30.5)
    return tmp_path


def run(folder, *words):
    answer = run_here(*words, "-o", "out.nc", "--overwrite", folder=folder)
    assert answer.code == 0, answer.err
    return rhodolite.read(folder / "out.nc"), answer.err


def test_options_that_are_given_twice_add_up_or_are_refused(folder):
    for words in (
        ["--variable", "ta", "--variable", "ua"],
        ["--variable", "ta,ua"],
        ["--var", "ta", "--var=ua"],
    ):
        assert [v.name for v in run(folder, "subset", "a.nc", *words)[0].fields] == [
            "ta",
            "ua",
        ]
    made, _ = run(
        folder,
        "subset",
        "a.nc",
        "--months",
        "jan",
        "--months",
        "jul",
        "--level",
        "1000hPa",
        "--level",
        "850mb",
    )
    assert (made.lengths["time"], made.lengths["plev"]) == (4, 2)
    made, _ = run(
        folder,
        "summarise",
        "a.nc",
        "--variable",
        "ta",
        "--statistic",
        "mean",
        "--statistic",
        "max",
    )
    assert [v.name for v in made.fields] == ["ta_mean", "ta_max"]
    answer = run_here(
        "subset",
        "a.nc",
        "--time",
        "2000",
        "--time",
        "2001",
        "-o",
        "x.nc",
        folder=folder,
    )
    assert (answer.code, answer.err) == (
        2,
        "rhodolite: --time is given twice, as '2000' and as '2001'; give it once\n",
    )


@pytest.mark.parametrize(
    "verb",
    [
        "aggregate --to year",
        "trend",
        "summarise",
        "regrid --to 10",
        "convert --units C",
        "relevel --to 900mb",
        "join",
    ],
)
def test_every_verb_takes_variables(folder, verb):
    made, _ = run(
        folder, *verb.split()[:1], "a.nc", *verb.split()[1:], "--variable", "ta"
    )
    assert {v.name.partition("_")[0] for v in made.fields} == {"ta"}


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (
            ["--lat", "30", "..", "60"],
            "a range is written without spaces: --lat 30..60",
        ),
        (["--lat", "30", "..60"], "a range is written without spaces: --lat 30..60"),
        (
            ["--lon", "40..-20"],
            "runs eastward over 300 degrees; the other way round it is --lon 20W..40E",
        ),
    ],
)
def test_ranges_get_the_hint_that_helps(folder, words, message):
    assert (
        message in run_here("subset", "a.nc", *words, "-o", "x.nc", folder=folder).err
    )


def test_the_beginning_of_an_option_stands_for_it_where_it_is_the_only_one(folder):
    answer = run_here("subset", "a.nc", "--vari", "ta", "-o", "o.nc", folder=folder)
    assert answer.code == 0, answer.err
    assert rhodolite.read(folder / "o.nc").fields[0].name == "ta"
    for short in ("--re", "--m", "--vario"):
        answer = run_here("subset", "a.nc", short, "ta", "-o", "p.nc", folder=folder)
        assert answer.code == 2
        assert f"subset has no option {short}" in answer.err
    assert not (folder / "p.nc").exists()


def test_options_of_a_run_may_stand_before_the_verb(folder):
    line = ("subset", "a.nc", "--variable", "ta", "-o", "o.nc", "--overwrite")
    for before in (
        ("--quiet",),
        ("--memory", "64MiB", "--workers=1", "--debug"),
        ("--no-cache",),
    ):
        answer = run_here(*before, *line, folder=folder)
        assert answer.code == 0, answer.err
        assert ("wrote o.nc" in answer.err) == ("--quiet" not in before)
    assert run_here("--workers", "x", *line, folder=folder).code == 2
    assert (
        "stands where a verb belongs"
        in run_here("--lat", "1..2", *line, folder=folder).err
    )
    assert run_here("--quiet", folder=folder).code == 2


def test_units_as_they_come_to_mind(folder):
    for units in ("degC", "C", "ta=C", "ta=deg C"):
        made, _ = run(folder, "convert", "a.nc", "--units", units)
        assert (made["ta"].units, made["ua"].units) == ("degC", "m s-1")
    made, _ = run(folder, "subset", "a.nc", "--level", "850millibar")
    assert made.lengths["plev"] == 1
    answer = run_here("convert", "a.nc", "--units", "kg", "-o", "x.nc", folder=folder)
    assert (
        "nothing can be converted to it; ta is in K, ua is in m s-1, q is in 1"
        in answer.err
    )


@pytest.mark.parametrize(
    "words",
    [
        ["help", "subset"],
        ["subset", "--help"],
        ["subset", "a.nc", "--lat", "0..5", "--help"],
    ],
)
def test_help_comes_wherever_it_is_asked_for(words, capsys):
    with pytest.raises(SystemExit):
        rhodolite.cli.main.dispatch(list(map(str, words)), quiet=False)
    assert "--every" in capsys.readouterr().out


def test_missing_values_that_no_one_declared(folder):
    for words in (["subset", "m.nc"], ["join", "m.nc"]):
        made, _ = run(folder, *words, "--missing-value", "-9999")
        assert np.isnan(made["tas"].values()).reshape(-1).nonzero()[0].tolist() == [3]
    inspected = run_here(
        "inspect", "m.nc", "--statistics", "--missing-value=-9999", folder=folder
    )
    assert "4.2%" in inspected.out
    assert "-9999" not in inspected.out


def test_normals_of_one_year_on_request(folder):
    data = rhodolite.read(folder / "a.nc")
    with pytest.raises(
        DataError, match=r"a normal needs at least 3, unless --min-years 1"
    ):
        Climatology(base="2000")(data)
    normal = Climatology(base="2000", min_years=1)(data)["ta"].values()
    np.testing.assert_allclose(normal, data["ta"].values()[:12])


def test_members_are_inspected_one_by_one(folder):
    out = run_here("inspect", "a.nc", "m.nc", "--members", folder=folder).out
    assert "a: a.nc" in out
    assert "m: m.nc" in out


_HEAVY = (
    "pandas",
    "matplotlib",
    "scipy",
    "shapely",
    "numba",
    "zarr",
    "numcodecs",
    "rich",
    "dask",
)


@pytest.mark.parametrize(
    "words",
    [
        ["--help"],
        ["inspect", "a.nc"],
        ["subset", "a.nc", "--lat", "0..2", "-o", "b.nc"],
        ["anomaly", "a.nc", "--min-years", "1", "-o", "c.nc"],
    ],
)
def test_a_command_imports_only_what_it_needs(tmp_path, words):
    write_plain(tmp_path / "a.nc", np.ones((24, 3, 4)), times=np.arange(24) * 30.4 + 15)
    script = (
        "import sys; from rhodolite.cli.main import main; code = main(sys.argv[1:]); "
        f"print('IMPORTED', code, *[name for name in {_HEAVY} if name in sys.modules])"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, *words],
        cwd=tmp_path,
        capture_output=True,
        text=True,
    )
    assert done.stdout.rpartition("IMPORTED")[2].split() == ["0"], done.stderr
