"""Selection against plain NumPy masks, on grids of every convention and direction."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset
from rhodolite import Subset
from rhodolite.errors import DataError, UsageError

tenths = st.integers(-3600, 3600).map(lambda n: n / 10)


def grid(start, step, count, falling=False, south=-88.0):
    lons = start + step * np.arange(count)
    lats = np.linspace(south, 88, 12)[:: -1 if falling else 1]
    values = np.multiply.outer(np.arange(12) * 1000, np.ones(count)) + np.arange(count)
    return make_dataset(np.stack([values] * 3), lats=lats, lons=lons), lons, lats


@given(
    st.sampled_from(
        [(-180, 5, 72), (0, 5, 72), (2.5, 5, 72), (150, 3, 20), (-30, 2, 40)]
    ),
    tenths,
    tenths,
)
def test_longitudes_are_compared_modulo_360_and_come_out_eastward(shape, west, east):
    assume(-360 <= west <= 360 and east != west and -360 <= east <= 360)
    data, lons, _ = grid(*shape)
    width = 360 if east - west >= 360 else (east - west) % 360
    inside = [
        lon
        for lon in lons
        if any(
            -1e-6 <= lon + turn - west <= width + 1e-6
            for turn in range(-1080, 1081, 360)
        )
    ]
    if not inside:
        with pytest.raises(DataError, match="no cell centre lies there"):
            Subset(lon=f"{west}..{east}")(data)
        return
    part = Subset(lon=f"{west}..{east}")(data)
    found = part["lon"].values()
    assert (np.diff(found) > 0).all()
    assert found[0] >= west - 1e-6
    assert found[-1] <= west + width + 1e-6
    assert sorted(np.round(found % 360, 6)) == sorted(
        np.round(np.array(inside) % 360, 6)
    )
    columns = part["tas"].values()[0, 0] % 1000  # each column carries its number
    np.testing.assert_allclose(
        np.array(lons)[columns.astype(int)] % 360, found % 360, atol=1e-6
    )


@given(st.booleans(), st.integers(-90, 90), st.integers(-90, 90))
def test_latitudes_in_either_direction(falling, south, north):
    south, north = sorted((south, north))
    assume(south < north)
    data, _, lats = grid(0, 5, 72, falling)
    expected = lats[(lats >= south) & (lats <= north)]
    if not expected.size:
        with pytest.raises(DataError, match="no cell centre"):
            Subset(lat=f"{south}..{north}")(data)
        return
    part = Subset(lat=f"{south}..{north}")(data)
    np.testing.assert_array_equal(part["lat"].values(), expected)
    rows = part["tas"].values()[0, :, 0] / 1000
    np.testing.assert_array_equal(lats[rows.astype(int)], expected)


@given(st.floats(-89, 89), st.floats(-180, 360))
def test_a_position_gives_the_cell_that_holds_it(latitude, longitude):
    data, lons, lats = grid(0, 5, 72)
    letter = "W" if longitude < 0 else "E"
    part = Subset(at=f"{latitude:.3f},{abs(longitude):.3f}{letter}")(data)
    distance = abs((lons - longitude + 180) % 360 - 180)
    assert (
        abs((part["lon"].values()[0] - longitude + 180) % 360 - 180)
        <= distance.min() + 1e-3
    )
    assert abs(part["lat"].values()[0] - latitude) <= abs(lats - latitude).min() + 1e-3


def test_the_dateline_is_crossed_in_one_piece(demo):
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    part = Subset(lat="-35..10", lon="170E..160W")(data)
    longitudes = part["lon"].values()
    assert (longitudes[0], longitudes[-1], longitudes.size) == (171.25, 198.75, 12)
    assert part.axes.by_role["longitude"].bounds[0].tolist() == [170.0, 172.5]
    other = Subset(lon="10W..10E")(data)
    assert other["lon"].values().tolist() == [
        -8.75,
        -6.25,
        -3.75,
        -1.25,
        1.25,
        3.75,
        6.25,
        8.75,
    ]
    whole = data["tas"].data.read((slice(0, 2), slice(0, 72), slice(0, 144)))
    read = other["tas"].data.read((slice(0, 2), slice(0, 72), slice(0, 8)))
    np.testing.assert_array_equal(read, whole[:, :, [140, 141, 142, 143, 0, 1, 2, 3]])


def test_times_months_seasons_and_years_combine(demo):
    data = rhodolite.read(str(demo / "nordic_daily_*.nc"))
    for settings, count, first in (
        ({"time": "2012..2018"}, 2557, (2012, 1, 1)),
        ({"time": "2016-02"}, 29, (2016, 2, 1)),
        ({"season": "DJF", "years": "2014"}, 90, (2013, 12, 1)),
        ({"months": "nov..mar", "years": "2010"}, 151, (2010, 1, 1)),
        ({"years": "2010,2015..2016", "months": "7"}, 93, (2010, 7, 1)),
    ):
        part = Subset(variable="tas", **settings)(data)
        assert part.lengths["time"] == count
        date = part.time.dates[0]
        assert (date.year, date.month, date.day) == first
        assert set(part.variables) == {
            "time",
            "time_bnds",
            "lat",
            "lat_bnds",
            "lon",
            "lon_bnds",
            "tas",
        }


def test_levels_are_found_in_any_units_and_order(demo):
    data = rhodolite.read(demo / "pressure_monthly.nc")
    for text, expected in (
        ("850hPa,50000Pa", [850, 500]),
        ("1000..700", [1000, 925, 850, 700]),
        ("300hPa..1000hPa", [1000, 925, 850, 700, 600, 500, 400, 300]),
        ("0.2bar", [200]),
    ):
        assert Subset(level=text)(data)["plev"].values().tolist() == expected


def test_every_nth_and_standard_names(demo):
    data = rhodolite.read(demo / "pressure_monthly.nc")
    part = Subset(variable="eastward_wind", every="time=12,lat=2,plev=5")(data)
    assert part["ua"].shape == (2, 3, 18, 72)
    assert "ta" not in part.variables


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        (
            {"variable": "tass"},
            "no variable 'tass'. Did you mean tas\\? There are: tas, pr",
        ),
        ({"variable": "air_temperatur"}, "Did you mean air_temperature"),
        (
            {"lat": "10S..10N"},
            "--lat 10S..10N: no cell centre lies there; the data's run from 54N to 72N",
        ),
        (
            {"lon": "50E..60E"},
            "--lon 50E..60E: no cell centre lies there; the data's run from 0E to 40E",
        ),
        ({"at": "10N,20E"}, "outside the data, which cover 54N..72N, 0E..40E"),
        (
            {"time": "1990..1999"},
            "the data hold 365, from 2010-01-01 to 2010-12-31 \\(every day\\)",
        ),
        ({"months": "jan", "time": "2010-06"}, "no time step fits"),
        ({"level": "850hPa"}, "there is no vertical axis"),
        ({"every": "depth=2"}, "no such axis"),
    ],
)
def test_what_is_not_there_is_answered_with_what_is(demo, settings, message):
    with pytest.raises(DataError, match=message):
        Subset(**settings)(rhodolite.read(demo / "nordic_daily_2010.nc"))


def test_levels_that_are_not_there_and_contradictions(demo):
    data = rhodolite.read(demo / "pressure_monthly.nc")
    with pytest.raises(
        DataError, match=r"The nearest is 850\. There are: 1000, 925, .* hPa\."
    ):
        Subset(level="840hPa")(data)
    with pytest.raises(DataError, match="are in hPa, which m cannot be converted to"):
        Subset(level="10m")(data)
    with pytest.raises(UsageError, match="give one or the other"):
        Subset(at="1N,1E", lat="0..2")
