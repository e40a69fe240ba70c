"""Datasets from tables and text grids; every mistake in a description is named with its line."""

from __future__ import annotations

import numpy as np
import pytest

import rhodolite
from conftest import run_here
from rhodolite.building import build
from rhodolite.demo.places import snow
from rhodolite.errors import DataError

DESCRIPTION = """\
[dataset]
title = "Rain"

[input]
names = "rain_{year}{month}.asc"
calendar = "noleap"
missing = 9

[dimensions]
time = 3

[variables.rain]
units = "mm"
long_name = "monthly rain"
cell_methods = "time: sum"
type = "float64"
"""
HEAD = "ncols 3\nnrows 2\nxllcorner 5\nyllcorner 60\ncellsize 1\nNODATA_value -1\n"


@pytest.fixture
def grids(tmp_path):
    (tmp_path / "grids").mkdir()
    for month in (2, 1, 3):
        (tmp_path / "grids" / f"rain_2001{month:02d}.asc").write_text(
            HEAD + f"{month} 0 9\n-1 0 0.1\n"
        )
    (tmp_path / "grids" / "notes.txt").write_text("no grid")
    (tmp_path / "rain.toml").write_text(DESCRIPTION)
    return tmp_path


def test_a_folder_of_grids_becomes_a_dataset(grids):
    answer = run_here(
        "build", "grids", "--description", "rain.toml", "-o", "rain.nc", folder=grids
    )
    assert answer.code == 0, answer.err
    assert "from 3 files" in answer.err
    data = rhodolite.read(grids / "rain.nc")
    expected = [[[m, 0, np.nan], [np.nan, 0, 0.1]] for m in (1, 2, 3)]
    np.testing.assert_array_equal(data["rain"].values(), expected)
    assert data["rain"].data.dtype == np.float64
    assert data["lat"].values().tolist() == [61.5, 60.5]
    assert (data.time.calendar, str(data.time.span)) == (
        "noleap",
        "2001-01-01..2001-03-31",
    )
    assert (
        data.time.to_dates(data.time.bounds)[1, 1].isoformat() == "2001-03-01T00:00:00"
    )
    assert (data["rain"].attributes["cell_methods"], data.attributes["title"]) == (
        "time: sum",
        "Rain",
    )
    assert data.attributes["history"].endswith("build grids --description rain.toml")


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        (
            "[dataset]",
            "[dataste]",
            "line 1: there is no table 'dataste'. Did you mean dataset?",
        ),
        ("title =", "title", "this is not valid TOML: Expected '=' .*line 2"),
        (
            "names =",
            "name =",
            "line 5: there is no key 'name' in .input.. Did you mean names?",
        ),
        (
            "{month}",
            "{mon}",
            "line 5: .*there is no field '{mon}'. Did you mean month?",
        ),
        (
            "{year}{month}",
            "{month}",
            "line 5: the names of files need places for a date, as in",
        ),
        (
            "rain_{",
            "snow_{",
            "line 5: no file in .*grids fits 'snow_{year}.*; the first file in it is notes.txt",
        ),
        ('"noleap"', '"lunar"', "line 6: no calendar 'lunar'. There are: standard"),
        ("missing = 9", 'missing = "9"', "line 7: missing is a number"),
        (
            "time = 3",
            "time = 12",
            "line 10: time is to have 12 steps, and the files have 3",
        ),
        ("time = 3", "member = 12", "line 10: the files have no dimension 'member'"),
        ("time = 3", "time = 0.5", "line 10: the length of time is a whole number"),
        (
            'units = "mm"',
            "",
            'line 12: rain has no units; add units = "...", such as mm, mm day-1, kg m-2 s-1',
        ),
        (
            '"mm"',
            '"deg C"',
            "line 13: 'deg C' are not units that UDUNITS knows; write units = \"degC\"",
        ),
        (
            '"mm"',
            '"drops"',
            "line 13: 'drops' are not units that UDUNITS knows; write them like mm, mm day-1",
        ),
        (
            '"mm"',
            '"mm"\nstandard_name = "air_temperature"',
            "line 13: mm does not fit the standard name",
        ),
        (
            '"mm"',
            '"mm"\nstandard_name = "Rain"',
            "line 14: 'Rain' cannot be a standard name",
        ),
        (
            "units",
            "unit",
            "line 13: there is no key 'unit' in .variables.rain.. Did you mean units?",
        ),
        (
            "long_name =",
            "long_name = 3 #",
            "line 14: long_name is a text, in quotation marks",
        ),
        (
            '"time: sum"',
            '"summed"',
            "line 12: the cell methods 'summed' cannot be read",
        ),
        ('"float64"', '"int"', "line 16: type is 'int'; it can be float32 or float64"),
    ],
)
def test_a_mistake_in_a_description_is_named_with_its_line(grids, old, new, message):
    (grids / "rain.toml").write_text(DESCRIPTION.replace(old, new, 1))
    with pytest.raises(DataError, match=message):
        build([str(grids / "grids")], grids / "rain.toml")


def test_grids_that_do_not_fit_together_are_named(grids):
    folder = grids / "grids"
    (folder / "rain_200104.asc").write_text(
        HEAD.replace("ncols 3", "ncols 4") + "1 2 3 4\n5 6 7 8\n"
    )
    with pytest.raises(
        DataError,
        match=r"rain_200104\.asc and rain_200101\.asc do not fit together: columns 4 and 3",
    ):
        build([str(folder)], grids / "rain.toml")
    (folder / "rain_200104.asc").rename(folder / "rain_04.asc")
    with pytest.raises(
        DataError, match=r"the file rain_04\.asc does not fit 'rain_\{year\}"
    ):
        build([str(folder / "*.asc")], grids / "rain.toml")
    (folder / "rain_04.asc").write_text((folder / "rain_200101.asc").read_text())
    (folder / "rain_04.asc").rename(folder / "rain_200106.asc")
    (grids / "rain.toml").write_text(DESCRIPTION.replace("time = 3", "time = 4"))
    with pytest.warns(rhodolite.RhodoliteWarning, match="2 of the times are left out"):
        build([str(folder)], grids / "rain.toml")


@pytest.mark.slow
def test_columns_of_a_table_get_their_names_and_units(tmp_path):
    rows = (
        "Datum,Ort,breite,lon,P,Q",
        "2001-01,A,60,5,1,2",
        "2001-01,B,61,6,,4",
        "2001-02,A,60,5,5,6",
    )
    (tmp_path / "t.csv").write_text("\n".join(rows))
    lines = (
        "[columns]",
        'time = "Datum"',
        'site = "Ort"',
        'lat = "breite"',
        "[variables.rain]",
        'from = "P"',
        'units = "mm"',
        'long_name = "rain"',
    )
    (tmp_path / "t.toml").write_text("\n".join(lines))
    answer = run_here(
        "build", "t.csv", "--description", "t.toml", "-o", "t.nc", folder=tmp_path
    )
    assert (
        answer.code,
        "warning: left out, since t.toml does not describe them: Q" in answer.err,
    ) == (0, True)
    data = rhodolite.read(tmp_path / "t.nc")
    np.testing.assert_array_equal(data["rain"].values(), [[1, np.nan], [5, np.nan]])
    assert data.axes.sites == ("lat", "lon")
    for old, new, message in (
        ('"P"', '"p"', r"line 6: there is no column 'p' of numbers\. Did you mean P"),
        ('"Datum"', '"Date"', r"line 2: t\.csv has no column 'Date'"),
    ):
        (tmp_path / "u.toml").write_text(
            (tmp_path / "t.toml").read_text().replace(old, new)
        )
        with pytest.raises(DataError, match=message):
            build([str(tmp_path / "t.csv")], tmp_path / "u.toml")


def test_matrices_and_lists_of_places_with_dates_in_their_names(tmp_path):
    """The same maps, as matrices and as lists of longitude, latitude and value."""
    values = np.array([[[1.5, 2, 3], [4, 5, np.nan]], [[7, 8, 9], [10, 11, 12]]])
    for form in ("matrix", "list"):
        (tmp_path / form).mkdir()
        for at, grid in enumerate(values):
            rows = ["lat/lon,0,10E,20"]
            rows += [
                f"{60 - 10 * r},{','.join(map(str, row))}" for r, row in enumerate(grid)
            ]
            if form == "list":
                cells = [
                    (10 * c, 60 - 10 * r, grid[r, c]) for r in (0, 1) for c in (0, 1, 2)
                ]
                rows = ["x y z", *(" ".join(map(str, cell)) for cell in cells)]
            (tmp_path / form / f"rain_20010{at + 1}.txt").write_text("\n".join(rows))
        (tmp_path / "d.toml").write_text(
            '[input]\nnames = "rain_{year}{month}.txt"\n[variables.rain]\nunits = "mm"\n'
            + ('from = "z"\n' if form == "list" else "")
            + 'long_name = "rain"\n'
        )
        built = build([str(tmp_path / form)], tmp_path / "d.toml")
        rain = rhodolite.Subset(lat="40..70")(built)["rain"]
        south_first = built["lat"].values()[0] < built["lat"].values()[-1]
        expected = values[:, ::-1] if south_first else values
        np.testing.assert_array_equal(rain.values(), expected)
        assert [date.month for date in built.time.reference_dates] == [1, 2]
        np.testing.assert_array_equal(built["lon"].values(), [0, 10, 20])


@pytest.mark.slow
def test_build_says_what_it_needs_and_the_demo_can_be_built(demo, tmp_path):
    for words, message in (
        (["-o", "a.nc"], "no input"),
        (["x.asc", "-o", "a.nc"], "no description; add --description FILE"),
        (["x.asc", "--description", "d.toml"], "no output"),
    ):
        answer = run_here("build", *words, folder=tmp_path)
        assert (answer.code, message in answer.err) == (2, True)
    made = build([str(demo / "snow")], demo / "snow.toml")
    np.testing.assert_array_equal(made["snow"].values(), snow()["snow"].values())
