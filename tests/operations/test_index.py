"""Indices by order and by a logistic distribution, and functions of weather in formulas."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import assume, given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset
from rhodolite import Index
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.drought_indices import logistic_index, rank_among, share_below
from rhodolite.kernels.extreme_values import l_moments

NUMBERS = st.lists(
    st.one_of(st.floats(-50, 50), st.just(1.0), st.just(np.nan)), min_size=1
)


@given(NUMBERS, NUMBERS)
def test_percentiles_and_ranks_are_those_of_scipy(values, base):
    """The mean percentile of a score; ranks of values within their own base."""
    known = np.array([b for b in base if not np.isnan(b)])
    shares = share_below(np.array(values), np.array(base))
    for value, share in zip(values, shares, strict=True):
        if np.isnan(value) or not known.size:
            assert np.isnan(share)
        else:
            expected = scipy.stats.percentileofscore(known, value, kind="mean")
            assert share == pytest.approx(expected, rel=1e-12)
    ranks = rank_among(np.array(base), np.array(base))
    expected = scipy.stats.rankdata(-np.array(base), method="min", nan_policy="omit")
    np.testing.assert_array_equal(ranks, expected)


@given(st.lists(st.floats(-50, 50), min_size=4, max_size=12))
def test_the_logistic_distribution_has_the_l_moments_of_the_base(values):
    """Integrals of the fitted probabilities, by the definition of L-moments, to 5 digits."""
    base = np.array(values)
    _, first, second, skewness = l_moments(base)
    assume(second > 0.1 and abs(skewness) < 0.3)
    reach = second * np.sinh(np.linspace(-16, 16, 400_001))
    below = scipy.stats.norm.cdf(logistic_index(first + reach, base))
    mean = first + np.trapezoid((reach > 0) - below, reach)
    spread = np.trapezoid(below * (1 - below), reach)
    third = np.trapezoid(below * (1 - below) * (2 * below - 1), reach)
    assert mean == pytest.approx(first, abs=2e-3 * second)
    assert spread == pytest.approx(second, rel=1e-3)
    assert third / spread == pytest.approx(skewness, abs=2e-3)


def test_a_water_balance_has_an_index_of_its_own_distribution():
    rng = np.random.default_rng(4)
    values = rng.gumbel(0, 30, (480, 2, 1))
    times = np.arange(480) * 30.0 + 15
    data = make_dataset(
        values,
        times=times,
        calendar="360_day",
        name="balance",
        attributes={"units": "mm day-1", "standard_name": ""},
    )
    result = Index(kind="standardised", months=3, distribution="log-logistic")(data)
    index = Engine().compute(result["balance_index"].data)
    sums = np.convolve(values[:, 0, 0], np.ones(3), "valid")[10::12]
    # Three months to each January: the index is a number of normal spread, in their order.
    januaries = index[12::12, 0, 0]
    assert abs(np.nanmean(index)) < 0.02
    assert abs(np.nanstd(index) - 1) < 0.03
    assert scipy.stats.spearmanr(sums, januaries)[0] == pytest.approx(1)
    assert "log-logistic" in result["balance_index"].attributes["comment"]


def test_this_year_among_all_years():
    values = np.array([3.0, 1.0, 2.0, 5.0, 5.0])[:, None, None]
    data = make_dataset(values, times=np.arange(5) * 365 + 180, calendar="noleap")
    rank = Index(kind="rank")(data)["tas_index"]
    np.testing.assert_array_equal(Engine().compute(rank.data)[:, 0, 0], [3, 5, 4, 1, 1])
    share = Index(kind="percentile", base="2000..2002", min_coverage=0.5)(data)
    assert share["tas_index"].units == "%"
    expected = [100 * 2.5 / 3, 100 * 0.5 / 3, 50, 100, 100]
    np.testing.assert_allclose(
        Engine().compute(share["tas_index"].data)[:, 0, 0], expected, rtol=1e-6
    )
    for options in (
        {"kind": "rank", "classes": True},
        {"kind": "percentile", "months": 3},
    ):
        with pytest.raises(UsageError):
            Index(**options)


@pytest.fixture
def weather():
    numbers = {
        "t": 26.6,
        "dew": 14.8,
        "tn": 14.8,
        "rh": 70.0,
        "wind": 30.0,
        "ps": 1001.0,
        "hot": 90.0,
        "cold": 263.15,
        "half": 0.5,
        "mild": 68.0,
    }
    units = {"t": "degC", "dew": "degC", "tn": "degC", "rh": "%", "hot": "degF"}
    units |= {"wind": "km h-1", "ps": "hPa", "cold": "K", "half": "1", "mild": "degF"}
    return rhodolite.from_arrays(
        {name: np.full((2, 2), value) for name, value in numbers.items()},
        {
            "time": np.array(["2015-07-15", "2015-01-15"], "M8[D]"),
            "lat": [45.72, -45.72],
        },
        units=units,
    )


@pytest.mark.parametrize(
    ("formula", "units", "expected"),
    [
        ("hargreaves(tn, t)", "mm day-1", 5.0),  # FAO 56, the worked example of Lyon
        ("saturation_pressure(t)", "hPa", 34.74),
        ("relative_humidity(t, dew)", "%", 48.3),
        ("dew_point(t, relative_humidity(t, dew))", "degC", 14.8),
        ("vapour_pressure_deficit(t, 100[%])", "hPa", 0.0),
        ("specific_humidity(dew, ps) * 1000", "1", 10.52),
        ("heat_index(hot, rh)", "degF", 105.9),
        ("wind_chill(cold, wind)", "degC", -19.5),
        ("wet_bulb(mild, half)", "degC", 13.7),
        ("wet_bulb(mild, 50)", "degC", 13.7),
    ],
)
def test_functions_of_weather_take_any_units_and_agree_with_published_values(
    weather, formula, units, expected
):
    result = weather.calc(formula=formula, name="x").fields[0]
    assert result.units == units
    assert result.values()[0, 0] == pytest.approx(expected, abs=0.06)


def test_what_functions_of_weather_cannot_take_is_refused(weather):
    for formula, words in (
        ("dew_point(t - tn, rh)", "not a difference"),
        ("heat_index(t, wind)", "cannot be converted to %"),
    ):
        with pytest.raises(DataError, match=words):
            weather.calc(formula=formula, name="x")
    plain = rhodolite.from_arrays(
        {"a": [1.0], "b": [2.0]},
        {"x": [0.0]},
        units={"a": "degC", "b": "degC", "x": "m"},
    )
    with pytest.raises(DataError, match="needs latitudes"):
        plain.calc(formula="hargreaves(a, b)", name="x")
