"""How far steps are apart, as opposed to what each stands for: a month a year, hours of each day,
and steps that are left out."""

from __future__ import annotations

import numpy as np
import pytest

from conftest import make_dataset
from rhodolite import (
    Aggregate,
    Correlate,
    DataError,
    Extremes,
    Spectrum,
    Subset,
    Trend,
    Window,
)
from rhodolite.exchange.arrays import from_arrays
from rhodolite.operations.indicator import Indicator
from rhodolite.operations.variables.references import with_bounds

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
YEARS = np.arange(1951, 2011)


def of_months(values):
    """Monthly data of years of one length."""
    starts = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30])
    times = (np.arange(60)[:, None] * 365 + starts).ravel()
    units, calendar = "days since 1951-01-01", "noleap"
    values = values.reshape(-1, 1, 1)
    return make_dataset(values, times=times, units=units, calendar=calendar, name="t")


@pytest.mark.parametrize(
    "verb",
    [
        Spectrum(),
        Window(width="5"),
        Window(width="5years"),
        Window(longer_than="4years"),
        Trend(),
    ],
)
def test_one_month_of_each_year_is_a_step_a_year(verb):
    """Januaries against years of the same values."""
    cycle = np.sin(2 * np.pi * YEARS / 5) + np.random.default_rng(1).normal(size=60)
    data = of_months(np.repeat(cycle, 12))
    januaries = verb(Subset(months="jan")(data))
    years = verb(Aggregate(to="year")(data))
    for name in (field.name for field in years.fields):
        results = (each[name].values().ravel() for each in (januaries, years))
        np.testing.assert_allclose(*results, rtol=1e-6, atol=1e-12)
    if isinstance(verb, Spectrum):
        strongest = int(np.argmax(januaries["t_power"].values().ravel()))
        assert januaries["frequency"].values()[strongest] == pytest.approx(0.2)


def of_days(part):
    """Warmest values of days, told of some part of each."""
    days = np.arange(0.0, 365 * 4 + 1)
    season = 285 - 12 * np.cos(2 * np.pi * days / 365.25)
    noise = np.random.default_rng(2).normal(0, 4, days.size)
    about = {"cell_methods": "time: maximum"}
    data = make_dataset(
        (season + noise).reshape(-1, 1, 1),
        times=days + 0.5,
        units="days since 2001-01-01",
        attributes=about,
        name="tasmax",
    )
    return with_bounds(data, "time", days[:, None] + np.array(part) / 24)


@pytest.mark.parametrize(
    "verb",
    [
        Aggregate(to="month"),
        Aggregate(to="year", statistic="count-above 295K"),
        Aggregate(to="pentad", statistic="max"),
        Indicator(kind="SU,TX90p,WSDI", base="2001..2004", highest="tasmax"),
        Window(width="5days"),
        Window(longer_than="30days"),
        Spectrum(),
    ],
)
def test_half_of_each_day_stands_for_it(verb):
    """Warmest values from 06 to 18, or from the evening before, as those of whole days."""
    whole = verb(of_days((0, 24)))
    assert any(np.isfinite(field.values()).any() for field in whole.fields)
    for part in ((6, 18), (-2, 21)):
        of_part = verb(of_days(part))
        for field in whole.fields:
            values = of_part[field.name].values()
            np.testing.assert_allclose(values, field.values(), rtol=1e-9)


def test_an_hour_of_each_day_does_not_stand_for_it():
    months = Aggregate(to="month")(of_days((12, 13)))
    assert np.isnan(months["tasmax"].values()).all()


@pytest.mark.parametrize("cells", [1, 50_000])
def test_runs_end_where_steps_are_left_out(cells):
    """January and July alone, in which every day is above: 31 in a row, and not 62."""
    values = np.broadcast_to(np.float32(280), (365 * 2, 1, cells))
    data = make_dataset(values, units="days since 2001-01-01", calendar="noleap")
    chosen = Subset(months="jan,jul")(data)
    runs = Aggregate(to="year", statistic="longest-run-above 0K")(chosen)["tas"]
    np.testing.assert_array_equal(runs.values(), np.full((2, 1, cells), 31.0))
    apart = Subset(months="jul,aug")(data)
    runs = Aggregate(to="year", statistic="longest-run-above 0K")(apart)["tas"]
    np.testing.assert_array_equal(runs.values(), np.full((2, 1, cells), 62.0))


@pytest.mark.parametrize("chosen", ["jan", "jan,jul"])
def test_lags_of_chosen_months_are_steps(chosen):
    """One after the other, against NumPy; dekads are in order, too."""
    values = np.random.default_rng(3).normal(size=(2, 720))
    ours, theirs = (Subset(months=chosen)(of_months(each)) for each in values)
    numbers = [each["t"].values().ravel() for each in (ours, theirs)]
    results = Correlate(with_=theirs, lag="-2..2")(ours)["t_correlation"].values()
    for lag, result in zip(range(-2, 3), results.ravel(), strict=True):
        first = numbers[0][max(lag, 0) : len(numbers[0]) + min(lag, 0)]
        second = numbers[1][max(-lag, 0) : len(numbers[1]) + min(-lag, 0)]
        assert result == pytest.approx(np.corrcoef(first, second)[0, 1], abs=1e-9)


def test_lags_of_dekads_are_steps():
    starts = np.arange("2001-01", "2006-01", dtype="M8[M]").astype("M8[D]")
    days = (starts[:, None] + np.array([0, 10, 20])).ravel()
    values = np.random.default_rng(4).normal(size=(2, days.size, 1, 1))
    axes = {"time": days, "lat": [0.0], "lon": [0.0]}
    ours, theirs = (from_arrays({"t": each}, axes, units={"t": "K"}) for each in values)
    result = Correlate(with_=theirs, lag="1..2")(ours)["t_correlation"].values()
    for lag, value in zip((1, 2), result.ravel(), strict=True):
        first, second = values[0, lag:].ravel(), values[1, :-lag].ravel()
        assert value == pytest.approx(np.corrcoef(first, second)[0, 1], abs=1e-9)


@pytest.mark.parametrize(
    "verb",
    [
        Trend(),
        Trend(order=2),
        Trend(method="theil-sen", serial_correlation="hamed-rao"),
        Trend(method="theil-sen", serial_correlation="pre-whitening"),
        Trend(test="mann-kendall"),
        Extremes(above="90%", periods="5,10", apart=3),
        "correlate",
        "rank correlate",
    ],
)
def test_what_lies_on_both_sides_of_a_gap_are_no_neighbours(verb):
    """Summers alone against all months of which only those of summers are there."""
    noise = np.random.default_rng(5).normal(size=(2, 720))
    persistent = np.cumsum(noise, axis=1) * 0.1 + noise + np.arange(720) * 0.002
    persistent[:, np.arange(720) % 12 // 3 != 2] = np.nan
    with_gaps = [of_months(each) for each in persistent]
    summers = [Subset(months="jul..sep")(each) for each in with_gaps]
    answers = []
    for ours, theirs in (with_gaps, summers):
        if isinstance(verb, str):
            method = "spearman" if "rank" in verb else "pearson"
            answers.append(Correlate(with_=theirs, lag="0..1", method=method)(ours))
        else:
            answers.append(verb(ours))
    for field in answers[0].fields:
        # The change is that from the first time to the last, whether or not values are there.
        if field.data.dtype.kind == "f" and not field.name.endswith("_change"):
            values = answers[1][field.name].values()
            np.testing.assert_allclose(values, field.values(), rtol=1e-9, atol=1e-14)


@pytest.mark.parametrize("months", [(1, 12), (6, 8)])
def test_peaks_in_a_year_are_of_the_time_that_was_watched(months):
    """One peak every tenth day of ten years; a fifth of the days left out, or all but summers."""
    days = np.arange("2001-01-01", "2011-01-01", dtype="M8[D]")
    values = np.random.default_rng(6).gamma(2.0, 1.0, days.size)
    values[::10] += 100
    month = days.astype("M8[M]").astype(int) % 12 + 1
    there = (month >= months[0]) & (month <= months[1])
    there &= (np.arange(days.size) // 100) % 5 != 3
    axes = {"time": days[there], "lat": [0.0], "lon": [0.0]}
    part = values[there].reshape(-1, 1, 1)
    data = from_arrays({"t": part}, axes, units={"t": "K"})
    results = Extremes(above="50K", periods="5", apart=1)(data)
    in_a_year = 36.52425 if months == (1, 12) else 9.2
    assert results["t_rate"].values().item() == pytest.approx(in_a_year, rel=0.01)


def test_rain_of_some_hours_is_not_that_of_the_day():
    days = np.arange(0.0, 365)
    about = {"units": "mm/day", "standard_name": "", "cell_methods": "time: mean"}
    data = make_dataset(
        np.ones((365, 1, 1)),
        times=days + 0.5,
        units="days since 2001-01-01",
        attributes=about,
        name="pr",
    )
    data = with_bounds(data, "time", days[:, None] + np.array([6, 18]) / 24)
    months = Aggregate(to="month", statistic="sum")(data)
    assert np.isnan(months["pr"].values()).all()
    with pytest.raises(DataError, match="the rain of a day is all that fell in it"):
        Indicator(kind="PRCPTOT", rain="pr")(data)
