"""Several files as one dataset: in time, over variables, and why some do not fit together."""

from __future__ import annotations

import json
import subprocess
import sys
import warnings
from pathlib import Path

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError


@pytest.fixture
def years(tmp_path, rng):
    """Three years of monthly data, a file each, named against the order of time, with units of
    their own."""
    values = rng.normal(size=(36, 3, 4)).astype("f4")
    for number, (name, year) in enumerate((("c", 2001), ("a", 2002), ("b", 2003))):
        days = 15 + 30 * np.arange(12)
        write_plain(
            tmp_path / f"{name}.nc",
            values[12 * number : 12 * number + 12],
            times=days,
            units=f"days since {year}-01-01",
            calendar="360_day",
        )
    return tmp_path, values


def test_files_come_in_the_order_of_time(years):
    folder, values = years
    data = rhodolite.read(str(folder / "*.nc"))
    np.testing.assert_array_equal(data["tas"].values(), values)
    assert [(d.year, d.month, d.day) for d in data.time.dates[[0, 12, 35]]] == [
        (2001, 1, 16),
        (2002, 1, 16),
        (2003, 12, 16),
    ]
    assert data.time.step.missing == 0
    assert [f.path.name for f in data.files] == ["c.nc", "a.nc", "b.nc"]


def test_a_year_left_out_is_told(years):
    folder, _ = years
    assert rhodolite.read([folder / "b.nc", folder / "c.nc"]).time.step.missing == 12


def test_files_of_other_variables_are_put_beside(years):
    folder, values = years
    write_plain(
        folder / "pr.nc",
        values,
        times=15 + 30 * np.arange(36),
        units="days since 2001-01-01",
        name="pr",
        calendar="360_day",
        attributes={"units": "mm day-1"},
    )
    data = rhodolite.read([*folder.glob("?.nc"), folder / "pr.nc"])
    assert [v.name for v in data.fields] == ["tas", "pr"]
    np.testing.assert_array_equal(data["pr"].values(), data["tas"].values())


def test_only_what_holds_for_all_files_is_kept_of_the_description(demo):
    data = rhodolite.read(str(demo / "nordic_daily_201[0-2].nc"))
    assert "signals" in data.attributes
    assert data.lengths["time"] == 365 + 365 + 366


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({}, r"a\.nc and d\.nc both hold times from 2002-01-16"),
        (
            {"lats": [0, 1, 2.5]},
            r"lat differs in 1 places, first at number 3: 2 and 2\.5",
        ),
        ({"shape": (12, 2, 4)}, r"lat has 3 values in one and 2 in the other"),
        ({"calendar": "noleap"}, r"calendars are 360_day and noleap"),
        (
            {"attributes": {"units": "degC"}},
            r"tas is in K in one and in degC in the other",
        ),
        (
            {"format": "NETCDF3_CLASSIC", "lons": [0, 1, 2, 3 + 1e-9]},
            r"both hold times",
        ),
    ],
    ids=["overlap", "grid", "size", "calendar", "units", "jitter is tolerated"],
)
def test_files_that_do_not_fit_are_named_with_what_differs(years, change, message):
    folder, values = years
    change = dict(change)
    shape = change.pop("shape", (12, 3, 4))
    units = (
        "days since 2002-01-01" if "both hold" in message else "days since 2010-01-01"
    )
    given = {
        "times": 15 + 30 * np.arange(12),
        "units": units,
        "calendar": "360_day",
        **change,
    }
    write_plain(folder / "d.nc", np.resize(values, shape), **given)
    with pytest.raises(DataError, match=message):
        rhodolite.read(sorted(folder.glob("*.nc")))


def test_a_variable_that_only_some_files_hold_is_named(years):
    import netCDF4

    folder, _ = years
    with netCDF4.Dataset(folder / "b.nc", "a") as file:
        file.createVariable("pr", "f4", ("time", "lat", "lon"))
    with pytest.raises(
        DataError,
        match=r"c\.nc does not hold the variable 'pr' that b\.nc holds|a\.nc does not hold",
    ):
        rhodolite.read(str(folder / "*.nc"))


@pytest.mark.parametrize(("overlap", "counts"), [("first", 1.0), ("last", 2.0)])
@pytest.mark.parametrize("span", [(6, 18), (3, 9)], ids=["beyond the end", "within"])
def test_where_two_files_hold_the_same_times_the_one_asked_for_counts(
    tmp_path, overlap, counts, span
):
    for number, (first, last) in enumerate([(0, 12), span], start=1):
        write_plain(
            tmp_path / f"{number}.nc",
            np.full((last - first, 2, 3), float(number)),
            times=np.arange(first, last),
        )
    with pytest.raises(DataError, match="join them with --overlap first or last"):
        rhodolite.read(str(tmp_path / "?.nc"))
    answer = run_here(
        "join",
        tmp_path / "1.nc",
        tmp_path / "2.nc",
        "--overlap",
        overlap,
        "-o",
        tmp_path / "all.nc",
    )
    assert answer.code == 0, answer.err
    joined = rhodolite.read(tmp_path / "all.nc")
    assert joined["time"].values().tolist() == list(range(max(12, span[1])))
    expected = np.where(np.arange(max(12, span[1])) < span[0], 1.0, 2.0)
    expected[span[1] :] = 1.0
    expected[span[0] : min(12, span[1])] = counts
    assert joined["tas"].values()[:, 0, 0].tolist() == expected.tolist()


def test_a_collection_is_an_input_like_any_file(years, tmp_path):
    folder, values = years
    (tmp_path / "sub").mkdir()
    answer = run_here("join", "?.nc", "-o", "sub/all.toml", folder=folder)
    assert (answer.code, (tmp_path / "sub" / "all.toml").read_text()) == (
        0,
        '[collection]\nfiles = ["../?.nc"]\n',
    )
    with (tmp_path / "sub" / "all.toml").open("a") as file:
        file.write(
            '[attributes]\ntitle = "Three years"\n[variables.tas]\ncomment = "checked"\n'
        )
    data = rhodolite.read(tmp_path / "sub" / "all.toml")
    np.testing.assert_array_equal(data["tas"].values(), values)
    assert (data.attributes["title"], data["tas"].attributes["comment"]) == (
        "Three years",
        "checked",
    )
    assert len(data.files) == 3
    assert run_here("join", "?.nc", "-o", "sub/all.toml", folder=folder).code == 4


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("[collection", "this is not valid TOML"),
        (
            "[collection]\nfile = ['a.nc']",
            "there is no key of \\[collection\\] 'file'. Did you mean files",
        ),
        ("[collection]\nfiles = 'a.nc'", r'needs files = \["PATTERN", ...\]'),
        (
            "[collection]\nfiles = ['?.nc']\noverlap = 'both'",
            "overlap is 'both'; it can be first or last",
        ),
        (
            "[collection]\nfiles = ['?.nc']\n[variables.pr]\na = 'b'",
            r"\[variables.pr\]: no such variable",
        ),
        ("[collection]\nfiles = ['x*.nc']", r"x\*\.nc: no file fits this pattern"),
        (
            "[collection]\nfiles = ['?.nc']\n[attributes]\na = {b = 1}",
            r"a = .* cannot be an",
        ),
        (
            "[collection]\nfiles = ['?.nc']\n[variables.tas]\n_FillValue = 1",
            "how numbers are stored",
        ),
        ("variables = 3\n[collection]\nfiles = ['?.nc']", "has a table for each"),
        ("collection = 3", "write \\[collection\\] on a line"),
        ("[files]", "there is no table 'files'"),
    ],
)
def test_a_mistake_in_a_collection_is_named(years, text, message):
    folder, _ = years
    (folder / "all.toml").write_text(text)
    with pytest.raises(DataError, match=message):
        rhodolite.read(folder / "all.toml")


@pytest.mark.slow
@pytest.mark.parametrize("bare", ["c", "b"])
def test_bounds_of_some_files_are_refused_with_what_to_type(years, bare):
    """Whether the first or the last in time has none; with what is said all are joined."""
    folder, _ = years
    for name in "abc":
        words = ("convert", f"{name}.nc", "--stamp", "middle", "-o", f"{name}_new.nc")
        assert run_here(*words, folder=folder).code == 0
        if name != bare:
            (folder / f"{name}_new.nc").replace(folder / f"{name}.nc")
    files = [f"{name}.nc" for name in "abc"]
    answer = run_here("join", *files, "-o", "all.nc", folder=folder)
    assert answer.code == 3 and f"convert {bare}.nc --stamp start -o" in answer.err
    (folder / f"{bare}_new.nc").replace(folder / f"{bare}.nc")
    assert run_here("join", *files, "-o", "all.nc", folder=folder).code == 0


def test_join_says_what_it_needs(years):
    folder, _ = years
    for words, message in (
        (["-o", "a.nc"], "join: no input"),
        (["a.nc"], "join: no output; add -o all.nc, or -o all.toml"),
        (["a.nc", "-o", "x.png"], "names no format to write a dataset in"),
        (
            ["a.nc", "--overlap", "both", "-o", "x.nc"],
            "--overlap: 'both' is not offered",
        ),
    ):
        answer = run_here("join", *words, folder=folder)
        assert answer.code == 2
        assert message in answer.err


@pytest.mark.slow
@pytest.mark.long
def test_more_files_than_a_process_may_hold_open(tmp_path):
    for day in range(150):
        values = np.full((1, 4, 5), float(day))
        write_plain(
            tmp_path / f"{day:03d}.nc",
            values,
            times=[day],
            compression="zlib",
            chunksizes=(1, 4, 5),
        )
    tool = Path(sys.executable).with_name("rhodolite")
    command = f"ulimit -n 110; {tool} inspect '{tmp_path}/*.nc' --statistics --json"
    done = subprocess.run(["bash", "-c", command], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)["variables"][0]["statistics"]
    assert (found["minimum"], found["maximum"], found["values"]) == (0, 149, 3000)


@pytest.mark.parametrize(
    "change", ["units", "calendar", "direction", "longitude", "names", "order"]
)
def test_files_that_say_the_same_in_other_words_are_joined(tmp_path, rng, change):
    """The second of two years differs in one thing that loses nothing; the joined values are those
    of both."""
    values, lats, lons = (
        rng.random((24, 3, 4)),
        np.array([10.0, 20, 30]),
        np.array([0.0, 90, 180, 270]),
    )
    for year in (0, 1):
        part, north, east, dims = (
            values[12 * year : 12 * year + 12],
            lats,
            lons,
            ["time", "lat", "lon"],
        )
        words = dict(zip(dims, dims, strict=True))
        if year and change == "direction":
            part, north = part[:, ::-1], north[::-1]
        if year and change == "longitude":
            part, east = part[..., [2, 3, 0, 1]], np.array([-180.0, -90, 0, 90])
        if year and change == "names":
            words |= {"lat": "latitude", "lon": "longitude"}
        if year and change == "order":
            dims, part = ["lon", "time", "lat"], part.transpose(2, 0, 1)
        with netCDF4.Dataset(tmp_path / f"{year}.nc", "w") as file:
            for name, along, units in (
                ("time", np.arange(12) * 30 + 365 * year + 15, "days since 2000-01-01"),
                ("lat", north, "degrees_north"),
                ("lon", east, "degrees_east"),
            ):
                file.createDimension(words[name], len(along))
                file.createVariable(words[name], "f8", (words[name],)).units = units
                file[words[name]][:] = along
            file[words["time"]].calendar = (
                "proleptic_gregorian" if year and change == "calendar" else "standard"
            )
            made = file.createVariable("v", "f8", [words[name] for name in dims])
            made.units = "meter/second" if year and change == "units" else "m s-1"
            made[:] = part
    joined = rhodolite.read([tmp_path / "0.nc", tmp_path / "1.nc"])
    assert joined["v"].dimensions == ("time", "lat", "lon")
    np.testing.assert_array_equal(joined["v"].values(), values)
    np.testing.assert_array_equal(joined.variables["lon"].values(), lons)
    assert joined.time.years.tolist() == [2000] * 12 + [2001] * 12


def test_coordinates_that_are_missing_are_not_alike(tmp_path, rng):
    for day, lats in ((0, [0, 1]), (1, [0, np.nan])):
        write_plain(
            tmp_path / f"{day}.nc", rng.random((1, 2, 2)), times=[day], lats=lats
        )
    with pytest.raises(
        DataError, match=r"the latitude \(lat\) of 1.nc has missing values"
    ):
        rhodolite.read([tmp_path / "0.nc", tmp_path / "1.nc"])


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
@pytest.mark.parametrize(
    ("name", "key", "written"),
    [
        ("tas", "units", "deg C"),
        ("tas", "units", "C"),
        ("time", "units", "DAYS SINCE 20000101"),
        ("lat", "units", "radian"),
        ("tas", "coordinates", "lat, lon"),
    ],
)
def test_words_are_understood_before_files_are_joined(tmp_path, name, key, written):
    """Files that are alike but for how one says it; in either order."""
    values = np.arange(36.0).reshape(6, 2, 3)
    lats = np.array([10.0, 20.0])
    about = {"units": "degC", "standard_name": "air_temperature"}
    for at, file in enumerate(("a.nc", "b.nc")):
        steps = slice(3 * at, 3 * at + 3)
        write_plain(
            tmp_path / file,
            values[steps],
            times=np.arange(6.0)[steps],
            lats=lats,
            lons=[0.0, 10.0, 20.0],
            attributes=about,
        )
    with netCDF4.Dataset(tmp_path / "b.nc", "a") as file:
        file["tas"].coordinates = "lat lon"
        file[name].setncattr(key, written)
        if written == "radian":
            file["lat"][:] = np.radians(lats)
    for order in (("a.nc", "b.nc"), ("b.nc", "a.nc")):
        joined = rhodolite.read([tmp_path / part for part in order])
        np.testing.assert_array_equal(joined["tas"].values(), values)
        assert joined["tas"].units == "degC"
        np.testing.assert_allclose(joined["lat"].values(), lats)
        assert str(joined.dates[0])[:10] == "2000-01-01"


@pytest.mark.parametrize("other", [1, 2])
def test_a_coordinate_of_one_value_that_is_another_is_told(tmp_path, other):
    """Of forecasts that follow each other one beginning alone can stand for all."""
    for at, member in enumerate((1, other)):
        path = tmp_path / f"{at}.nc"
        write_plain(path, np.zeros((2, 2, 2)), times=[2 * at, 2 * at + 1], kind="f8")
        with netCDF4.Dataset(path, "a") as file:
            realization = file.createVariable("realization", "i4", ())
            realization.standard_name = "realization"
            realization[...] = member
            file["tas"].coordinates = "realization"
    inputs = [tmp_path / "0.nc", tmp_path / "1.nc"]
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        joined = rhodolite.read(inputs)
    words = [str(warning.message) for warning in told]
    expected = "realization is 1 in 0.nc and 2 in 1.nc, and a dataset has one"
    assert any(expected in line for line in words) == (other == 2)
    assert joined["realization"].values() == 1
