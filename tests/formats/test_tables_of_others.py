"""Tables that are no text give the dataset that the same table of text gives, and come back."""

import gzip

import netCDF4
import numpy as np
import pandas
import pytest

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError, RhodoliteError

KINDS = ("csv", "tsv", "csv.gz", "parquet")


def same(first, second):
    """Refuse datasets that differ in a name, a unit or a value."""
    assert first.variables.keys() == second.variables.keys()
    for name, variable in first.variables.items():
        other = second.variables[name]
        assert variable.dimensions == other.dimensions
        assert variable.attributes.items() <= other.attributes.items()
        if variable.data.dtype.kind == "f":
            np.testing.assert_array_equal(variable.values(), other.values())
        else:
            assert variable.values().tolist() == other.values().tolist()


@pytest.mark.parametrize("kind", KINDS)
def test_differences_of_temperature_are_that_in_tables(tmp_path, rng, kind):
    """They are converted as in the file that they were written from; what no number tells warns."""
    values = rng.normal(280, 5, (24, 3, 2))
    write_plain(tmp_path / "a.nc", values, times=np.arange(24) * 30.4 + 15, kind="f8")
    to_degrees = ("then", "convert", "--units", "tas=degF")
    for words in (
        ("anomaly", "a.nc", "--min-years", "1"),
        ("detrend", "a.nc"),
        ("aggregate", "a.nc", "--to", "season", "--statistic", "std"),
    ):
        table = f"table.{kind}"
        for more, output in (((), table), (to_degrees, "whole.nc")):
            line = (*words, *more, "-o", output, "--overwrite")
            assert run_here(*line, folder=tmp_path).code == 0
        line = ("subset", table, *to_degrees, "-o", "back.nc", "--overwrite")
        answer = run_here(*line, folder=tmp_path)
        assert answer.code == 0, answer.err
        if words[0] == "aggregate" and kind != "parquet":
            assert "though it may be a difference" in answer.err
            continue
        here, back = (
            rhodolite.read(tmp_path / n)["tas"] for n in ("whole.nc", "back.nc")
        )
        np.testing.assert_allclose(back.values(), here.values(), rtol=1e-6, atol=1e-9)
        assert back.attributes["units_metadata"] == "temperature: difference"


@pytest.mark.parametrize("units", ["days since 2000-01-01", "hours since 2000-01-31"])
def test_every_kind_of_table_holds_the_same(tmp_path, rng, units):
    values = rng.normal(280, 5, (4, 3, 2)).astype("f4")
    values[1, 2, 0] = np.nan
    path = write_plain(tmp_path / "a.nc", values, units=units, lats=[10, 20, 30])
    for kind in KINDS:
        answer = run_here("subset", path, "-o", tmp_path / f"a.{kind}")
        assert answer.code == 0, answer.err
    first = rhodolite.read(tmp_path / "a.csv")
    np.testing.assert_array_equal(first["tas"].values().astype("f4"), values)
    for kind in KINDS[1:]:
        same(first, rhodolite.read(tmp_path / f"a.{kind}"))
    with gzip.open(tmp_path / "a.csv.gz") as file:
        assert file.read() == (tmp_path / "a.csv").read_bytes()
    frame = pandas.read_parquet(tmp_path / "a.parquet")
    assert frame["tas [K]"].dtype == np.float32
    np.testing.assert_array_equal(frame["tas [K]"], values.ravel())


def test_sheets_and_frames_of_others_are_read_as_text_would_be(tmp_path):
    """Moments, whole numbers, words and gaps in a workbook, in Parquet, and as text."""
    frame = pandas.DataFrame(
        {
            "date": pandas.date_range("2001-01-01", periods=6, freq="6h"),
            "site": ["Ruby", "Opal"] * 3,
            "lat": [60.5, 61] * 3,
            "lon": [8, 9.25] * 3,
            "rain [mm]": [0.1, 2, np.nan, 1e-9, 123456789012.25, 3],
            "grade": pandas.array([1, 2, None, 4, 5, 6], dtype="Int64"),
        }
    )
    frame["date"] = np.repeat(frame["date"][::2].to_numpy(), 2)
    frame.to_csv(tmp_path / "t.csv", index=False)
    frame.to_parquet(tmp_path / "t.parquet")
    frame.set_index(["date", "site"]).to_parquet(tmp_path / "indexed.parquet")
    with pandas.ExcelWriter(tmp_path / "t.xlsx") as book:
        pandas.DataFrame().to_excel(book, sheet_name="empty", index=False)
        frame.to_excel(book, sheet_name="rain", index=False)
        frame[:2].to_excel(book, sheet_name="first", index=False)
    text = rhodolite.read(tmp_path / "t.csv")
    assert text.time.step.ticks == 12 * 3600 * 10**6
    same(text, rhodolite.read(tmp_path / "t.parquet"))
    same(text, rhodolite.read(tmp_path / "indexed.parquet"))
    with pytest.warns(UserWarning, match="'rain' is read; first"):
        book = rhodolite.read(tmp_path / "t.xlsx")
    same(text, book)
    assert rhodolite.read(tmp_path / "t.xlsx", group="first")["time"].shape == (1,)
    with pytest.raises(DataError, match=r"no sheet 'Rain'.*Did you mean"):
        rhodolite.read(tmp_path / "t.xlsx", group="Rain")


def test_rows_are_chosen_and_ordered_as_in_text(tmp_path, rng):
    path = write_plain(tmp_path / "a.nc", rng.normal(280, 5, (2, 3, 2)))
    for kind in ("csv", "parquet"):
        run_here(
            "subset",
            path,
            "--sort",
            "tas:down",
            "--first",
            3,
            "-o",
            tmp_path / f"s.{kind}",
        )
    text, frame = (
        pandas.read_csv(tmp_path / "s.csv"),
        pandas.read_parquet(tmp_path / "s.parquet"),
    )
    pandas.testing.assert_frame_equal(text, frame, check_dtype=False)
    assert len(frame) == 3


def test_what_is_damaged_is_said_with_its_name(tmp_path, rng):
    path = write_plain(tmp_path / "a.nc", rng.normal(280, 5, (2, 3, 2)))
    run_here("subset", path, "-o", tmp_path / "a.parquet")
    whole = (tmp_path / "a.parquet").read_bytes()
    (tmp_path / "cut.parquet").write_bytes(whole[:-30])
    with pytest.raises(DataError, match=r"cut\.parquet: cannot be read"):
        rhodolite.read(tmp_path / "cut.parquet")


def test_formats_are_listed_with_what_is_to_be_installed(tmp_path, monkeypatch):
    from rhodolite.formats import extras

    monkeypatch.setitem(extras._PACKAGES, "grib", ("no_such_package",))
    lines = run_here("inspect", "--formats").out.splitlines()
    grib = next(line for line in lines if line.startswith("GRIB"))
    assert grib.endswith("pip install 'rhodolite[grib]'")
    assert not any("[geotiff]" in line for line in lines)
    (tmp_path / "a.grib").write_bytes(b"GRIB" + bytes(40))
    answer = run_here("inspect", tmp_path / "a.grib")
    assert "GRIB needs an extra package: pip install 'rhodolite[grib]'" in answer.err


@pytest.mark.parametrize("decimals", [2, 3, 4, 9])
@pytest.mark.parametrize("offset", [0, 0.5])
@pytest.mark.parametrize("title", ["year", "time", "decimal_year"])
def test_years_with_decimals_are_the_months_that_they_stand_for(
    tmp_path, decimals, offset, title
):
    """In tables and in files alike, as in a table that writes its months out."""
    count = 26
    years = np.round(2001 + (np.arange(count) + offset) / 12, decimals)
    values = np.arange(float(count))
    months = [f"{2001 + m // 12}-{m % 12 + 1:02d}" for m in range(count)]
    for name, times in (("decimal", years), ("written", months)):
        rows = [f"{time},{value}" for time, value in zip(times, values, strict=True)]
        (tmp_path / f"{name}.csv").write_text("\n".join([f"{title},t [K]", *rows]))
    words = (tmp_path / "written.csv").read_text().replace(f"{title},", "time,", 1)
    (tmp_path / "written.csv").write_text(words)
    write_series(tmp_path / "file.nc", years, "years", values)
    table, written, file = (
        rhodolite.read(tmp_path / name).aggregate(to="season", min_coverage=0)["t"]
        for name in ("decimal.csv", "written.csv", "file.nc")
    )
    np.testing.assert_array_equal(table.values(), written.values())
    np.testing.assert_allclose(file.values(), written.values(), rtol=1e-6)


def write_series(path, times, units, values):
    with netCDF4.Dataset(path, "w") as target:
        target.createDimension("time", values.size)
        for name, numbers, unit in (("time", times, units), ("t", values, "K")):
            variable = target.createVariable(name, "f8", ("time",))
            variable.units = unit
            variable[:] = numbers


@pytest.mark.parametrize(
    ("times", "first", "step"),
    [
        (("2001.5", "2002.5", "2003.5"), "2001-07-02", "every year"),
        (("2001.000", "2001.0027", "2001.0055"), "2001-01-01", "every"),
        (("2001.25", "2001.5", "2001.75"), "2001-04-02", "every 3 months"),
    ],
)
def test_other_years_with_decimals_are_moments(tmp_path, times, first, step):
    rows = [f"{time},{at}" for at, time in enumerate(times)]
    (tmp_path / "a.csv").write_text("\n".join(["year,t [K]", *rows]))
    axis = rhodolite.read(tmp_path / "a.csv").need_time()
    assert axis.dates[0].strftime("%Y-%m-%d") == first
    assert step in str(axis.step)


def test_points_between_years_and_months_or_days_stay_what_they_were(tmp_path):
    for times, first in (
        (("2001.01", "2001.12"), "2001-01"),
        (("2001.032", "2001.365"), "2001-02-01"),
    ):
        (tmp_path / "a.csv").write_text(f"time,t [K]\n{times[0]},1\n{times[1]},2\n")
        axis = rhodolite.read(tmp_path / "a.csv").need_time()
        assert axis.dates[0].strftime("%Y-%m-%d").startswith(first)


def further(rng):
    """Return results that lie along more than time and place."""
    times = np.arange("2001-01", "2011-01", dtype="M8[M]").astype("M8[D]")
    coordinates = {
        "member": [1, 2, 5],
        "time": times,
        "lat": [50.0, 51.0],
        "lon": [0.0, 1.0],
    }
    values = rng.normal(280, 5, (3, 120, 2, 2))
    members = rhodolite.from_arrays({"tas": values}, coordinates, units={"tas": "K"})
    return {
        "members": members.summarise(),
        "grid of members": members,
        "spectra": members.summarise().spectrum(),
        "latitudes": members.summarise(over="lon"),
        "harmonics": members.spectrum(harmonics=2),
    }


@pytest.mark.parametrize(
    "what", ["members", "grid of members", "spectra", "latitudes", "harmonics"]
)
def test_results_along_other_axes_come_back_from_tables(tmp_path, rng, what):
    result = further(rng)[what]
    result.write(tmp_path / "a.csv")
    back = rhodolite.read(tmp_path / "a.csv")
    names = [variable.name for variable in result.fields]
    units = {v.name: v.units or "1" for v in result.fields}
    units |= {name: "1" for name in ("frequency", "harmonic") if name in result.lengths}
    frame = rhodolite.from_pandas(result.to_pandas(), units=units)
    for other in (back, frame):
        assert [variable.name for variable in other.fields] == names
        for name in names:
            assert other[name].dimensions == result[name].dimensions
            np.testing.assert_allclose(other[name].values(), result[name].values())
    result.write(tmp_path / "a.nc")
    for verb, options in (("summarise", {"over": "ensemble"}), ("trend", {})):
        try:
            expected = getattr(rhodolite.read(tmp_path / "a.nc"), verb)(**options)
        except RhodoliteError:  # no times, for one
            continue
        table = getattr(back, verb)(**options)
        for variable in expected.fields:
            there = table[variable.name].values()
            if variable.numeric and variable.units != "%":
                np.testing.assert_allclose(there, variable.values(), rtol=1e-5)


def test_regions_in_tables_are_an_axis(tmp_path):
    rows = ["time,region_name,t [K],kind"]
    for month in ("2001-01", "2001-02"):
        rows += [f"{month},Skarn,1,hill", f"{month},Ulv,2,fen"]
    (tmp_path / "a.csv").write_text("\n".join(rows))
    data = rhodolite.read(tmp_path / "a.csv")
    assert data["t"].dimensions == ("time", "region")
    assert data["region_name"].values().tolist() == ["Skarn", "Ulv"]
    frame = pandas.read_csv(tmp_path / "a.csv").drop(columns="kind")
    frame["time"] = pandas.to_datetime(frame["time"])
    again = rhodolite.from_pandas(
        frame.rename(columns={"t [K]": "t"}), units={"t": "K"}
    )
    assert again["t"].dimensions == ("time", "region")
    np.testing.assert_array_equal(again["t"].values(), data["t"].values())
    means = data.summarise(over="time")
    assert means["t"].values().tolist() == [1.0, 2.0]
    # One region is none to tell apart, and a column of a site's region is what it was.
    (tmp_path / "b.csv").write_text("time,region,t [K]\n2001-01,N,1\n2001-02,N,2\n")
    assert rhodolite.read(tmp_path / "b.csv")["t"].dimensions == ("time",)
    twice = "time,member,t [K]\n2001-01,1,1\n2001-01,1,2\n"
    (tmp_path / "c.csv").write_text(twice)
    with pytest.raises(DataError, match="lines 2 and 3"):
        rhodolite.read(tmp_path / "c.csv")


def test_what_tells_of_sites_lies_along_sites(tmp_path):
    rows = ["time,name,country,lat,lon,elevation [m],tas [K]"]
    # A word that is left out in a row says nothing against the others.
    for month, more, country in (("2001-01", 0, "Nor"), ("2001-02", 5, "")):
        rows += [
            f"{month},Olm,{country},50,0,120,{280 + more}",
            f"{month},Ulv,Sue,51,3,,{270 + more}",
        ]
    (tmp_path / "a.csv").write_text("\n".join(rows))
    data = rhodolite.read(tmp_path / "a.csv")
    assert data["elevation"].dimensions == ("site",)
    assert data["country"].dimensions == ("site",)
    assert data["country"].values().tolist() == ["Nor", "Sue"]
    assert [variable.name for variable in data.fields] == ["tas"]
    assert np.isnan(data["elevation"].values()).tolist() == [False, True]
