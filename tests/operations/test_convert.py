"""Units against worked values, order of the grid against NumPy, packing against its own promise."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import (
    Aggregate,
    Anomaly,
    Climatology,
    Convert,
    DataError,
    RhodoliteWarning,
    Subset,
    UsageError,
)
from rhodolite.model.cf.diverging import pivots
from rhodolite.model.units.differences import Zero, read_zero
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import Storage


def one(value, units, **attributes):
    return make_dataset(
        np.full((1, 2, 2), float(value)),
        attributes={"units": units, "standard_name": "", **attributes},
    )


@pytest.mark.parametrize(
    ("value", "units", "target", "expected"),
    [
        (273.15, "K", "degC", 0.0),
        (300.0, "K", "degF", 80.33),
        (100.0, "degF", "degC", 340 / 9),
        (1013.25, "hPa", "Pa", 101325.0),
        (1 / 86400, "kg m-2 s-1", "mm day-1", 1.0),
        (25.4, "mm", "kg m-2", 25.4),
        (1.0, "mm day-1", "kg m-2 s-1", 1 / 86400),
        (1.0, "kg m-2", "inch", 1 / 25.4),
        (36.0, "km h-1", "m s-1", 10.0),
    ],
)
def test_units_against_worked_values(value, units, target, expected):
    """Against values worked out by hand, to 13 digits."""
    found = Convert(units=f"tas={target}")(one(value, units))["tas"]
    assert found.units == target
    np.testing.assert_allclose(found.values(), expected, rtol=1e-13, atol=1e-12)


@given(
    st.floats(-1e4, 1e4),
    st.sampled_from(
        [("K", "degC"), ("degC", "degF"), ("m s-1", "knot"), ("mm day-1", "kg m-2 s-1")]
    ),
)
def test_there_and_back_again(value, pair):
    there = Convert(units=f"tas={pair[1]}")(one(value, pair[0]))
    back = Convert(units=f"tas={pair[0]}")(there)["tas"].values()
    np.testing.assert_allclose(back, value, rtol=1e-13, atol=1e-9)


def test_differences_have_no_offset_and_commute_with_conversion():
    random = np.random.default_rng(1)
    data = make_dataset(
        random.normal(280, 5, (48, 2, 3)),
        times=15 + 30 * np.arange(48),
        calendar="360_day",
    )
    fahrenheit = Convert(units="tas=degF")
    after, before = (
        fahrenheit(Anomaly()(data))["tas"],
        Anomaly()(fahrenheit(data))["tas"],
    )
    np.testing.assert_allclose(after.values(), before.values(), atol=1e-11)
    np.testing.assert_allclose(
        after.values(), Anomaly()(data)["tas"].values() * 1.8, rtol=1e-12
    )
    normal = fahrenheit(Climatology()(data))["tas"]
    np.testing.assert_allclose(
        normal.values(), Climatology()(data)["tas"].values() * 1.8 - 459.67, rtol=1e-12
    )


def test_water_by_its_density_says_so_and_gets_the_name_of_a_depth(demo):
    data = Convert(units="pr=mm day-1,tas=degC")(
        rhodolite.read(demo / "nordic_daily_2014.nc")
    )
    pr = data["pr"].attributes
    assert (pr["standard_name"], pr["units"]) == ("lwe_precipitation_rate", "mm day-1")
    assert pr["comment"] == "converted with 1000 kg m-3, the density of water"
    assert data["tas"].attributes["standard_name"] == "air_temperature"
    back = Convert(units="pr=kg m-2 s-1")(data)["pr"]
    assert back.attributes["standard_name"] == "precipitation_flux"


def test_coordinates_are_converted_with_their_bounds(demo):
    data = Convert(units="plev=Pa")(rhodolite.read(demo / "pressure_monthly.nc"))
    assert Subset(level="85000")(data)["plev"].values().tolist() == [85000.0]
    assert data["plev"].units == "Pa"


@given(
    st.sampled_from([-180.0, 0.0, -177.5, 2.5]),
    st.sampled_from(["0..360", "-180..180"]),
    st.booleans(),
    st.sampled_from([71, 72, 73]),
    st.booleans(),
)
def test_the_grid_is_turned_with_its_data(start, longitude, ascending, count, wraps):
    """Of a globe with a column repeated or left out, too, and of 180 ... 355, 0 ... 175."""
    lons, lats = start + 5 * np.arange(count), np.linspace(80, -80, 9)
    lons = (lons + 180) % 360 if wraps and count == 72 else lons
    values = np.add.outer(lats, np.cos(np.radians(lons)))[None]
    direction = "ascending" if ascending else "descending"
    data = Convert(longitude=longitude, latitude=direction)(
        make_dataset(values, lats=lats, lons=lons)
    )
    found, rows = data["lon"].values(), data["lat"].values()
    low = float(longitude.split("..")[0])
    assert found.min() >= low
    assert found.max() < low + 360
    assert (np.diff(found) > 0).all()
    assert (np.diff(rows) > 0).all() == ascending
    np.testing.assert_allclose(
        data["tas"].values()[0],
        np.add.outer(rows, np.cos(np.radians(found))),
        atol=1e-12,
    )


@pytest.mark.parametrize(
    ("lons", "to", "expected"),
    [
        ([-2, -1, 0, 1], "0..360", [358, 359, 360, 361]),
        ([178, 179, 180, 181], "-180..180", [178, 179, 180, 181]),
        ([200, 201], "-180..180", [-160, -159]),
    ],
)
@pytest.mark.filterwarnings("ignore::rhodolite.RhodoliteWarning")
def test_a_region_stays_in_one_piece(lons, to, expected):
    """Whose cells are those of before: a chain goes on as from the file."""
    data = make_dataset(np.arange(8.0).reshape(1, 2, -1)[..., : len(lons)], lons=lons)
    turned = Convert(longitude=to)(data)
    assert turned["lon"].values().tolist() == expected
    np.testing.assert_array_equal(turned["tas"].values(), data["tas"].values())
    at = (0.0, float(lons[1]))
    assert Subset(at=at)(turned)["tas"].values() == Subset(at=at)(data)["tas"].values()


def test_packing_keeps_its_promise_and_reports_it(tmp_path, rng):
    values = rng.normal(280, 10, (40, 30, 20))
    values[3, 4, 5] = np.nan
    with pytest.warns(
        RhodoliteWarning,
        match=r"tas is packed to int16, so its values change by up to 0\.0\d+ K",
    ):
        rhodolite.write(Convert(pack="int16")(make_dataset(values)), tmp_path / "a.nc")
    step = (np.nanmax(values) - np.nanmin(values)) / 65534
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert file["tas"].dtype == np.int16
        assert file["tas"].scale_factor == pytest.approx(step)
        np.testing.assert_allclose(
            file["tas"][:].filled(np.nan), values, atol=step * 0.51
        )
    kept = Convert(pack="keep")(rhodolite.read(tmp_path / "a.nc"))
    rhodolite.write(kept, tmp_path / "b.nc")
    with (
        netCDF4.Dataset(tmp_path / "a.nc") as a,
        netCDF4.Dataset(tmp_path / "b.nc") as b,
    ):
        for file in (a, b):
            file["tas"].set_auto_maskandscale(False)
        np.testing.assert_array_equal(a["tas"][:], b["tas"][:])
    with pytest.raises(DataError, match="infinite"):
        rhodolite.write(
            Convert(pack="int16")(make_dataset(np.full((2, 2, 2), np.inf))),
            tmp_path / "c.nc",
        )


@pytest.mark.slow
def test_writing_with_little_memory_reads_small_variables_without_locking_up(
    tmp_path, rng
):
    made = make_dataset(rng.normal(size=(10, 40, 39)).astype("f4"))
    small = made["tas"].replace(storage=Storage(chunks=None))
    source = tmp_path / "a.nc"
    rhodolite.write(
        made.with_variables([*list(made.variables.values())[:-1], small]), source
    )
    answer = run_here("subset", source, "--memory", "1MiB", "-o", tmp_path / "b.nc")
    assert answer.code == 0, answer.err


def test_without_options_the_format_alone_changes(tmp_path, rng):
    rhodolite.write(make_dataset(rng.normal(size=(4, 3, 5))), tmp_path / "a.nc")
    assert run_here("convert", "a.nc", "-o", "b.zarr", folder=tmp_path).code == 0
    before, after = (rhodolite.read(tmp_path / name) for name in ("a.nc", "b.zarr"))
    np.testing.assert_array_equal(before["tas"].values(), after["tas"].values())
    refused = run_here("annotate", "a.nc", "-o", "c.zarr", folder=tmp_path)
    assert "convert INPUT -o OUTPUT changes the format alone" in refused.err


@pytest.mark.parametrize("units", ["mm day-1", "kg m-2 s-1", "mm month-1", "inch/hour"])
@pytest.mark.parametrize("stamp", [None, "end"])
def test_amounts_of_steps_as_rates_add_up_to_what_they_were(units, stamp):
    months = np.array([31.0, 60, 91, 121]) if stamp else np.array([0.0, 31, 60, 91])
    amounts = np.array([31.0, 58, 15.5, 60]).reshape(-1, 1, 1)
    names = {"units": "mm", "standard_name": "lwe_thickness_of_precipitation_amount"}
    names["cell_methods"] = "time: sum"
    data = make_dataset(amounts, times=months, name="pr", attributes=names)
    rates = Convert(units=f"pr={units}", amounts="of-step", stamp=stamp)(data)["pr"]
    assert rates.attributes["cell_methods"] == "time: mean"
    mass = units.startswith("kg")
    rate = "precipitation_flux" if mass else "lwe_precipitation_rate"
    assert rates.attributes["standard_name"] == rate
    converted = Convert(units=f"pr={units}", amounts="of-step", stamp=stamp)(data)
    total = Aggregate(to="year", statistic="sum", min_coverage=0)(converted)
    total = Convert(units="pr=mm")(total)["pr"].values()
    np.testing.assert_allclose(total, [[[amounts.sum()]]], rtol=1e-12)
    if units == "mm day-1":
        np.testing.assert_allclose(rates.values().ravel(), [1, 2, 0.5, 2], rtol=1e-15)


def test_amounts_and_rates_are_told_apart():
    for own, units, words in (
        ("mm", "mm day-1", "the amount of each step, --amounts of-step divides"),
        ("kg m-2 s-1", "mm", "a rate, and mm is an amount; aggregate"),
        ("mm", "K", "which cannot be converted to K"),
    ):
        data = make_dataset(np.ones((2, 1, 1)), name="pr", attributes={"units": own})
        with pytest.raises(DataError, match=words):
            Convert(units=f"pr={units}")(data)


@pytest.mark.parametrize(
    ("settings", "error", "message"),
    [
        (
            {"units": "=degC"},
            UsageError,
            "does not say what is to be in which units; write it like tas=degC",
        ),
        ({"units": "tas=degQ"}, UsageError, "UDUNITS does not know 'degQ'"),
        ({"units": "tas=m"}, DataError, "tas is in K, which cannot be converted to m"),
        ({"units": "tos=degC"}, DataError, r"no variable 'tos'\. Did you mean tas"),
        ({"units": "time=K"}, DataError, "time is not a quantity"),
        ({"longitude": "0..180"}, UsageError, "'0..180' is not offered"),
    ],
)
def test_what_cannot_be_converted_is_refused(settings, error, message):
    with pytest.raises(error, match=message):
        Convert(**settings)(make_dataset(np.zeros((2, 2, 2))))


@pytest.mark.parametrize("name", ["air_temperature", ""])
@pytest.mark.filterwarnings("ignore::rhodolite.RhodoliteWarning")
def test_what_moves_with_its_data_is_on_their_scale_and_nothing_else(name):
    """The data and the same 100 K warmer: what is read of each result is what its values do; those
    that do not move lie on both sides of a zero, or are sizes."""
    random = np.random.default_rng(2)
    cycle = 8 * np.sin(np.arange(1461) * 2 * np.pi / 365.25)[:, None, None]
    values = 283 + cycle + random.normal(0, 2, (1461, 2, 2))
    cool, warm = (
        make_dataset(values + more, attributes={"standard_name": name, "long_name": ""})
        for more in (0, 100)
    )
    told = 0
    for verb, options in (
        ("detrend", {"keep_mean": True}),
        ("detrend", {"cycle": "month", "keep_mean": True}),
        ("detrend", {}),
        ("adjust", {"method": "mean"}),
        ("adjust", {"method": "quantile-changes"}),
        ("anomaly", {}),
        ("climatology", {"statistic": "mean,std,p90,range"}),
        ("aggregate", {"to": "month", "statistic": "mean,std,max,range,p10"}),
        ("window", {"longer_than": "60days"}),
        ("window", {"shorter_than": "10days"}),
        ("window", {"width": "5days", "statistic": "median,range"}),
        ("trend", {}),
        ("spectrum", {"harmonics": 1}),
        ("summarise", {"statistic": "std"}),
        ("summarise", {"over": "time", "statistic": "max"}),
        ("calc", {"formula": "max(tas, 0[degC])", "name": "x"}),
    ):
        results = []
        for data in (cool, warm):
            more = {"to": data, "base": "2000..2002"} if verb == "adjust" else {}
            results.append(getattr(data, verb)(**options, **more))
        for field in results[0]:
            variable = results[0].variables[field]
            if is_temperature(variable.units or "1"):
                moved = results[1][field].values() - results[0][field].values()
                moves = np.nanmedian(moved) == pytest.approx(100, abs=1)
                assert moves or np.nanmedian(np.abs(moved)) < 1e-3, (verb, field)
                reading = read_zero(variable)
                what = Zero.ON_SCALE if moves else Zero.DIFFERENCE
                assert reading.zero is what, (verb, options, field, reading)
                assert not (moves and pivots(variable)), (verb, field)
                told += 1
    assert told > 20


@pytest.mark.parametrize(
    ("verb", "options", "field"),
    [
        ("aggregate", {"to": "month", "statistic": "std"}, "tas"),
        ("aggregate", {"to": "month", "statistic": "range"}, "tas"),
        ("window", {"width": "5days", "statistic": "std"}, "tas"),
        ("climatology", {"statistic": "range"}, "tas"),
        ("summarise", {"over": "time", "statistic": "std"}, "tas"),
        ("spectrum", {"harmonics": 1}, "tas_amplitude"),
        ("extremes", {"samples": 0, "above": "290 K"}, "tas_scale"),
    ],
)
@pytest.mark.filterwarnings("ignore::rhodolite.RhodoliteWarning")
def test_spreads_are_sizes_and_lie_on_one_side_of_zero(rng, verb, options, field):
    values = rng.normal(283, 5, (1461, 1, 1))
    variable = getattr(make_dataset(values), verb)(**options).variables[field]
    assert read_zero(variable).zero is Zero.DIFFERENCE
    assert not pivots(variable)


def test_percentages_and_ranks_of_a_base_are_no_departures():
    values = np.random.default_rng(3).normal(283, 5, (1461, 1, 1))
    days = make_dataset(values, attributes={"cell_methods": "time: maximum"})
    months = Aggregate(to="month")(days)
    for result in (
        days.indicator(kind="TX90p", highest="tas", base="2000..2002")["TX90p"],
        months.index(kind="percentile")["tas_index"],
        months.index(kind="rank")["tas_index"],
    ):
        assert "reference_period" in result.attributes
        assert not pivots(result)
    assert pivots(months.index(kind="standardised")["tas_index"])
    normals = months["tas"].edit(base_period="1991-2020")
    assert not pivots(normals)


@pytest.mark.filterwarnings("ignore::rhodolite.RhodoliteWarning")
def test_between_dates_there_are_times(rng):
    """Whatever is a difference of dates is in days, and no date itself."""
    dates = 365.0 * np.arange(12)[:, None, None] + 300 + rng.normal(0, 5, (12, 1, 2))
    about = {"units": "days since 2001-01-01", "standard_name": "", "cell_methods": ""}
    data = make_dataset(
        dates, times=np.arange(12) * 365.0 + 180, calendar="noleap", attributes=about
    )
    for verb, options, name, units in (
        ("trend", {}, "tas_trend", "days (10 year)-1"),
        ("trend", {}, "tas_change", "days"),
        ("detrend", {}, "tas", "days"),
        ("anomaly", {"cycle": "none"}, "tas", "days"),
        ("compare", {"with_": data}, "tas_difference", "days"),
        ("summarise", {"over": "time", "statistic": "std"}, "tas", "days"),
        ("summarise", {"over": "time", "statistic": "variance"}, "tas", "days2"),
        ("summarise", {"over": "time", "statistic": "max"}, "tas", about["units"]),
    ):
        assert getattr(data, verb)(**options)[name].units == units, (verb, name)
