"""Rules at the value where they turn: one more or one less, and the answer is another."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from scipy import stats

import rhodolite
from conftest import make_dataset
from rhodolite import Aggregate, Regrid, Subset, Summarise
from rhodolite.errors import DataError, UsageError
from rhodolite.operations.trends.false_discovery import discovery_limit

MONTHS = np.arange("2001-01", "2004-01", dtype="M8[M]").astype("M8[D]")


def series(values, times, units="K", **settings):
    return rhodolite.from_arrays(
        {"x": values}, {"time": times}, units={"x": units}, **settings
    )


def monthly(values):
    """One field of 36 months, over one cell."""
    return series(np.asarray(values, float), MONTHS)


def test_a_mean_of_twelve_values_needs_all_of_them_and_one_of_more_need_not():
    values = np.arange(36.0)
    values[5] = np.nan
    years = monthly(values).aggregate(to="year")["x"].values()
    assert np.isnan(years[0])
    assert np.isfinite(years[1:]).all()
    halves = np.arange("2001-01-01", "2001-02-01", dtype="M8[D]")
    days = np.arange(31.0)
    days[5] = np.nan
    assert np.isfinite(series(days, halves).aggregate(to="month")["x"].values()).all()


@pytest.mark.parametrize("seed", range(5))
def test_false_discoveries_are_those_of_scipy(seed):
    """Adjusted p-values of `scipy.stats.false_discovery_control` up to alpha, ties included."""
    random = np.random.default_rng(seed)
    pvalues = np.round(random.beta(0.4, 2, 60), 3).clip(1e-3)
    adjusted = stats.false_discovery_control(pvalues)
    for alpha in (0.01, 0.05, 0.2):
        np.testing.assert_array_equal(
            pvalues < discovery_limit(pvalues, alpha), adjusted <= alpha * (1 + 1e-12)
        )
    # Each at its place in order, to the last bit: all of them pass, and none with a little more.
    exact = 0.05 * np.arange(1, 9) / 8
    assert (exact < discovery_limit(exact, 0.05)).all()
    assert discovery_limit(np.nextafter(exact, 1), 0.05) == -1


def test_stamps_at_the_end_belong_to_what_they_end():
    """Hours that end at their stamps, and months that end at midnight of the first."""
    hours = np.datetime64("2001-01-01T01") + np.arange(48).astype("m8[h]")
    amounts = np.repeat([1.0, 2.0], 24)
    days = series(amounts, hours, "mm").aggregate(
        to="day", statistic="sum", stamp="end"
    )
    assert days["x"].values().tolist() == [24.0, 48.0]
    firsts = np.arange("2001-02", "2002-02", dtype="M8[M]").astype("M8[D]")
    year = series(np.arange(12.0), firsts).aggregate(to="year", stamp="end")
    lengths = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    assert year["x"].values()[0] == pytest.approx(
        np.average(np.arange(12.0), weights=lengths)
    )


def test_a_period_holds_the_moments_that_it_ends_and_begins_with():
    """To the second, on steps of a day, whose times may be off by more than that."""
    days = series(np.arange(4.0), np.datetime64("2000-01-01") + np.arange(4))
    for text, expected in (
        ("..2000-01-02T00:00:00", [0, 1]),
        ("2000-01-02T00:00:00..2000-01-03T00:00:00", [1, 2]),
        ("2000-01-02T00:00:00", [1]),
        ("2000-01-02T00:01:00..", [2, 3]),
        ("..2000-01-02T23:59:59", [0, 1]),
    ):
        assert days.subset(time=text)["x"].values().tolist() == expected


@pytest.mark.parametrize("serial", ["none", "ar1"])
@pytest.mark.parametrize("gap", [0, 7])
def test_limits_of_a_slope_are_those_of_scipy(gap, serial):
    """Slope plus and minus the quantile of t times the standard error; 10 digits. With serial
    correlation the error and the degrees of freedom are those of the effective size."""
    random = np.random.default_rng(gap)
    values = 0.01 * np.arange(36) + random.normal(size=36)
    values[3 : 3 + gap] = np.nan
    data = rhodolite.from_arrays(
        {"x": values},
        {"time": 365.0 * np.arange(36) + 182},
        units={"x": "K", "time": "days since 2001-01-01"},
        calendar="noleap",
    )
    result = data.trend(per="year", serial_correlation=serial)
    slope, lower, upper = (
        float(result[f"x_trend{part}"].values()) for part in ("", "_lower", "_upper")
    )
    there = np.flatnonzero(~np.isnan(values))
    line = stats.linregress(there, values[there])
    freedom, error = there.size - 2.0, line.stderr
    if serial == "ar1":
        size = float(result["x_trend_effective_size"].values())
        error *= np.sqrt(freedom / (size - 2))
        freedom = size - 2
    reach = stats.t.ppf(0.975, freedom) * error
    expected = [line.slope, line.slope - reach, line.slope + reach]
    np.testing.assert_allclose([slope, lower, upper], expected, rtol=1e-10)


def test_a_base_period_counts_the_years_that_the_data_have_not():
    """Two of the three Januaries there are half of the four that were asked for."""
    values = np.arange(36.0)
    values[0] = np.nan
    months = (
        monthly(values).climatology(base="2000..2003", min_coverage=0.6)["x"].values()
    )
    assert np.isnan(months[0])
    assert np.isfinite(months[1:]).all()
    # The same where the steps of a phase weigh as much as they last.
    values[5:8] = np.nan
    seasons = monthly(values).climatology(
        base="2000..2003", cycle="season", min_coverage=0.6
    )
    assert np.isnan(seasons["x"].values()).tolist() == [False, False, True, False]
    with pytest.raises(rhodolite.DataError, match="3 of its 4 years"):
        monthly(values).climatology(base="2000..2003", min_coverage=0.76)


def test_what_a_phase_lacks_is_counted_in_the_weights_of_its_mean():
    """A season whose February is missing has 62 of 90 days, 68.9 %, in each year."""
    values = np.arange(36.0)
    values[1::12] = np.nan
    for needed, there in ((0.68, True), (0.70, False)):
        seasons = monthly(values).climatology(cycle="season", min_coverage=needed)
        winter = seasons["x"].values()[0]
        assert np.isfinite(winter) == there


def test_numbers_beside_a_difference_are_differences():
    data = series(np.array([1.0, 2.0, 3.0]), MONTHS[:3], attributes={"x": DIFFERENCE})
    for formula in ("x + 1", "x + 1[K]", "1 + x", "x - 1[K]"):
        sign = -1 if "-" in formula else 1
        made = data.calc(formula=formula, name="y", units="degF")["y"]
        np.testing.assert_allclose(
            made.values(), (np.array([1, 2, 3]) + sign) * 1.8, rtol=1e-6
        )
        assert made.attributes["units_metadata"] == "temperature: difference"


DIFFERENCE = {
    "units_metadata": "temperature: difference",
    "long_name": "change of temperature",
}


def test_slopes_of_second_order_go_over_the_seam():
    """The same field on a globe that begins at 0 and on one that begins at 180 W."""
    east = np.arange(5.0, 360.0, 10.0)
    north = np.arange(-85.0, 90.0, 10.0)
    wave = np.cos(np.radians(north))[:, None] * np.cos(np.radians(3 * east + 20))
    fields = []
    for first in (0, 18):
        turned = np.roll(east, first) - np.where(np.arange(36) < first, 360.0, 0.0)
        data = make_dataset(np.roll(wave, first, axis=1)[None], lats=north, lons=turned)
        fine = data.regrid(to="5", order=2)["tas"].values()[0]
        fields.append(fine)
    np.testing.assert_allclose(fields[0], fields[1], atol=1e-6)
    columns = fields[0][9]
    assert np.abs(np.diff(np.append(columns, columns[0]), 2)).max() < 0.2


def test_a_site_at_the_seam_searches_on_its_other_side(tmp_path):
    """The cell of the site has no data; the nearest with data is the first column."""
    east = np.arange(-170.0, 180.0, 20.0)
    values = np.full((1, 3, 18), np.nan)
    values[0, 1, 0] = 7.0
    data = make_dataset(values, lats=[0.0, 10.0, 20.0], lons=east)
    (tmp_path / "s.csv").write_text("name,lat,lon\nA,10,171\n")
    assert data.extract(points=tmp_path / "s.csv", search=1)[
        "tas"
    ].values().ravel() == [7.0]


def test_directions_are_not_added_up_without_a_word():
    """Where values become one; where they stay themselves, and of other angles, nothing is said."""
    values = np.full((31, 2, 2), 350.0)
    about = {"units": "degree", "standard_name": "wind_from_direction"}
    wind = make_dataset(values, attributes=about)
    slope = make_dataset(values, attributes={"units": "degree", "standard_name": ""})
    of_components = make_dataset(values, attributes={"units": "m s-1"}).calc(
        formula="direction(tas, tas)", name="wd"
    )
    for step, warned in (
        (Aggregate(to="month"), True),
        (Summarise(), True),
        (Regrid(to="0.5", method="bilinear"), True),
        (Regrid(to="0.5", method="nearest"), False),
        (Subset(time="2000-01-02"), False),
    ):
        for data in (wind, slope, of_components):
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                step(data)
            said = any("begin again at north" in str(w.message) for w in caught)
            assert said == (warned and data is not slope), step
    name = wind.fields[0].name
    mean = rhodolite.Calc(formula=f"mean({name}, area)", name="x")
    for step in (mean, rhodolite.Series(), rhodolite.Map()):
        with pytest.warns(rhodolite.errors.RhodoliteWarning, match="begin again"):
            step(wind)


@pytest.mark.parametrize(
    "step",
    [
        rhodolite.Trend(),
        rhodolite.Detrend(),
        rhodolite.Window(width=3),
        rhodolite.Spectrum(),
        rhodolite.Anomaly(min_years=1),
        rhodolite.Climatology(min_years=1),
        rhodolite.Index(),
        rhodolite.Extremes(),
    ],
)
def test_normals_are_no_values_of_years(step):
    """Twelve months that are those of a mean year have no trend, no spectrum and no base."""
    values = np.random.default_rng(2).random((48, 1, 1))
    data = make_dataset(
        values,
        times=np.arange(48) * 30.4375 + 14,
        attributes={"units": "mm/day"},
        name="pr",
    )
    with pytest.raises(DataError, match="holds normals, "):
        step(rhodolite.Climatology()(data))


def test_what_cannot_be_held_against_other_years_or_has_an_axis_twice_is_refused(rng):
    year = make_dataset(rng.random((12, 2, 2)), times=np.arange(12) * 30.4375 + 14)
    with pytest.raises(UsageError, match="the data are of one year"):
        rhodolite.Trend(test="seasonal-mann-kendall")(year)
    months = make_dataset(rng.random((60, 6, 6)), times=np.arange(60) * 30.4375 + 14)
    patterns = rhodolite.Patterns(count=2)(months)
    with pytest.raises(DataError, match="a dimension pattern already"):
        rhodolite.Patterns(count=3, with_=months)(patterns)
