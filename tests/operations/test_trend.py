"""Trends against certified values, SciPy, and the lines that were put in."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, RhodoliteWarning, UsageError
from rhodolite.kernels.line_fit import LineSums, fit_line, line_sums, merge_line_sums
from rhodolite.model.units.udunits import is_unit
from rhodolite.operations.trend import Per

NORRIS = np.array(
    [
        (0.2, 0.1),
        (337.4, 338.8),
        (118.2, 118.1),
        (884.6, 888.0),
        (10.1, 9.2),
        (226.5, 228.1),
        (666.3, 668.5),
        (996.3, 998.5),
        (448.6, 449.1),
        (777.0, 778.9),
        (558.2, 559.2),
        (0.4, 0.3),
        (0.6, 0.1),
        (775.5, 778.1),
        (666.9, 668.8),
        (338.0, 339.3),
        (447.5, 448.9),
        (11.6, 10.8),
        (556.0, 557.7),
        (228.1, 228.3),
        (995.8, 998.0),
        (887.6, 888.8),
        (120.2, 119.6),
        (0.3, 0.3),
        (0.3, 0.6),
        (556.8, 557.6),
        (339.1, 339.3),
        (887.2, 888.0),
        (999.0, 998.5),
        (779.0, 778.9),
        (11.1, 10.2),
        (118.3, 117.6),
        (229.2, 228.9),
        (669.1, 668.4),
        (448.9, 449.2),
        (0.5, 0.2),
    ]
)
"""The linear regression data set Norris of the NIST Statistical Reference Datasets: x, y."""


@pytest.mark.parametrize("parts", [1, 2, 7])
def test_certified_slope_and_error_to_eleven_digits(parts):
    """Against NIST StRD, Norris: certified slope and its standard deviation."""
    x, y = NORRIS.T
    total = LineSums.empty(())
    for at in np.array_split(np.arange(len(x)), parts):
        merge_line_sums(total, line_sums(x[at], y[at]), ())
    line = fit_line(total)
    assert float(line.slope) == pytest.approx(1.00211681802045, rel=1e-13)
    assert float(line.error) == pytest.approx(0.429796848199937e-3, rel=1e-11)


@given(st.integers(3, 60), st.integers(0, 999), st.booleans(), st.integers(1, 20))
def test_lines_are_those_of_scipy_however_they_are_cut(n, seed, gaps, cut):
    """Against scipy.stats.linregress, to 9 digits."""
    random = np.random.default_rng(seed)
    x = 1900 + np.sort(random.uniform(0, 100, n))
    y = 280 + random.normal(size=(n, 4)) + 0.03 * (x[:, None] - 1950)
    if gaps:
        y[random.random(y.shape) < 0.3] = np.nan
    total = LineSums.empty((4,))
    for start in range(0, n, cut):
        part = slice(start, start + cut)
        merge_line_sums(total, line_sums(x[part], y[part]), (slice(0, 4),))
    line = fit_line(total)
    for cell in range(4):
        there = ~np.isnan(y[:, cell])
        if there.sum() < 3:
            assert np.isnan(
                [line.slope[cell], line.error[cell], line.pvalue[cell]]
            ).all()
            continue
        expected = scipy.stats.linregress(x[there], y[there, cell])
        assert line.slope[cell] == pytest.approx(expected.slope, rel=1e-9, abs=1e-11)
        assert line.error[cell] == pytest.approx(expected.stderr, rel=1e-7, abs=1e-11)
        assert line.pvalue[cell] == pytest.approx(expected.pvalue, rel=1e-6, abs=1e-12)


def test_lines_without_spread_have_a_defined_surety():
    x = np.arange(5.0)
    line = fit_line(
        line_sums(x, np.stack([np.full(5, 3.0), 2 * x, np.full(5, np.nan)], axis=1))
    )
    np.testing.assert_array_equal(line.slope, [0, 2, np.nan])
    np.testing.assert_array_equal(line.error, [0, 0, np.nan])
    np.testing.assert_array_equal(line.pvalue, [1, 0, np.nan])


@pytest.mark.parametrize("calendar", ["standard", "noleap", "360_day"])
def test_the_slope_that_was_put_in_comes_out_in_every_calendar(calendar):
    made = make_dataset(
        np.zeros((40, 2, 3)), times=np.arange(40) * 365.0, calendar=calendar
    )
    years = made.time.decimal_years
    line = 280 + 0.05 * (years[:, None, None] - 2010) * np.array([1.0, -2.0, 0.0])
    data = make_dataset(
        np.broadcast_to(line, (40, 2, 3)),
        times=np.arange(40) * 365.0,
        calendar=calendar,
    )
    for per in Per:
        trend = rhodolite.Trend(per=per)(data)
        np.testing.assert_allclose(
            trend["tas_trend"].values()[0],
            np.array([0.05, -0.1, 0]) * per.years,
            atol=1e-10,
        )
        assert (
            trend["tas_trend"].units
            == {1: "K year-1", 10: "K (10 year)-1", 100: "K (100 year)-1"}[per.years]
        )
        assert is_unit(trend["tas_trend"].units)
    assert trend["tas_trend_significant"].values()[0].tolist() == [1, 1, 0]


def test_units_before_or_after_change_nothing(rng):
    data = make_dataset(280 + rng.normal(size=(30, 2, 3)), times=np.arange(30) * 365.0)
    plain = rhodolite.Trend()(data)
    celsius = rhodolite.Trend()(rhodolite.Convert(units="tas=degC")(data))
    assert celsius["tas_trend"].units == "K (10 year)-1"
    fahrenheit = rhodolite.Trend()(rhodolite.Convert(units="tas=degF")(data))
    for other in (celsius, fahrenheit):
        np.testing.assert_allclose(
            other["tas_trend"].values(), plain["tas_trend"].values(), rtol=1e-9
        )
    later = rhodolite.Convert(units="tas_trend=K year-1")(plain)
    np.testing.assert_allclose(
        later["tas_trend"].values() * 10, plain["tas_trend"].values(), rtol=1e-12
    )
    backward = make_dataset(data["tas"].values()[::-1], times=np.arange(30) * 365.0)
    np.testing.assert_allclose(
        rhodolite.Trend()(backward)["tas_trend"].values(),
        -plain["tas_trend"].values(),
        rtol=1e-2,
    )


def test_blocks_and_workers_change_nothing(rng):
    data = make_dataset(280 + rng.normal(size=(60, 9, 11)), times=np.arange(60) * 365.0)

    class Small(Engine):
        block_limit = 3000

    made = [
        rhodolite.Trend()(data)["tas_trend_error"].values(e)
        for e in (Engine(), Small(workers=1), Small(workers=3))
    ]
    np.testing.assert_array_equal(made[1], made[2])
    np.testing.assert_allclose(made[0], made[1], rtol=1e-12)


@pytest.mark.slow
def test_the_warming_of_the_demo_is_found_within_its_error(demo, tmp_path):
    words = [
        "anomaly",
        demo / "garnet_monthly_1981-2020.nc",
        "then",
        "trend",
        "-o",
        tmp_path / "t.nc",
    ]
    answer = run_here(*words)
    assert (answer.code, answer.err.count("\n")) == (0, 1), answer.err
    trend = rhodolite.read(tmp_path / "t.nc")
    latitude = trend["lat"].values()
    put_in = 0.10 + 0.40 * np.sin(np.radians(latitude))[:, None] ** 2
    slope, error = trend["tas_trend"].values(), trend["tas_trend_error"].values()
    assert np.isnan(slope).sum() == np.isnan(error).sum() == 60
    assert np.nanmean(np.abs(slope - put_in) < 3 * error) > 0.9
    assert np.nanmean(slope) == pytest.approx(put_in.mean(), abs=0.03)
    assert (
        trend["tas_trend"].attributes["ancillary_variables"].split()[0]
        == "tas_trend_error"
    )
    assert trend["tas_trend_significant"].values().min() == -1
    assert run_here("check", tmp_path / "t.nc").code == 0
    page = run_here("inspect", tmp_path / "t.nc").out
    assert "K (10 year)-1" in page


def test_what_hides_or_prevents_a_trend_is_told():
    monthly = make_dataset(
        np.random.default_rng(0).normal(size=(48, 2, 2)),
        times=15 + 30.4 * np.arange(48),
    )
    with pytest.warns(
        RhodoliteWarning,
        match="the annual cycle is still in the data .* anomaly then trend",
    ):
        rhodolite.Trend()(monthly)
    with pytest.raises(
        DataError, match="a trend needs at least 3 times, and there are 2"
    ):
        rhodolite.Trend()(make_dataset(np.zeros((2, 2, 2))))
    with pytest.raises(UsageError, match="--alpha 5: write a number between 0 and 1"):
        rhodolite.Trend(alpha=5)


@pytest.mark.parametrize("method", ["least-squares", "theil-sen"])
@pytest.mark.parametrize("steps", [40, 900])
def test_a_cell_with_an_infinite_value_has_no_trend(rng, method, steps):
    """And is no constant one; others have theirs. Long series are searched for their slopes."""
    values = rng.normal(0, 1, (steps, 1, 3))
    values[5, 0, 0] = np.inf
    values[::7, 0, 1] = -np.inf
    times = np.arange(steps) * 365.0
    data = make_dataset(values, times=times, calendar="noleap")
    alone = make_dataset(values[..., 2:], times=times, calendar="noleap")
    with pytest.warns(UserWarning, match="2 of 3 cells have infinite values"):
        slope = data.trend(method=method)["tas_trend"].values()[0]
    assert np.isnan(slope[:2]).all()
    expected = alone.trend(method=method)["tas_trend"].values().item()
    assert slope[2] == pytest.approx(expected, rel=1e-12)
    plain = data.trend(serial_correlation="none")
    for name in ("trend", "trend_pvalue", "change"):
        assert np.isnan(plain[f"tas_{name}"].values()[0, :2]).all()
    assert (plain["tas_trend_significant"].values()[0, :2] == -1).all()
