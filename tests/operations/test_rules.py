"""Rules of units and amounts at their edges: ratios, months and years, differences of temperature,
winds, amounts since a start, pairs of fields, indices beyond their base."""

from __future__ import annotations

import warnings

import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here, write_plain
from rhodolite.checking import check
from rhodolite.errors import DataError, RhodoliteWarning, UsageError
from rhodolite.kernels.drought_indices import bound_index, fit_gamma, gamma_index
from rhodolite.kernels.pair_moments import PairMoments
from rhodolite.kernels.restarts import amounts_of_steps, fixed_restarts
from rhodolite.model.cf.precipitation import tell_precipitation
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.calendar_rates import days_of_unit
from rhodolite.model.units.conversion import rescaling
from rhodolite.model.units.differences import Zero, read_zero
from rhodolite.model.units.udunits import power, product
from rhodolite.operations.accumulate import Accumulate
from rhodolite.operations.aggregate import Aggregate
from rhodolite.operations.calc import Calc
from rhodolite.operations.compare import Compare
from rhodolite.operations.convert import Convert
from rhodolite.operations.index import Index
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.summarise import Summarise
from rhodolite.operations.trend import Trend
from rhodolite.operations.variables.references import with_bounds


def field(value, units, name="x", **attributes):
    about = {"units": units, "standard_name": "", "cell_methods": "", **attributes}
    return make_dataset(np.full((3, 2, 2), float(value)), name=name, attributes=about)


def formula(text, data, units=None):
    made = Calc(formula=text, name="result", units=units)(data)["result"]
    return float(made.values().ravel()[0]), made.units


@pytest.mark.parametrize(
    ("text", "value", "units", "answer"),
    [
        ("exp(0 - x / 8000[m])", 5.0, "km", np.exp(-0.625)),
        ("log(x / 1000[hPa])", 100000.0, "Pa", 0.0),
        ("where(x / 8000[m] > 0.5, 1, 0)", 5.0, "km", 1.0),
        ("x / 8000[m] + 1", 5.0, "km", 1.625),
        ("300[K] * (1000[hPa] / x)^0.286", 50000.0, "Pa", 300 * 2**0.286),
        ("exp(x)", 50.0, "%", np.exp(0.5)),
        ("x * x", 50.0, "%", 0.25),
        ("x * 2", 50.0, "%", 100.0),
        ("1 / x", 50.0, "%", 2.0),
        ("2^x", 300.0, "%", 8.0),
    ],
)
def test_what_has_the_dimension_of_a_number_is_one(text, value, units, answer):
    assert formula(text, field(value, units))[0] == pytest.approx(answer, rel=1e-6)


def test_a_percentage_divided_by_100_is_said_to_be_one_still():
    with pytest.warns(RhodoliteWarning, match=r"divide by 100\[%\]"):
        assert formula("x / 100", field(50, "%")) == (0.5, "%")


@pytest.mark.parametrize(
    ("first", "second", "made"),
    [("m s**-1", "m s-1", "m2 s-2"), ("m s^-1", "s", "m"), ("W/m^2", "m2", "W")],
)
def test_units_are_multiplied_however_they_are_written(first, second, made):
    assert product(first, second) == made


def test_powers_of_units_are_those_of_the_units_library():
    assert power("m2 s**-2", 0.5) == "m s-1"
    assert power("m s**-1", 2) == "m2 s-2"
    assert power("J/(kg K)", 2) is not None
    assert power("m", 0.5) is None
    assert formula("sqrt(x^2 + x^2)", field(3, "m s**-1"))[0] == pytest.approx(
        3 * 2**0.5
    )


@pytest.mark.parametrize(
    "text",
    [
        "180 + 180/3.14159*arctan2(x, x)",
        "arctan2(x, x)*180/3.1416",
        "180 + arctan2(x, x)",
    ],
)
def test_degrees_without_units_beside_an_angle_are_refused(text):
    with pytest.raises(DataError, match="direction"):
        formula(text, field(1, "m s-1"))


@given(st.floats(-30, 30), st.floats(-30, 30))
def test_speed_and_direction_of_a_wind(east, north):
    """Against the direction that the vector points to, turned round (WMO-No. 8)."""
    data = field(east, "m s-1", "u")
    other = field(north, "m s-1", "v")
    both = data.with_variables([*data.variables.values(), other["v"]])
    blows = formula("direction(u, v)", both)[0]
    if east == north == 0:
        assert np.isnan(blows)
        return
    assert 0 <= blows < 360
    towards = np.radians(blows + 180)
    speed = formula("speed(u, v)", both)[0]
    assert speed == pytest.approx(np.hypot(east, north), abs=1e-5)
    turned = [speed * np.sin(towards), speed * np.cos(towards)]
    assert turned == pytest.approx([east, north], abs=1e-4)


MONTHS = TimeAxis(np.arange(0.0, 365 * 3 + 1, 1.0), "days since 2003-01-01")


def test_a_day_of_one_is_the_days_of_its_month_or_year():
    """One mm day-1 is 28 to 31 mm month-1, and 365 or 366 mm year-1, by convert and by calc."""
    data = make_dataset(
        np.ones((366 * 2, 1, 1)), name="pr", attributes={"units": "mm day-1"}
    )
    for units, ends in (("mm month-1", (28, 29, 30, 31)), ("mm year-1", (365, 366))):
        ways = [
            Convert(units=f"pr={units}")(data),
            Calc(formula="pr", name="pr", units=units)(data),
        ]
        values = [way["pr"].values().ravel() for way in ways]
        np.testing.assert_array_equal(*values)
        assert set(np.round(values[0], 6)) <= set(ends)
    difference, units = formula("pr - 31[mm/month]", data)
    assert (difference, units) == (0.0, "mm day-1")
    assert set(days_of_unit(MONTHS, 12)) == {365.0, 366.0}


@pytest.mark.parametrize(
    ("length", "is_of"),
    [(7, "day"), (28, "day"), (30, "day"), (90, "day"), (360, "day"), (365, "year")],
)
def test_steps_of_some_days_count_the_parts_of_months_that_they_cover(length, is_of):
    """Each of its days is a part of the month or year it is a day of; one by one, with pandas. What
    is a month or a quarter long again and again is none."""
    axis = TimeAxis(np.arange(40.0) * length, "days since 2003-01-01")
    assert axis.resolution.unit == is_of
    days = pandas.date_range("2003-01-01", periods=40 * length)
    for months, sizes in (
        (1, days.days_in_month),
        (12, np.where(days.is_leap_year, 366, 365)),
    ):
        covered = (1 / np.asarray(sizes, dtype=float)).reshape(40, length).sum(axis=1)
        np.testing.assert_allclose(
            days_of_unit(axis, months), length / covered, rtol=1e-12
        )


def test_twelfths_of_a_year_are_months():
    axis = TimeAxis(np.arange(60) * 30.4375, "days since 2003-01-01")
    assert (axis.resolution.unit, axis.resolution.count) == ("month", 1)


@pytest.mark.parametrize(
    ("units", "factor"), [("kg m-2 s-1", 1 / 86400), ("mm/h", 1 / 24)]
)
@pytest.mark.parametrize("text", ["pr - 30[mm/month]", "max(pr, 30[mm/month])"])
def test_a_number_for_a_month_is_one_beside_any_rate_of_water(units, factor, text):
    values = np.linspace(0, 2, 366).reshape(-1, 1, 1)
    daily, other = (
        make_dataset(values * by, name="pr", attributes={"units": own})
        for own, by in (("mm day-1", 1.0), (units, factor))
    )
    first, second = (
        Calc(formula=text, name="x", units="mm/day")(data)["x"].values()
        for data in (daily, other)
    )
    np.testing.assert_allclose(second, first, rtol=1e-5, atol=1e-6)


def test_a_threshold_for_months_of_days_is_refused():
    data = make_dataset(
        np.ones((60, 1, 1)), name="pr", attributes={"units": "mm day-1"}
    )
    with pytest.raises(DataError, match="months and years differ"):
        Aggregate(to="month", statistic="count-above 30mm/month")(data)


@pytest.mark.parametrize(
    ("words", "zero"),
    [
        ("temperature anomaly", Zero.DIFFERENCE),
        ("Diurnal temperature range", Zero.DIFFERENCE),
        ("standard deviation of temperature", Zero.DIFFERENCE),
        ("global warming", Zero.DIFFERENCE),
        ("temperature trend", Zero.DIFFERENCE),
        ("departure from normal", Zero.DIFFERENCE),
        ("bias of the model", Zero.DIFFERENCE),
        ("depression of the dew point", Zero.DIFFERENCE),
        ("bias-corrected temperature", Zero.ON_SCALE),
        ("2 metre temperature", Zero.ON_SCALE),
        ("temperature change", Zero.UNCERTAIN),
        ("range of temperature", Zero.UNCERTAIN),
    ],
)
def test_differences_are_known_by_plain_words(words, zero):
    variable = field(2, "K", "tas", long_name=words)["tas"]
    assert read_zero(variable).zero is zero
    named = variable.edit(units_metadata="temperature: on_scale")
    assert read_zero(named).zero is Zero.ON_SCALE
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        offset = rescaling(variable, "degC").offset
    assert bool(said) == (zero is Zero.UNCERTAIN)
    assert offset == (0.0 if zero is Zero.DIFFERENCE else -273.15)


def test_thresholds_on_departures_are_differences(rng):
    """The same number of days above 2 K, 2 degC, and by a formula, in whatever units."""
    values = rng.normal(0, 2, (365, 1, 1))
    expected = int((values > 2).sum())
    for units in ("K", "degC"):
        about = {
            "units": units,
            "long_name": "temperature anomaly",
            "standard_name": "",
        }
        data = make_dataset(values, attributes=about, times=np.arange(365) + 366)
        for threshold in ("2K", "2degC"):
            counted = Aggregate(to="year", statistic=f"count-above {threshold}")(data)
            assert counted["tas"].values().item() == expected
        above = Calc(formula="tas > 2[K]", name="above")(data)["above"].values().sum()
        assert above == expected


def test_a_temperature_is_not_held_against_a_difference():
    data = field(280, "K", "tas")
    other = field(2, "K", "dt", long_name="temperature anomaly")["dt"]
    both = data.with_variables([*data.variables.values(), other])
    with pytest.raises(DataError, match="difference of temperatures"):
        formula("tas > dt", both)
    assert formula("tas + dt", both) == (282.0, "K")


def test_differences_that_calc_makes_are_marked_so():
    data = field(280, "K", "tas")
    made = Calc(formula="tas - 270[K]", name="d")(data)
    assert Convert(units="d=degC")(made)["d"].values().ravel()[0] == pytest.approx(10)


@pytest.mark.parametrize(
    ("name", "units", "words", "told"),
    [
        ("pr", "kg m-2 s-1", "", True),
        ("rr", "mm", "", True),
        ("value", "mm", "", True),
        ("field", "mm day-1", "", True),
        ("tas", "K", "", False),
        ("e", "mm day-1", "evaporation", False),
        ("balance", "mm", "", False),
        ("pr", "mm", "precipitation anomaly", False),
    ],
)
def test_precipitation_is_known_by_words_names_and_units(name, units, words, told):
    about = {"long_name": words} if words else {}
    assert bool(tell_precipitation(field(1, units, name, **about)[name])) == told


def test_an_index_beyond_its_base_is_bounded_in_the_order_of_the_values():
    """No rain where it rained every year of the base is drier than all, and finite; the bound is
    the normal deviate of 1 / (n + 1)."""
    base = np.linspace(20, 90, 30)[:, None]
    index = gamma_index(np.concatenate([[[0.0]], base]), *fit_gamma(base))
    assert np.isneginf(index[0, 0])
    bounded, beyond = bound_index(index, np.array([30]))
    assert beyond.sum() == 1
    assert np.isfinite(bounded).all()
    assert bounded[0, 0] == bounded.min()
    assert bounded[0, 0] <= -1.84  # the 1/31 quantile is -1.849
    about = {
        "units": "mm",
        "standard_name": "precipitation_amount",
        "cell_methods": "time: sum",
    }
    rain = np.concatenate([base, [[0.0]]])[:, :, None]
    data = make_dataset(
        rain, name="pr", attributes=about, times=np.arange(31) * 365, calendar="noleap"
    )
    with pytest.warns(RhodoliteWarning, match="1 of 31 values lie beyond"):
        made = Index(kind="standardised", base="2000..2029")(data)["pr_index"].values()
    assert np.isfinite(made).all()
    assert (
        "since it is called precipitation"
        in Index(kind="standardised")(data)["pr_index"].attributes["comment"]
    )


def test_a_normal_distribution_is_said_where_nothing_tells():
    data = make_dataset(
        np.arange(40.0)[:, None, None],
        name="q",
        times=np.arange(40) * 365,
        calendar="noleap",
        attributes={"units": "1", "standard_name": "", "cell_methods": "time: mean"},
    )
    with pytest.warns(RhodoliteWarning, match="--distribution gamma"):
        Index(kind="standardised")(data)


@given(st.integers(0, 10_000), st.sampled_from([0.0, 1e7, -3e9]))
def test_moments_of_pairs_keep_a_small_spread_about_a_large_mean(seed, mean):
    """Against numpy.corrcoef and numpy.var of the same values without their mean, to 6 digits,
    whole and merged from parts."""
    random = np.random.default_rng(seed)
    x = random.normal(size=(40, 5))
    y = 0.5 * x + random.normal(size=x.shape)
    whole = PairMoments.of(x + mean, y + mean, {}, (0, 1))
    parts = [
        PairMoments.of(x[part] + mean, y[part] + mean, {}, (0, 1))
        for part in (slice(0, 7), slice(7, None))
    ]
    rel = 1e-9 if mean == 0 else 1e-5
    for found in (whole, parts[0].merged(parts[1])):
        assert float(found.correlation()) == pytest.approx(
            np.corrcoef(x.ravel(), y.ravel())[0, 1], rel=rel
        )
        assert float(found.variances()[0]) == pytest.approx(x.var(), rel=rel)


def test_compare_brings_the_other_into_line(rng):
    """Rows, columns from another meridian, the order of axes and units are those of the first."""
    values = rng.normal(280, 5, (4, 3, 6))
    lats, lons = [50.0, 55, 60], np.arange(6) * 60.0
    first = make_dataset(values, lats=lats, lons=lons)
    turned = np.roll(values[:, ::-1], 3, axis=2) - 273.15
    second = make_dataset(
        turned,
        lats=lats[::-1],
        lons=(np.roll(lons, 3) + 180) % 360 - 180,
        attributes={"units": "degC"},
    )
    made = Compare(with_=OtherDataset.of(second))(first)["tas_difference"].values()
    np.testing.assert_allclose(made, 0, atol=1e-9)
    shifted = make_dataset(values, lats=lats, lons=lons + 20)
    with pytest.raises(DataError, match="other longitudes"):
        Compare(with_=OtherDataset.of(shifted))(first)


def test_amounts_since_a_start_fall_at_fixed_steps_alone():
    assert fixed_restarts(np.array([0, 0, 1, 0, 0, 1], bool)) == (0, 3)
    assert fixed_restarts(np.array([1, 0, 0, 1, 0, 0], bool)) == (1, 3)
    assert fixed_restarts(np.array([1, 0, 1, 1], bool)) is None
    assert fixed_restarts(np.zeros(5, bool)) is None
    made = amounts_of_steps(
        np.array([[1.0], [3], [2], [2.5]]), None, np.array([1, 0, 1, 0], bool)
    )
    assert made.ravel().tolist() == [1, 2, 2, 0.5]


def test_amounts_since_the_start_of_a_forecast_are_noticed_and_taken_apart(
    tmp_path, rng
):
    """Rain of single hours comes back, falls by rounding count as nothing, and sums are right."""
    rain = np.where(
        rng.random((10, 24, 2, 2)) < 0.4, rng.random((10, 24, 2, 2)) * 3, 0.0
    )
    stored = np.cumsum(rain, axis=1).reshape(240, 2, 2)
    write_plain(
        tmp_path / "tp.nc",
        stored,
        times=np.arange(1, 241),
        units="hours since 2001-01-01",
        name="tp",
        attributes={"units": "mm", "long_name": "total precipitation"},
    )
    day = ("--to", "day", "--statistic", "sum")
    for sum_of in (
        ("aggregate", "tp.nc", *day),
        ("summarise", "tp.nc", "--over", "time", "--statistic", "sum"),
        ("accumulate", "tp.nc", "--reset", "never"),
    ):
        answer = run_here(*sum_of, "-o", f"{sum_of[0]}.nc", folder=tmp_path)
        assert answer.err.count("begins again every 24 steps") == 1
    checked = run_here("check", "tp.nc", "--values", folder=tmp_path)
    assert "convert --amounts since-start" in checked.out
    answer = run_here(
        "convert",
        "tp.nc",
        "--amounts",
        "since-start",
        "then",
        "aggregate",
        *day,
        "-o",
        "out.csv",
        folder=tmp_path,
    )
    assert answer.code == 0, answer.err
    assert "began again every 24 steps" in answer.out
    sums = np.loadtxt(tmp_path / "out.csv", delimiter=",", skiprows=1, usecols=-1)
    np.testing.assert_allclose(sums, rain.sum(axis=1).ravel(), rtol=1e-5, atol=1e-5)


def test_a_trend_of_correlated_noise_says_what_its_values_are_worth(rng):
    """The sentence, the file and the default are those of the corrected test."""
    noise = rng.normal(size=600)
    for at in range(1, 600):
        noise[at] += 0.7 * noise[at - 1]
    data = make_dataset(
        noise[:, None, None],
        times=np.arange(600) * 30 + 15,
        calendar="360_day",
        attributes={"base_period": "all", "standard_name": ""},
    )
    made, plain = Trend()(data), Trend(serial_correlation="none")(data)
    worth = made["tas_trend_effective_size"].values().item()
    r = made["tas_trend_autocorrelation"].values().item()
    assert worth == pytest.approx(600 * (1 - r) / (1 + r))
    assert made["tas_trend_error"].values() > plain["tas_trend_error"].values()
    assert "tas_trend_autocorrelation" not in plain.variables
    with pytest.raises(UsageError, match="goes with"):
        Trend(test="mann-kendall", serial_correlation="ar1")


@pytest.mark.parametrize("kind", ["f4", "f8", "i2", "i4"])
def test_results_have_the_precision_that_values_came_in(tmp_path, kind):
    """In a chain as after a file; 32 bits of integers need doubles, packed ones of 16 do not."""
    numbers = np.random.default_rng(3).integers(1, 400, (400, 2, 2))
    numbers += 2**24 if kind == "i4" else 0
    about = {"units": "K"} | ({"scale_factor": 0.25} if kind == "i2" else {})
    path = write_plain(
        tmp_path / "a.nc", numbers, kind=kind, times=np.arange(400), attributes=about
    )
    data, single = rhodolite.read(path), kind in ("f4", "i2")
    series = data.summarise()
    results = {
        "x": data.calc(formula="tas + 1[K]", name="x"),
        "tas_regression": data.correlate(with_=series),
        "tas_chosen": data.composite(when="mean(tas, area) > 100[K]"),
        "tas_pattern": data.patterns(count=1),
        "tas": data.aggregate(to="month"),
        "tas_trend": data.trend(),
    }
    for name, result in results.items():
        result.write(tmp_path / f"{name}.nc")
        again = rhodolite.read(tmp_path / f"{name}.nc")
        assert (again[name].data.dtype == np.float32) == single, name
        kinds = {
            made.calc(formula=f"{name} * 1", name="y")["y"].data.dtype
            for made in (result, again)
        }
        assert len(kinds) == 1, name
    if kind == "i4":
        np.testing.assert_array_equal(results["x"]["x"].values(), numbers + 1)
    data.correlate(with_=data).write(tmp_path / "p.nc")
    pvalue = rhodolite.read(tmp_path / "p.nc")["tas_correlation_pvalue"]
    assert pvalue.data.dtype == np.float64


@pytest.mark.parametrize("units", ["mm/day", "mm/month", "m/s"])
@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_a_slope_is_converted_as_its_rate_is(rng, units):
    """By the density of water; of months the slope is one of mean months."""
    values = rng.gamma(1, 3e-5, (20, 2, 1)) + np.linspace(0, 1e-4, 20)[:, None, None]
    data = make_dataset(
        values,
        times=np.arange(20) * 365 + 180,
        calendar="noleap",
        name="pr",
        attributes={"units": "kg m-2 s-1"},
    )
    slope = f"{units} (10 year)-1"
    first = Convert(units=f"pr_trend={slope}")(Trend()(data))["pr_trend"]
    plain = "mm/day" if units == "mm/month" else units
    second = Trend()(Convert(units=f"pr={plain}")(data))["pr_trend"].values()
    factor = 365.2425 / 12 if units == "mm/month" else 1.0
    assert first.units == slope
    np.testing.assert_allclose(first.values(), second * factor, rtol=1e-6)


@pytest.mark.parametrize(
    ("first", "length", "told"),
    [
        (np.arange(12.0) - 1, 3, "as those of running means do"),
        (np.repeat(np.arange(0.0, 12, 4), 4), None, "--amounts since-start"),
        (np.arange(12.0), 1, None),
        (np.arange(12.0), 1 + 0.5 / 86400, None),  # rounded to seconds
    ],
)
@pytest.mark.parametrize("units", ["mm/day", "mm"])
def test_what_steps_share_is_not_added_up(first, length, told, units):
    length = np.tile([1.0, 2, 3, 4], 3) if length is None else length
    bounds = np.stack([first, first + length], axis=1)
    data = make_dataset(
        np.ones((12, 1, 1)),
        name="pr",
        times=bounds.mean(axis=1),
        attributes={"units": units, "standard_name": "", "cell_methods": "time: sum"},
    )
    data = with_bounds(data, "time", bounds)
    ways = (Summarise(over="time", statistic="sum"), Accumulate())
    if told is None:
        total = float(ways[0](data)["pr"].values().ravel()[0])
        assert total == pytest.approx(12, rel=1e-4)
        return
    for way in ways:
        with pytest.raises(DataError, match=told):
            way(data)
    assert any("overlap" in finding.what for finding in check(data))
