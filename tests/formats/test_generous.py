"""Files nobody prepared: what they half say is understood and said once, what cannot be known is
not guessed."""

from __future__ import annotations

import warnings

import netCDF4
import numpy as np
import pyproj
import pytest
import rasterio
from hypothesis import assume, given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here, write_plain
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import Engine, InMemory
from rhodolite.errors import DataError, RhodoliteWarning
from rhodolite.formats.cf import projection_coordinates
from rhodolite.formats.normalise import normalise
from rhodolite.kernels.sphere import from_rotated, great_circle
from rhodolite.model.time.time_units import plain_time_units
from rhodolite.model.variable import Variable


def plain(name, dimensions, values, **attributes):
    return Variable(name, dimensions, InMemory(np.asarray(values)), attributes)


def dataset(*variables):
    return Dataset({v.name: v for v in variables})


def test_units_as_people_write_them_are_read_and_said(tmp_path):
    write_plain(
        tmp_path / "a.nc", np.full((2, 3, 4), 5.0), attributes={"units": "deg C"}
    )
    answer = run_here(
        "convert", tmp_path / "a.nc", "--units", "tas=K", "-o", tmp_path / "b.nc"
    )
    assert answer.code == 0
    assert (
        answer.err.splitlines()[-1]
        == "warning: a.nc: the units 'deg C' of tas are read as degC"
    )
    assert rhodolite.read(tmp_path / "b.nc")["tas"].values()[0, 0, 0] == pytest.approx(
        278.15
    )


def test_of_two_latitudes_the_one_along_the_data_is_taken_and_said():
    made = dataset(
        plain("lat", ("lat",), [1.0, 2.0], units="degrees_north"),
        plain("lat_2", ("lat_2",), [1.0, 2.0, 3.0], units="degrees_north"),
        plain("lon", ("lon",), [1.0], units="degrees_east"),
        plain("a", ("lat_2", "lon"), np.ones((3, 1))),
    )
    with pytest.warns(
        RhodoliteWarning, match="lat_2, lat could each be the latitude; lat_2 is taken"
    ):
        assert rhodolite.Subset(lat="2..3")(normalise(made))["a"].shape == (2, 1)


def test_two_dimensional_positions_that_nothing_names_are_attached(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createDimension("j", 3)
        file.createDimension("i", 4)
        for name, values in (
            ("nav_lat", 60 + np.arange(12.0) / 10),
            ("nav_lon", 5 + np.arange(12.0) / 10),
        ):
            file.createVariable(name, "f8", ("j", "i"))[:] = values.reshape(3, 4)
        file.createVariable("sst", "f4", ("j", "i"))[:] = np.arange(12).reshape(3, 4)
    answer = run_here(
        "subset", tmp_path / "a.nc", "--lat", "60.35..60.85", "-o", tmp_path / "b.nc"
    )
    assert "nav_lat and nav_lon are taken as the positions of sst" in answer.err
    out = rhodolite.read(tmp_path / "b.nc")
    assert out["sst"].values().tolist()[0] == [4, 5, 6, 7]
    assert np.isnan(out["sst"].values()[1, 1:]).all()
    assert out["sst"].attributes["coordinates"] == "nav_lat nav_lon"
    assert out["nav_lat"].attributes["standard_name"] == "latitude"


def test_days_written_as_figures_of_the_calendar():
    made = make_dataset(
        np.ones((3, 2, 2)),
        times=[20010131, 20010201.25, 20010301.5],
        units="day as %Y%m%d.%f",
    )
    assert [d.isoformat() for d in normalise(made).time.dates] == [
        "2001-01-31T00:00:00",
        "2001-02-01T06:00:00",
        "2001-03-01T12:00:00",
    ]
    with pytest.raises(DataError, match="time holds a number that is not a date"):
        normalise(
            make_dataset(np.ones((1, 2, 2)), times=[20011331], units="day as %Y%m%d.%f")
        )


def test_references_to_what_is_not_there_are_dropped_and_said():
    made = make_dataset(
        np.ones((1, 2, 2)),
        attributes={"coordinates": "time height", "grid_mapping": "crs"},
    )
    with pytest.warns(RhodoliteWarning) as said:
        attributes = normalise(made)["tas"].attributes
    assert attributes["coordinates"] == "time"
    assert "grid_mapping" not in attributes
    assert sorted(str(w.message).split(": ")[1] for w in said) == [
        "tas refers to crs as grid_mapping, which is not there",
        "tas refers to height as coordinates, which is not there",
    ]


@pytest.mark.slow
@pytest.mark.parametrize(
    ("change", "words", "message"),
    [
        (
            {"lats": [0, np.nan, 2]},
            ["subset", "--lat", "0..1"],
            r"the latitude coordinate \(lat\) has missing values",
        ),
        (
            {"units": "fortnights since then"},
            ["subset", "--time", "2001"],
            "time coordinate 'time' with units",
        ),
        (
            {"values": np.ones((0, 3, 4))},
            ["subset", "--time", "2001"],
            r"the time axis \(time\) has no steps",
        ),
        (
            {"values": np.ones((0, 3, 4))},
            ["anomaly"],
            r"the time axis \(time\) has no steps",
        ),
    ],
    ids=[
        "a coordinate with missing values",
        "time that cannot be read",
        "no steps",
        "nothing to average",
    ],
)
def test_what_cannot_be_known_is_refused_where_it_is_needed_and_not_before(
    tmp_path, change, words, message
):
    values = change.pop("values", np.ones((2, 3, 4)))
    path = write_plain(tmp_path / "a.nc", values, **change)
    if "units" not in change:
        assert run_here("inspect", path).code == 0
    answer = run_here(words[0], path, *words[1:], "-o", tmp_path / "b.nc")
    assert answer.code == 3
    with pytest.raises(AssertionError, match=message):
        raise AssertionError(answer.err)


def test_names_with_spaces_no_coordinates_and_no_calendar_do_no_harm(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n in (("time", 2), ("lat", 3), ("lon", 4), ("member no", 2)):
            file.createDimension(name, n)
        for name, units in (
            ("time", "days since 2001-01-01"),
            ("lat", "degrees_north"),
            ("lon", "degrees_east"),
        ):
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = np.arange(len(file.dimensions[name]))
        made = file.createVariable("my rain", "f4", ("member no", "time", "lat", "lon"))
        made.units = "mm"
        made[:] = np.arange(48).reshape(2, 2, 3, 4)
    answer = run_here(
        "subset",
        tmp_path / "a.nc",
        "--variable",
        "my rain",
        "--at",
        "1N,2E",
        "-o",
        tmp_path / "b.nc",
    )
    assert (answer.code, answer.err.count("\n")) == (0, 1)
    out = rhodolite.read(tmp_path / "b.nc")
    assert out["my rain"].values().ravel().tolist() == [6, 18, 30, 42]
    assert out.time.calendar == "standard"


MAPPINGS = [
    {
        "grid_mapping_name": "lambert_conformal_conic",
        "standard_parallel": [55.0, 65.0],
        "longitude_of_central_meridian": 15.0,
        "latitude_of_projection_origin": 60.0,
    },
    {
        "grid_mapping_name": "polar_stereographic",
        "latitude_of_projection_origin": 90.0,
        "standard_parallel": 70.0,
        "straight_vertical_longitude_from_pole": -45.0,
    },
]


@pytest.mark.parametrize(
    "mapping", MAPPINGS, ids=lambda mapping: mapping["grid_mapping_name"]
)
def test_projected_grids_get_latitudes_and_longitudes(mapping):
    x, y = np.arange(-400.0, 401, 50), np.arange(-300.0, 301, 50)
    made = dataset(
        plain("x", ("x",), x, standard_name="projection_x_coordinate", units="km"),
        plain("y", ("y",), y, standard_name="projection_y_coordinate", units="km"),
        plain("crs", (), np.int32(0), **mapping),
        plain(
            "tas",
            ("y", "x"),
            np.arange(221.0).reshape(13, 17),
            units="K",
            grid_mapping="crs",
        ),
    )
    data = normalise(made)
    assert data.axes.curvilinear == ("lat", "lon")
    place = pyproj.Proj(pyproj.CRS.from_cf(mapping))(100e3, -50e3, inverse=True)
    assert (data["lon"].values()[5, 10], data["lat"].values()[5, 10]) == pytest.approx(
        place, abs=1e-9
    )
    assert (
        rhodolite.Subset(at=f"{place[1]:.3f}N,{place[0]:.3f}E")(data)["tas"]
        .values()
        .item()
        == 95
    )
    part = rhodolite.Subset(variable="tas")(data)
    assert {"crs", "lat", "lon", "x", "y"} <= set(part.variables)


def test_without_pyproj_the_message_says_what_to_install(monkeypatch):
    monkeypatch.setattr(
        projection_coordinates.importlib.util, "find_spec", lambda _: None
    )
    made = dataset(
        plain("x", ("x",), [0.0], standard_name="projection_x_coordinate", units="m"),
        plain("y", ("y",), [0.0], standard_name="projection_y_coordinate", units="m"),
        plain("crs", (), np.int32(0), **MAPPINGS[0]),
        plain("tas", ("y", "x"), [[1.0]], units="K", grid_mapping="crs"),
    )
    with pytest.warns(
        RhodoliteWarning, match=r"pip install 'rhodolite\[projections\]'"
    ):
        data = normalise(made)
    with pytest.raises(DataError, match="no latitude was found"):
        rhodolite.Subset(lat="1..2")(data)


latitudes, longitudes = st.floats(-89, 89), st.floats(-180, 180)


@given(latitudes, longitudes, st.floats(10, 80), longitudes, longitudes)
def test_rotated_poles_agree_with_proj_to_ten_digits(
    row, column, pole_latitude, pole_longitude, turn
):
    mine = from_rotated(
        np.array([row]), np.array([column]), pole_latitude, pole_longitude, turn
    )
    turning = (
        f"+inv +proj=ob_tran +o_proj=longlat +o_lon_p={turn} +o_lat_p={pole_latitude} "
        f"+lon_0={180 + pole_longitude}"
    )
    steps = (
        f"+step +proj=unitconvert +xy_in=deg +xy_out=rad +step {turning} +R=1 +step "
        "+proj=unitconvert +xy_in=rad"
    )
    east, north = pyproj.Transformer.from_pipeline(
        f"+proj=pipeline {steps} +xy_out=deg"
    ).transform(column, row)
    apart = great_circle(mine[0], mine[1], north, east)[0]
    # A place, however its longitude is counted; next to a pole PROJ has half its figures left.
    assert apart == pytest.approx(0, abs=1e-9 if abs(north) < 89 else 2e-6)


@given(latitudes, longitudes, latitudes, longitudes)
def test_distances_agree_with_proj_to_ten_digits(a, b, c, d):
    metres = pyproj.Geod(a=1.0, b=1.0).inv(b, a, d, c)[2]
    assert np.radians(great_circle(np.array(a), np.array(b), c, d)) == pytest.approx(
        metres, rel=1e-10, abs=1e-9
    )


def test_a_rotated_grid_is_cut_out_by_its_true_positions(demo):
    data = rhodolite.read(demo / "rotated_monthly.nc")
    part = rhodolite.Subset(lat="60N..64N", lon="5E..15E")(data)
    lat, lon, values = part["lat"].values(), part["lon"].values(), part["ta"].values()
    inside = (lat >= 60) & (lat <= 64) & (lon >= 5) & (lon <= 15)
    assert 0 < inside.sum() < inside.size
    assert inside.any(axis=0).all()
    assert inside.any(axis=1).all()
    assert (np.isfinite(values) == inside).all()
    whole_lat = data["lat"].values()
    wanted = (
        (whole_lat >= 60)
        & (whole_lat <= 64)
        & (data["lon"].values() >= 5)
        & (data["lon"].values() <= 15)
    )
    np.testing.assert_array_equal(
        values[:, :, inside], data["ta"].values()[:, :, wanted]
    )
    cell = rhodolite.Subset(at="61.7N,9.1E", time="2018-07")(data)
    assert (
        great_circle(cell["lat"].values(), cell["lon"].values(), 61.7, 9.1).item()
        < 0.36
    )  # half a diagonal
    for wish, message in (
        ({"at": "30N,9E"}, "lies outside the data, which cover"),
        ({"lat": "10..20"}, "none lies there; the data cover"),
        ({"lat": "61N"}, "give a range, or one place with --at"),
    ):
        with pytest.raises(DataError, match=message):
            rhodolite.Subset(**wish)(data)


def test_terms_of_model_levels_stay_with_the_data():
    made = dataset(
        plain(
            "lev",
            ("lev",),
            [1.0, 2.0],
            standard_name="atmosphere_hybrid_sigma_pressure_coordinate",
            positive="down",
            formula_terms="a: hyam b: hybm ps: ps p0: p0",
        ),
        plain("hyam", ("lev",), [0.1, 0.0]),
        plain("hybm", ("lev",), [0.0, 1.0]),
        plain("p0", (), 1e5, units="Pa"),
        plain("lat", ("lat",), [1.0, 2.0], units="degrees_north"),
        plain("lon", ("lon",), [1.0, 2.0], units="degrees_east"),
        plain("ps", ("lat", "lon"), np.ones((2, 2)), units="Pa"),
        plain("u", ("lev", "lat", "lon"), np.ones((2, 2, 2))),
        plain("v", ("lev", "lat", "lon"), np.ones((2, 2, 2))),
    )
    part = rhodolite.Subset(variable="u", level="2", lat="1..1.5")(made)
    assert set(part.variables) == {"lev", "hyam", "hybm", "p0", "lat", "lon", "ps", "u"}
    assert part["hybm"].values().tolist() == [1.0]
    assert part["ps"].shape == (1, 2)


def test_sites_are_chosen_by_where_they_are(demo):
    data = rhodolite.read(demo / "reservoirs.csv")
    assert data.axes.sites == ("lat", "lon")
    assert rhodolite.Subset(at="61.5N,8.2E")(data)["name"].values().tolist() == [
        "Almandsjoe"
    ]
    north = rhodolite.Subset(lat="62.3N..", lon="8.5..9.5")(data)
    assert sorted(north["name"].values()) == ["Grossmyr", "Rhodosjoe"]
    with pytest.raises(
        DataError,
        match=r"these are data of sites \(lat and lon run along one dimension\)",
    ):
        rhodolite.Map()(data)


def test_times_that_are_not_clean(tmp_path):
    """Missing times are left out and said; a year 0, odd calendars, and dates in words are
    understood."""
    values = np.arange(5.0).reshape(5, 1, 1)
    times = np.ma.masked_equal([0, 1, -99, 3, 4], -99)
    path = write_plain(tmp_path / "a.nc", values, times=np.arange(5))
    with netCDF4.Dataset(path, "a") as file:
        file["time"].missing_value = -99.0
        file["time"][:] = times.filled(-99)
    with pytest.warns(
        RhodoliteWarning, match=r"1 of 5 steps have no time \(time\) and are left out"
    ):
        data = rhodolite.read(path)
    assert data["tas"].values().reshape(-1).tolist() == [0, 1, 3, 4]
    for calendar, units, first in (
        ("standard", "days since 0000-01-01", "1998-09-03"),
        ("360", "days since 2000-02-30", ""),
        ("none", "days since 1998-09-03", ""),
    ):
        offset = 730000 if "0000" in units else 0
        path = write_plain(
            tmp_path / f"{offset}{calendar}.nc",
            values,
            times=np.arange(5) + offset,
            units=units,
            calendar=calendar,
        )
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RhodoliteWarning)
            axis = rhodolite.read(path).time
        assert axis.dates[0].strftime("%Y-%m-%d") == (first or units.split()[-1])


@pytest.mark.slow
def test_dates_in_words_and_positions_at_every_time(tmp_path, rng):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n in (
            ("Time", 3),
            ("DateStrLen", 19),
            ("south_north", 4),
            ("west_east", 5),
        ):
            file.createDimension(name, n)
        file.createVariable("Times", "S1", ("Time", "DateStrLen"))
        words = [f"2000-01-0{day}_06:00:00" for day in (1, 2, 3)]
        file["Times"][:] = netCDF4.stringtochar(np.array(words, "S19"))
        north, east = np.meshgrid(
            np.arange(60.0, 64), np.arange(5.0, 10), indexing="ij"
        )
        for name, part, units in (
            ("XLAT", north, "degree_north"),
            ("XLONG", east, "degree_east"),
        ):
            file.createVariable(
                name, "f4", ("Time", "south_north", "west_east")
            ).units = units
            file[name][:] = np.broadcast_to(part + rng.random((4, 5)) / 9, (3, 4, 5))
        file.createVariable(
            "T2", "f4", ("Time", "south_north", "west_east")
        ).units = "K"
        file["T2"][:] = 280
    chosen = ["subset", "a.nc", "--time", "2000-01-02", "--lat", "61..62", "-o", "s.nc"]
    for words in (["inspect", "a.nc"], ["summarise", "a.nc", "-o", "m.csv"], chosen):
        answer = run_here(*words, folder=tmp_path)
        assert answer.code == 0, answer.err
    assert (tmp_path / "m.csv").read_text().split("\n")[1] == "2000-01-01,280.0"
    assert rhodolite.read(tmp_path / "s.nc").lengths["Time"] == 1


def test_a_projected_grid_names_what_finds_its_places(tmp_path, monkeypatch):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, units in (("y", "projection_y"), ("x", "projection_x")):
            file.createDimension(name, 3)
            axis = file.createVariable(name, "f8", (name,))
            axis[:] = np.arange(3) * 1e5
            axis.setncatts({"units": "m", "standard_name": f"{units}_coordinate"})
        about = {
            "grid_mapping_name": "lambert_conformal_conic",
            "standard_parallel": [40.0, 60.0],
        }
        about |= {
            "longitude_of_central_meridian": 10.0,
            "latitude_of_projection_origin": 50.0,
        }
        file.createVariable("crs", "i4").setncatts(about)
        file.createVariable("t", "f4", ("y", "x")).setncatts(
            {"units": "K", "grid_mapping": "crs"}
        )
        file["t"][:] = 1
    monkeypatch.setattr(
        projection_coordinates.importlib.util, "find_spec", lambda _: None
    )
    with pytest.warns(RhodoliteWarning, match="projected"):
        data = rhodolite.read(tmp_path / "a.nc")
    with pytest.raises(
        DataError, match=r"projected \(lambert_conformal_conic\).*projections"
    ):
        rhodolite.Summarise()(data)


@given(
    st.sampled_from([10, 20, 30, 60, 180]),
    st.sampled_from([2, 3, 4]),
    st.booleans(),
    st.lists(st.integers(8, 90), max_size=4),
)
def test_times_of_few_decimals_are_the_steps_that_they_were(
    minutes, decimals, middle, left_out
):
    """Whatever the decimals resolve: steps longer than the last of them; gaps stay gaps."""
    assume(minutes * 60 > 1.2 * 86400 * 10.0**-decimals)
    places = np.setdiff1d(np.arange(100), left_out)
    exact = (places + 0.5 * middle) * minutes / 1440
    data = make_dataset(np.zeros((places.size, 1, 1)), times=np.round(exact, decimals))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        time = normalise(data).time
    assert time.step.ticks == minutes * 60_000_000
    assert time.step.missing == 100 - places.size
    np.testing.assert_allclose(time.numbers, exact, atol=1e-9)


def test_times_without_regular_steps_stay_as_they_are():
    rng = np.random.default_rng(5)
    for times in (
        np.round(np.cumsum(rng.uniform(0.02, 0.06, 60)), 3),
        np.array([0.01, 0.05, 0.09, 0.13]),
        np.round(np.arange(50) * 0.01, 2),
    ):
        data = make_dataset(np.zeros((times.size, 1, 1)), times=times)
        np.testing.assert_array_equal(normalise(data).time.numbers, times)


def test_limits_of_times_in_figures_are_counted_as_the_times_are(tmp_path):
    """A month that is stamped within January and begins in the year before."""
    with netCDF4.Dataset(tmp_path / "in.nc", "w") as file:
        for name, size in (("time", 2), ("b", 2)):
            file.createDimension(name, size)
        time = file.createVariable("time", "f8", ("time",))
        time.setncatts({"units": "day as %Y%m%d.%f", "bounds": "ends"})
        time[:] = [20010101.0, 20010115.0]
        ends = file.createVariable("ends", "f8", ("time", "b"))
        ends[:] = [[20001225.5, 20010108.5], [20010108.5, 20010122.5]]
        file.createVariable("tas", "f4", ("time",)).units = "K"
        file["tas"][:] = 1
    data = rhodolite.read(tmp_path / "in.nc")
    assert str(data["time"].units) == "days since 2001-01-01"
    np.testing.assert_array_equal(data["ends"].values(), [[-6.5, 7.5], [7.5, 21.5]])


def test_calendar_months_are_written_as_days(tmp_path):
    """With bounds, which have the units of their coordinate; read by the library for dates."""
    with netCDF4.Dataset(tmp_path / "in.nc", "w") as file:
        for name, size in (("time", 30), ("b", 2)):
            file.createDimension(name, size)
        time = file.createVariable("time", "f4", ("time",))
        time.setncatts({"units": "months since 1999-12-01", "bounds": "ends"})
        time[:] = np.arange(30) + 0.5
        ends = file.createVariable("ends", "f4", ("time", "b"))
        ends[:] = np.arange(30)[:, None] + [0, 1]
        file.createVariable("tas", "f4", ("time",)).units = "K"
        file["tas"][:] = np.arange(30)
    for name, words in {
        "same.nc": ("convert", "in.nc", "--units", "tas=K"),
        "years.nc": ("aggregate", "in.nc", "--to", "year"),
    }.items():
        answer = run_here(*words, "-o", name, folder=tmp_path)
        assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "same.nc") as file:
        dates = netCDF4.num2date(file["ends"][:], file["time"].units)
        first, *_, last = ((date.year, date.month, date.day) for date in dates.flat)
        assert (first, last) == ((1999, 12, 1), (2002, 6, 1))
    with netCDF4.Dataset(tmp_path / "years.nc") as file:
        ends = netCDF4.num2date(file["ends"][1], file["time"].units)
        assert [str(date)[:10] for date in ends] == ["2000-01-01", "2001-01-01"]


@pytest.mark.parametrize(
    "units",
    [
        "HOURS SINCE 2001-01-01 06:00",
        "hours after 2001-01-01 06:00",
        "hours from 2001-01-01T06:00",
        "h @ 2001-01-01 06:00",
        "hours since 20010101T0600",
        "hours since 20010101 060000",
        "hours since 2001-01-01 6",
        "hrs ref 2001-1-1 6:00:00",
    ],
)
def test_words_that_udunits_has_for_since_and_dates_without_hyphens(tmp_path, units):
    """Times, limits of steps and what is said of them are those of the plain words."""
    told = []
    for name, words in (("a.nc", units), ("b.nc", "hours since 2001-01-01 06:00")):
        path = tmp_path / name
        write_plain(path, np.ones((2, 2, 2)), times=[0, 24], units=words)
        data = rhodolite.read(path)
        assert data.time is not None, words
        told.append([str(date) for date in data.need_time().dates])
        made = run_here(
            "subset", path, "--time", "2001-01-02", "-o", tmp_path / "c.csv"
        )
        assert made.code == 0, made.err
        told.append((tmp_path / "c.csv").read_text())
        (tmp_path / "c.csv").unlink()
    assert told[:2] == told[2:]
    assert "do not say from when" not in run_here("check", tmp_path / "a.nc").out


def test_an_offset_of_a_scale_is_no_time():
    assert plain_time_units("K @ 273.15") == "K @ 273.15"
    assert plain_time_units("m from 2000-10") == "m from 2000-10"


@pytest.mark.parametrize("told", ["name", "standard_name"])
@pytest.mark.parametrize("units", ["radian", "radians", "rad", "arcmin"])
def test_positions_in_radians_are_those_in_degrees(tmp_path, units, told):
    """Regular rows with limits, and two-dimensional positions; packed as files have them."""
    size = {"arcmin": 60.0}.get(units, np.pi / 180)
    lats, lons = np.array([-45.0, 0.0, 30.0]), np.array([0.0, 90.0, 180.0, 270.0])
    means = []
    for name, factor, words in (("a.nc", size, (units, units)), ("b.nc", 1.0, None)):
        words = words or ("degrees_north", "degrees_east")
        with netCDF4.Dataset(tmp_path / name, "w") as file:
            for axis, values, unit, role in zip(
                ("lat", "lon"),
                (lats, lons),
                words,
                ("latitude", "longitude"),
                strict=True,
            ):
                file.createDimension(axis, values.size)
                made = file.createVariable(axis, "f8", (axis,))
                made.setncatts({"units": unit, "bounds": f"{axis}_bnds"})
                if told == "standard_name":
                    made.standard_name = role
                made[:] = values * factor
            file.createDimension("two", 2)
            for axis, half in (("lat", 15.0), ("lon", 45.0)):
                limits = file.createVariable(f"{axis}_bnds", "f8", (axis, "two"))
                middles = lats if axis == "lat" else lons
                limits[:] = (middles[:, None] + np.array([-half, half])) * factor
            file.createVariable("tas", "f8", ("lat", "lon"))[:] = np.outer(lats, lons)
        data = rhodolite.read(tmp_path / name)
        np.testing.assert_allclose(data["lat"].values(), lats, atol=1e-12)
        np.testing.assert_allclose(data["lon_bnds"].values()[0], [-45, 45], atol=1e-12)
        assert data["lat"].units == "degrees_north"
        means.append(data.summarise(over="area")["tas"].values())
    np.testing.assert_allclose(*means, rtol=1e-12)


def test_limits_in_radians_of_positions_in_degrees(tmp_path):
    path = tmp_path / "a.nc"
    write_plain(path, np.ones((1, 3, 2)), lats=[-60, 0, 60], lons=[0, 90])
    limits = np.array([[-90.0, -30], [-30, 30], [30, 90]])
    with netCDF4.Dataset(path, "a") as file:
        file.createDimension("two", 2)
        stored = file.createVariable("lat_bnds", "f8", ("lat", "two"))
        stored.units = "radians"
        stored[:] = np.radians(limits)
        file["lat"].bounds = "lat_bnds"
    bounds = rhodolite.read(path)["lat_bnds"].values()
    np.testing.assert_allclose(bounds, limits, atol=1e-12)


def test_two_dimensional_positions_in_radians(tmp_path):
    lat, lon = np.meshgrid([40.0, 50.0, 60.0], [0.0, 10.0, 20.0, 30.0], indexing="ij")
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for axis, count in (("j", 3), ("i", 4)):
            file.createDimension(axis, count)
        for name, values in (("latitude", lat), ("longitude", lon)):
            made = file.createVariable(name, "f4", ("j", "i"))
            made.units = "radians"
            made[:] = np.radians(values)
        file.createVariable("tas", "f4", ("j", "i"))[:] = 1
    data = rhodolite.read(tmp_path / "a.nc")
    assert data.axes.curvilinear == ("latitude", "longitude")
    np.testing.assert_allclose(data["latitude"].values(), lat, atol=1e-5)


@pytest.mark.parametrize(
    ("told", "meant", "third"),
    [
        ("proleptic gregorian", "proleptic_gregorian", "2001-03-02"),
        ("360-day", "360_day", "2001-03-01"),
        ("360 days", "360_day", "2001-03-01"),
        ("365 Day", "noleap", "2001-03-02"),
        ("GREGORIAN", "standard", "2001-03-02"),
        ("utc", "standard", "2001-03-02"),
        ("366_days", "all_leap", "2001-03-01"),
    ],
)
def test_calendars_as_people_write_them(tmp_path, told, meant, third):
    """Outputs have the name that CF has for them."""
    path = tmp_path / "a.nc"
    write_plain(
        path,
        np.ones((3, 2, 2)),
        times=[58, 59, 60],
        units="days since 2001-01-01",
        calendar=told,
    )
    answer = run_here("subset", path, "--time", "2001-03..", "-o", tmp_path / "b.nc")
    assert answer.code == 0, answer.err
    assert ("leap seconds" in answer.err) == (told == "utc")
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert file["time"].calendar == meant
        last = netCDF4.num2date(file["time"][-1], file["time"].units, meant)
    assert last.strftime("%Y-%m-%d") == third


def test_a_calendar_that_there_is_not_is_said_with_what_to_type(tmp_path):
    write_plain(tmp_path / "a.nc", np.ones((3, 2, 2)), calendar="mayan")
    answer = run_here(
        "subset", tmp_path / "a.nc", "--time", "2001", "-o", tmp_path / "b.nc"
    )
    assert answer.code != 0
    assert "there is no calendar 'mayan'" in answer.err
    assert "annotate --set 'time:calendar=noleap'" in answer.err


@pytest.mark.parametrize(
    ("methods", "others"),
    [
        ("time: sum", ""),
        ("time:sum", ""),
        ("time : Sum", ""),
        ("time: sum within days", ""),
        ("time: sum (interval: 1 day comment: time: of all)", ""),
        ("area: point time: sum", "area: point "),
        ("time: lat: lon: sum", "lat: lon: sum "),
    ],
)
def test_cell_methods_as_people_write_them(tmp_path, methods, others):
    """Amounts of days are such, not moments, and what is over other axes stays as it is."""
    about = {"units": "mm", "standard_name": "", "cell_methods": methods}
    values = np.arange(90)[:, None, None] % 7 * np.ones((1, 2, 2))
    path = tmp_path / "a.nc"
    write_plain(path, values, times=np.arange(90) + 0.5, name="x", attributes=about)
    data = rhodolite.read(path)
    assert not data.need_time().instants
    monthly = data.aggregate(to="month", statistic="max")["x"]
    expected = f"{others}time: sum time: maximum (interval: 1 day)"
    assert monthly.attributes["cell_methods"] == expected
    rates = data.convert(units="x=mm day-1", amounts="of-step")["x"]
    np.testing.assert_allclose(rates.values(), values)


def test_moments_are_told_by_their_method_over_time(tmp_path):
    """And not by that over the area, or by a word in a note."""
    for methods, are_moments in (
        ("time: point", True),
        ("area: mean time: point", True),
        ("area: point time: mean", False),
        ("time: mean (comment: interpolated to a point)", False),
    ):
        path = tmp_path / "a.nc"
        path.unlink(missing_ok=True)
        write_plain(path, np.ones((3, 2, 2)), attributes={"cell_methods": methods})
        assert rhodolite.read(path).need_time().instants == are_moments, methods


@pytest.mark.parametrize("units", ["1", "", "degrees", "degree_north", "deg"])
def test_positions_in_degrees_or_plain_numbers_stay(tmp_path, units):
    write_plain(tmp_path / "a.nc", np.ones((1, 2, 2)), lats=[10, 20], lons=[0, 90])
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file["lat"].units = units
    lat = rhodolite.read(tmp_path / "a.nc")["lat"].values()
    np.testing.assert_array_equal(lat, [10, 20])


@pytest.mark.parametrize(
    "written",
    [
        lambda bounds: bounds % 360,
        lambda bounds: (bounds + 180) % 360 - 180,
        lambda bounds: (bounds % 360)[:, ::-1],
    ],
)
@pytest.mark.parametrize("first", [0.0, -180.0, 10.0])
def test_limits_of_columns_in_another_turn(tmp_path, written, first):
    """As wide as they are, wherever the turn is cut: areas, sums and maps are those of limits
    around the middles."""
    lons = first + np.arange(0.0, 360, 40)
    bounds = lons[:, None] + np.array([-20.0, 20])
    results = []
    for name, limits in (("a.nc", bounds), ("b.nc", written(bounds))):
        values = np.random.default_rng(0).normal(280, 5, (1, 3, 9))
        write_plain(tmp_path / name, values, lats=[-60, 0, 60], lons=lons, kind="f8")
        with netCDF4.Dataset(tmp_path / name, "a") as file:
            file.createDimension("two", 2)
            file.createVariable("lon_bnds", "f8", ("lon", "two"))[:] = limits
            file["lon"].bounds = "lon_bnds"
        data = rhodolite.read(tmp_path / name)
        np.testing.assert_allclose(
            np.abs(np.diff(data["lon_bnds"].values(), axis=1)), 40, atol=1e-9
        )
        results.append(
            [data.summarise(over="area"), data.regrid(to="45", method="conservative")]
        )
    for ours, theirs in zip(*results, strict=True):
        np.testing.assert_allclose(
            ours["tas"].values(), theirs["tas"].values(), rtol=1e-12
        )


def test_limits_of_a_single_longitude_that_is_no_axis(tmp_path):
    with netCDF4.Dataset(tmp_path / "b.nc", "w") as new:
        for name, size in (("lat", 3), ("two", 2)):
            new.createDimension(name, size)
        for name, dimensions, units, values in (
            ("lat", ("lat",), "degrees_north", [-60, 0, 60]),
            ("lon", (), "degrees_east", 0.0),
            ("lon_bnds", ("two",), None, [315.0, 45.0]),
            ("tas", ("lat",), "K", [1.0, 2.0, 3.0]),
        ):
            stored = new.createVariable(name, "f8", dimensions)
            stored[...] = values
            if units:
                stored.units = units
        new["lon"].bounds = "lon_bnds"
        new["tas"].coordinates = "lon"
    bounds = rhodolite.read(tmp_path / "b.nc")["lon_bnds"].values()
    np.testing.assert_array_equal(bounds, [-45, 45])


@pytest.mark.parametrize(
    ("longitudes", "order"),
    [
        ([0, 1, 2, 358, 359], [3, 4, 0, 1, 2]),
        ([-180, -179, 178, 179], [2, 3, 0, 1]),
        ([359, 358, 2, 1, 0], [2, 3, 4, 0, 1]),
    ],
)
def test_a_region_in_two_parts_is_one(tmp_path, rng, longitudes, order):
    """Columns across the seam that a mask or a sorting took apart: as those in one piece."""
    values = rng.normal(280, 5, (3, 2, len(longitudes)))
    write_plain(tmp_path / "split.nc", values, lats=[50, 51], lons=longitudes)
    whole = np.unwrap(np.array(longitudes, float)[order], period=360)
    write_plain(tmp_path / "whole.nc", values[:, :, order], lats=[50, 51], lons=whole)
    with pytest.warns(UserWarning, match="is in two parts"):
        split = rhodolite.read(tmp_path / "split.nc")
    one = rhodolite.read(tmp_path / "whole.nc")
    place = (50.0, float(whole[1]))
    for verb, options in (
        ("summarise", {}),
        ("subset", {"at": place}),
        ("regrid", {"to": "0.5"}),
        ("convert", {"longitude": "0..360"}),
    ):
        results = [getattr(data, verb)(**options) for data in (split, one)]
        for name in ("tas", *({"lon"} & set(results[0].variables))):
            ours, theirs = (r.variables[name].data for r in results)
            ours, theirs = Engine().compute(ours), Engine().compute(theirs)
            if name == "lon":
                ours, theirs = ours % 360, theirs % 360
            np.testing.assert_allclose(ours, theirs, rtol=1e-6, atol=1e-6)


@pytest.mark.parametrize("longitudes", [[0, 90, 270], [0, 10, 200], [10, 5, 350, 340]])
def test_other_leaps_of_longitude_are_left(tmp_path, longitudes):
    values = np.zeros((1, 2, len(longitudes)))
    write_plain(tmp_path / "a.nc", values, lats=[50, 51], lons=longitudes)
    assert rhodolite.read(tmp_path / "a.nc")["lon"].values().tolist() == longitudes


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
@pytest.mark.parametrize(
    ("name", "written", "meant"),
    [
        ("t2m", "C", "degC"),
        ("tas_max", "deg. C", "degC"),
        ("charge", "C", "C"),
        ("zg", "gpm", "m"),
        ("sp", "mb", "hPa"),
        ("wind", "ms-1", "m s-1"),
    ],
)
def test_units_mean_the_same_from_files_tables_arrays_and_options(
    tmp_path, name, written, meant
):
    values = np.arange(3.0).reshape(3, 1, 1)
    path = write_plain(
        tmp_path / "a.nc",
        values,
        times=np.arange(3),
        name=name,
        attributes={"units": written},
    )
    table = tmp_path / "a.csv"
    rows = [f"2000-01-0{day},50,0,{day}" for day in (1, 2, 3)]
    table.write_text("\n".join([f"time,lat,lon,{name} [{written}]", *rows]))
    axes = {
        "time": np.datetime64("2000-01-01") + np.arange(3),
        "lat": [50.0],
        "lon": [0.0],
    }
    arrays = rhodolite.from_arrays({name: values}, axes, units={name: written})
    for data in (rhodolite.read(path), rhodolite.read(table), arrays):
        assert data[name].units == meant
    if name in ("t2m", "sp"):
        data = arrays.convert(units={"t2m": "K", "sp": "Pa"}[name])
        converted = data.convert(units=written)[name]
        computed = data.calc(formula=name, name="x", units=written)["x"]
        assert converted.units == computed.units == meant
        np.testing.assert_allclose(converted.values(), computed.values(), rtol=1e-12)


MONTHS = [100 * year + month for year in (2001, 2002) for month in range(1, 13)]


@pytest.mark.parametrize(
    ("name", "units", "figures", "first", "step"),
    [
        ("time", "", MONTHS, "2001-01", "every month"),
        ("time", "YYYYMM", MONTHS, "2001-01", "every month"),
        (
            "date",
            "month as %Y%m.%f",
            [m + 0.5 for m in MONTHS],
            "2001-01",
            "every month",
        ),
        ("time", "1", [100 * month + 15 for month in MONTHS], "2001-01", "every month"),
        (
            "time",
            "",
            [2001 + (m + 0.5) / 12 for m in range(24)],
            "2001-01",
            "every month",
        ),
        ("year", "", range(1950, 1970), "1950", "every year"),
        ("time", "years", range(850, 870), "0850", "every year"),
        ("time", "julian day", np.arange(20) + 2451544.5, "2000-01-01", "every day"),
    ],
)
def test_figures_of_the_calendar_are_dates(name, units, figures, first, step):
    values = np.asarray(figures, dtype=float)
    variables = [
        plain(name, (name,), values, **({"units": units} if units else {})),
        plain("tas", (name,), np.ones(values.size), units="K"),
    ]
    with pytest.warns(RhodoliteWarning, match=f"{name} has .* are read as"):
        axis = normalise(dataset(*variables)).need_time()
    assert str(axis.span.first).startswith(first)
    assert str(axis.step) == step
    assert len(axis) == values.size


@pytest.mark.parametrize(
    ("name", "units", "figures"),
    [
        ("time", "", range(24)),
        ("time", "1", np.arange(1, 25)),
        ("time", "", [200112, 200113]),
        ("depth_of", "", MONTHS),
        ("time", "m", MONTHS),
    ],
)
def test_other_numbers_are_no_dates(name, units, figures):
    values = np.asarray(figures, dtype=float)
    time = plain(name, (name,), values, **({"units": units} if units else {}))
    tas = plain("tas", (name,), np.ones(values.size), units="K")
    assert normalise(dataset(time, tas)).time is None


LAEA = "+proj=laea +lat_0=52 +lon_0=10 +x_0=4321000 +y_0=3210000 +ellps=GRS80 +units=m"


@pytest.mark.parametrize("across", [{}, {"axis": "X"}, {"units": "km"}])
@pytest.mark.parametrize(
    "told",
    [
        {"proj4": LAEA},
        {"epsg_code": "EPSG:3035"},
        {"EPSG": 3035},
        {"crs_wkt": pyproj.CRS(3035).to_wkt()},
        {"spatial_ref": pyproj.CRS(3035).to_wkt("WKT2_2015")},
    ],
)
def test_projections_told_by_texts_and_codes_have_positions(tmp_path, told, across):
    x = np.arange(4) * 1e5 + 4321000
    scale = 1e-3 if "units" in across else 1.0
    made = dataset(
        plain("crs", (), np.int32(0), **told),
        plain("y", ("y",), np.arange(3) * 1e5 + 3210000, units="m"),
        plain("x", ("x",), x * scale, **{"units": "m", **across}),
        plain("tas", ("y", "x"), np.ones((3, 4)), units="K", grid_mapping="crs"),
    )
    out = normalise(made)
    mapping = out["crs"].attributes["grid_mapping_name"]
    assert mapping == "lambert_azimuthal_equal_area"
    turn = pyproj.Transformer.from_crs(3035, 4326, always_xy=True)
    east, north = turn.transform(*np.meshgrid(x, np.arange(3) * 1e5 + 3210000))
    np.testing.assert_allclose(out["lat"].values(), north, atol=1e-9)
    np.testing.assert_allclose(out["lon"].values(), east, atol=1e-9)
    rhodolite.write(out, tmp_path / "a.tif")
    with rasterio.open(tmp_path / "a.tif") as file:
        assert "LAEA" in file.crs.to_wkt() or "Lambert_Azimuthal" in file.crs.to_wkt()


def test_a_projection_that_there_is_not_is_refused_and_degrees_stay_degrees():
    field = {"units": "K", "grid_mapping": "crs"}
    degrees = dataset(
        plain("crs", (), np.int32(0), epsg_code="EPSG:4326"),
        plain("lat", ("lat",), [1.0, 2.0], units="degrees_north"),
        plain("lon", ("lon",), [1.0, 2.0], units="degrees_east"),
        plain("tas", ("lat", "lon"), np.ones((2, 2)), **field),
    )
    out = normalise(degrees)
    assert out["crs"].attributes["grid_mapping_name"] == "latitude_longitude"
    assert out.axes.curvilinear is None
    with pytest.raises(DataError, match="crs tells its projection by 'EPSG:99999999'"):
        normalise(
            degrees.with_variables(
                v.edit(epsg_code="EPSG:99999999") if v.name == "crs" else v
                for v in degrees.variables.values()
            )
        )


def staggered(path):
    """Three fields on grids of their own, each half a cell from the others, as ocean models have
    them; two of them on the second."""
    east, north = np.meshgrid(np.linspace(0.0, 8, 9), np.linspace(40.0, 47, 8))
    with netCDF4.Dataset(path, "w") as file:
        for grid, (rows, columns) in {"r": (8, 9), "u": (8, 8), "v": (7, 9)}.items():
            axes = (f"j_{grid}", f"i_{grid}")
            for name, size in zip(axes, (rows, columns), strict=True):
                file.createDimension(name, size)
            for name, places in (("lon", east), ("lat", north)):
                position = file.createVariable(f"{name}_{grid}", "f8", axes)
                position.units = {"lat": "degrees_north", "lon": "degrees_east"}[name]
                shift = 0.5 * (grid == {"lon": "u", "lat": "v"}[name])
                position[:] = places[:rows, :columns] + shift
        for name, grid in (("a", "r"), ("b", "u"), ("c", "u"), ("d", "v")):
            axes = (f"j_{grid}", f"i_{grid}")
            field = file.createVariable(name, "f8", axes)
            field.setncatts({"units": "K", "coordinates": f"lat_{grid} lon_{grid}"})
            field[:] = file[f"lat_{grid}"][:] + 0.01 * file[f"lon_{grid}"][:]
    return path


def test_fields_on_several_grids_are_worked_on_grid_by_grid(tmp_path):
    """The grid of most data is taken, with a word; each other once its variables are chosen."""
    path = staggered(tmp_path / "a.nc")
    with pytest.warns(
        RhodoliteWarning, match="that of lat_u and lon_u is worked on, and not"
    ):
        data = rhodolite.read(path)
    for name, grid in (("a", "r"), ("b", "u"), ("d", "v")):
        part = data.subset(variable=name)
        assert part.axes.curvilinear == (f"lat_{grid}", f"lon_{grid}")
        north = part[f"lat_{grid}"].values()
        plane = part.regrid(to="0.5", method="bilinear")
        inner = plane.subset(lat="42..46", lon="2..6")
        east, lats = np.meshgrid(inner["lon"].values(), inner["lat"].values())
        np.testing.assert_allclose(inner[name].values(), lats + 0.01 * east, rtol=1e-3)
        picture = rhodolite.Map(variable=name)(data)
        assert picture.axes
        assert part.subset(lat="43..45").lengths[f"j_{grid}"] < north.shape[0]
    means = data.summarise()
    assert means["b"].values().ndim == 0
    assert means["a"].values().ndim == 2


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
@pytest.mark.parametrize(
    ("units", "figures"),
    [
        ("", MONTHS),
        ("month as %Y%m.%f", [month + 0.5 for month in MONTHS]),
        ("day as %Y%m%d.%f", [100 * month + 15 for month in MONTHS]),
        ("months since 2001-01-01", [m + 0.5 for m in range(24)]),
        ("years", range(850, 874)),
    ],
)
def test_times_are_understood_before_files_are_joined(tmp_path, units, figures):
    values = np.arange(24.0).reshape(24, 1, 1)
    names = {"whole": slice(0, 24), "b": slice(0, 14), "a": slice(14, 24)}
    for name, steps in names.items():
        write_plain(
            tmp_path / f"{name}.nc", values[steps], times=np.asarray(figures)[steps]
        )
        with netCDF4.Dataset(tmp_path / f"{name}.nc", "a") as file:
            file["time"].units = units
            if not units:
                file["time"].delncattr("units")
    whole = rhodolite.read(tmp_path / "whole.nc")
    joined = rhodolite.read([tmp_path / "a.nc", tmp_path / "b.nc"])
    assert [str(d) for d in joined.dates] == [str(d) for d in whole.dates]
    np.testing.assert_array_equal(joined["tas"].values(), whole["tas"].values())
