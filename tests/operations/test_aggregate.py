"""Totals and statistics of periods, running totals, and indices: against pandas, scipy and sums by
hand."""

from __future__ import annotations

import warnings

import numpy as np
import pandas as pd
import pytest
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, make_dataset, run_here
from rhodolite import Accumulate, Aggregate, Convert, DataError, Index, UsageError
from rhodolite.errors import RhodoliteWarning
from rhodolite.operations import aggregate as module
from rhodolite.operations.time_groups.totals import rate_units

KEYS = {
    "hour": lambda t: t.floor("h"),
    "3hour": lambda t: t.floor("3h"),
    "day": lambda t: t.floor("D"),
    "month": lambda t: t.to_period("M"),
    "season": lambda t: t.to_period("Q-NOV"),
    "year": lambda t: t.year,
    "decade": lambda t: (t.year - 1) // 10,
    "3months": lambda t: t.to_period("Q"),
    "10days": lambda t: (t - t[0].floor("D")).days // 10,
    # 29 February lies in the twelfth pentad, which has six days then.
    "pentad": lambda t: (
        t.year * 100
        + (t.day_of_year - 1 - ((t.day_of_year > 59) & t.is_leap_year)) // 5
    ),
}
STATISTICS = {
    "mean": lambda g: g.mean(),
    "sum": lambda g: g.sum(min_count=1),
    "min": lambda g: g.min(),
    "max": lambda g: g.max(),
    "range": lambda g: g.max() - g.min(),
    "std": lambda g: g.std(),
    "variance": lambda g: g.var(),
    "median": lambda g: g.median(),
    "p90": lambda g: g.quantile(0.9),
    "p0": lambda g: g.min(),
    "p100": lambda g: g.max(),
    "p2.5": lambda g: g.quantile(0.025),
    "count": lambda g: g.count(),
    "count-above 3": lambda g: g.apply(lambda v: (v > 3).sum()),
    "count-below 3": lambda g: g.apply(lambda v: (v < 3).sum()),
    "longest-run-above 3": lambda g: g.apply(lambda v: longest(v > 3)),
    "longest-run-below 3mm": lambda g: g.apply(lambda v: longest(v < 3)),
}


def longest(hits):
    return max(
        (len(run) for run in "".join("x" if hit else " " for hit in hits).split()),
        default=0,
    )


def amounts(times, seed=0, gaps=0.1, **attributes):
    """Random amounts at some times, and the same as a pandas series of one cell."""
    random = np.random.default_rng(seed)
    values = random.gamma(2.0, 2.0, (len(times), 2, 2))
    values[random.random(values.shape) < gaps] = np.nan
    hours = ((times - pd.Timestamp("2000-01-01")) / pd.Timedelta("1h")).to_numpy()
    about = {
        "units": "mm",
        "standard_name": "",
        "cell_methods": "time: sum",
    } | attributes
    data = make_dataset(
        values, times=hours, units="hours since 2000-01-01", name="pr", attributes=about
    )
    return data, pd.Series(values[:, 1, 0], times)


@pytest.mark.slow
@settings(max_examples=EXAMPLES or 40)
@given(
    st.sampled_from(sorted(KEYS)),
    st.sampled_from(sorted(STATISTICS)),
    st.integers(0, 99),
    st.booleans(),
)
def test_periods_and_statistics_agree_with_pandas(interval, statistic, seed, at_once):
    """To 12 digits, for hourly and daily data with gaps, gathered at once or period by period."""
    hourly = interval in ("hour", "3hour", "day")
    times = pd.date_range(
        "2003-11-20 00:00",
        periods=400 if hourly else 900,
        freq="20min" if hourly else "D",
    )
    data, series = amounts(times, seed)
    with pytest.MonkeyPatch.context() as patch, warnings.catch_warnings():
        warnings.simplefilter("ignore", RhodoliteWarning)
        patch.setattr(module, "_HELD_AT_ONCE", (1 << 40) * at_once)
        found = Aggregate(to=interval, statistic=statistic, min_coverage=0)(data)[
            "pr"
        ].values()[:, 1, 0]
    grouped = series.groupby(KEYS[interval](times))
    expected = STATISTICS[statistic](grouped).to_numpy(float)
    if statistic != "count":
        expected = np.where(grouped.count() > 0, expected, np.nan)
    np.testing.assert_allclose(found, expected, rtol=1e-12, atol=1e-12)


COMMON = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]


@pytest.mark.parametrize(
    ("calendar", "days"),
    [("noleap", COMMON), ("360_day", [30] * 12), ("all_leap", [31, 29, *COMMON[2:]])],
)
def test_months_count_by_their_days_in_every_calendar(calendar, days):
    """By hand: the annual mean of January at 1 and other months at 0 is the share of January's
    days."""
    values = np.tile((np.arange(12) == 0).astype(float), 3)[:, None, None]
    middles = np.concatenate([[0], np.cumsum(np.tile(days, 3))])[:-1] + 10
    data = make_dataset(
        values, times=middles, calendar=calendar, units="days since 2001-01-01"
    )
    year = Aggregate(to="year")(data)
    np.testing.assert_allclose(
        year["tas"].values()[:, 0, 0], days[0] / sum(days), rtol=1e-14
    )
    winter = Aggregate(to="season")(data)
    assert [
        d.strftime("%Y-%m") for d in winter.time.to_dates(winter.time.bounds[:, 0])
    ][:3] == [
        "2000-12",
        "2001-03",
        "2001-06",
    ]
    full = days[11] + days[0] + days[1]
    np.testing.assert_allclose(
        winter["tas"].values()[4, 0, 0], days[0] / full, rtol=1e-14
    )
    rates = data.with_variables(
        [
            *list(data.variables.values())[:-1],
            data["tas"].edit("standard_name", units="mm day-1"),
        ]
    )
    total = Aggregate(to="year", statistic="sum")(rates)["tas"]
    assert total.units == "mm"
    np.testing.assert_allclose(total.values()[:, 0, 0], days[0], rtol=1e-14)


def test_how_much_a_period_needs():
    """20 of 31 days make a mean and 19 do not; a sum, and a count of days, needs all."""
    times = pd.date_range("2001-01-01", "2001-03-31", freq="D")
    data, _ = amounts(times, gaps=0)
    values = data["pr"].values()
    values[20:31, 0, 0] = np.nan  # 20 of 31 are left
    values[19:31, 0, 1] = np.nan  # 19
    data = make_dataset(
        values,
        times=np.arange(90.0),
        units="days since 2001-01-01",
        attributes={"units": "mm", "cell_methods": "time: sum"},
    )
    missing = {
        "mean": [[0, 0, 1]],
        "sum": [[0, 0, 0], [0, 0, 1]],
        "count-above 1mm": [[0, 0, 0], [0, 0, 1]],
        "median": [[0, 0, 1]],
        "count": [],
    }
    for statistic, where in missing.items():
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            found = Aggregate(to="month", statistic=statistic, coverage=True)(data)
            assert np.argwhere(np.isnan(found["tas"].values())).tolist() == where
        ours = [w.message for w in caught if issubclass(w.category, RhodoliteWarning)]
        said = [str(message).split(" since")[0] for message in ours]
        assert said == [f"tas: {len(where)} of 12 monthly values are missing,"] * bool(
            where
        )
        np.testing.assert_allclose(
            found["tas_coverage"].values()[0], [[20 / 31, 19 / 31], [1, 1]], rtol=1e-6
        )
    with pytest.warns(
        RhodoliteWarning,
        match=r"1 of 3 monthly values are missing everywhere.* 2001-03 \(48% there\)",
    ):
        Aggregate(to="month")(rhodolite.Subset(time="..2001-03-15")(data))


def test_sums_of_sums_and_units_before_or_after_change_nothing():
    times = pd.date_range("2001-01-01", "2003-12-31", freq="D")
    data, _ = amounts(times, gaps=0)
    monthly, yearly = (
        Aggregate(to=to, statistic="sum")(data) for to in ("month", "year")
    )
    np.testing.assert_allclose(
        Aggregate(to="year", statistic="sum")(monthly)["pr"].values(),
        yearly["pr"].values(),
        rtol=1e-13,
    )
    first, after = Convert(units="pr=cm"), Aggregate(to="season", statistic="std")
    np.testing.assert_allclose(
        after(first(data))["pr"].values(), first(after(data))["pr"].values(), rtol=1e-12
    )
    flux = data.with_variables(
        [
            *list(data.variables.values())[:-1],
            data["pr"].replace(
                attributes={
                    "units": "kg m-2 s-1",
                    "standard_name": "precipitation_flux",
                    "cell_methods": "time: mean",
                }
            ),
        ]
    )
    total = Aggregate(to="year", statistic="sum")(flux)["pr"]
    np.testing.assert_allclose(
        total.values(), 86400 * yearly["pr"].values(), rtol=1e-12
    )
    about = total.attributes
    assert (total.units, about["standard_name"]) == ("kg m-2", "precipitation_amount")
    assert about["cell_methods"] == "time: mean time: sum (interval: 1 day)"


@pytest.mark.parametrize(
    ("rate", "amount"),
    [
        ("mm/day", ("mm", 86400.0)),
        ("kg m-2 s-1", ("kg m-2", 1.0)),
        ("W m-2", ("J m-2", 1.0)),
        ("mm h-1", ("mm", 3600.0)),
        ("s-1", ("1", 1.0)),
        ("m s-2", None),
        ("K", None),
        ("mm", None),
        ("m3 s-1", ("m3", 1.0)),
    ],
)
def test_rates_are_told_by_their_units(rate, amount):
    assert rate_units(rate) == amount


def test_running_totals_agree_with_pandas():
    """Against a grouped cumulative sum; after a gap the total is unknown up to the next start."""
    times = pd.date_range("2001-01-01", "2004-12-31", freq="D")
    data, series = amounts(times, gaps=0)
    for reset, key in (
        ("year", times.year),
        ("month", times.to_period("M")),
        ("season", times.to_period("Q-NOV")),
    ):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RhodoliteWarning)
            found = Accumulate(reset=reset, gaps="skip")(data)["pr"].values()[:, 1, 0]
        np.testing.assert_allclose(found, series.groupby(key).cumsum(), rtol=1e-12)
    from_october = Accumulate(start="oct", leap_day="drop")(data)
    assert len(from_october.time) == len(times) - 1
    dropped = ~((times.month == 2) & (times.day == 29))
    expected = series.groupby(times.to_period("Y-SEP")).cumsum()
    expected[times < "2001-10-01"] = (
        np.nan
    )  # the first year is not known from its beginning
    np.testing.assert_allclose(
        from_october["pr"].values()[:, 1, 0], expected[dropped], rtol=1e-12
    )
    values = data["pr"].values()
    values[40, 1, 0] = np.nan
    gappy = make_dataset(
        values,
        times=np.arange(len(times)),
        units="days since 2001-01-01",
        attributes={"units": "mm", "cell_methods": "time: sum"},
    )
    with pytest.warns(RhodoliteWarning, match="324 of 5,844 totals are missing"):
        total = Accumulate()(gappy)["tas"].values()[:, 1, 0]
    assert np.flatnonzero(np.isnan(total)).tolist() == list(range(40, 365))


def yearly(values, **attributes):
    values = np.asarray(values, float)
    days = (
        pd.to_datetime([f"{1981 + n}-07-01" for n in range(len(values))])
        - pd.Timestamp("1981-01-01")
    ).days
    about = {
        "units": "mm",
        "standard_name": "",
        "long_name": "rain",
        "cell_methods": "time: sum",
    } | attributes
    return make_dataset(
        values, times=np.asarray(days), units="days since 1981-01-01", attributes=about
    )


def test_the_rainfall_anomaly_index_agrees_with_a_worked_table():
    """Computed in plain Python from van Rooy's definition, ties and gaps included; to 12 digits."""
    rain = [812, 640, 955, 701, 640, 1020, 588, 733, 869, 640, 1100, 777, 512, 903, 690]
    cells = np.full((15, 1, 3), np.nan)
    cells[:, 0, 0], cells[:, 0, 1], cells[:9, 0, 2] = rain, 500.0, rain[:9]
    with pytest.warns(RhodoliteWarning, match="1 of 3 cells have no index"):
        made = Index(extremes=4, classes=True, min_coverage=0.5)(yearly(cells))
        found = made["tas_index"].values()[:, 0]
    for cell, values in ((0, rain), (2, rain[:9])):
        mean, ordered = sum(values) / len(values), sorted(values)
        high, low = sum(ordered[-4:]) / 4, sum(ordered[:4]) / 4
        expected = [
            3 * (x - mean) / (high - mean)
            if x >= mean
            else -3 * (x - mean) / (low - mean)
            for x in values
        ]
        np.testing.assert_allclose(found[: len(values), cell], expected, rtol=1e-12)
    assert np.isnan(found[:, 1]).all()  # the constant cell
    assert made["tas_class"].values()[[10, 12, 11], 0, 0].tolist() == [4, -4, 0]
    assert made["tas_class"].attributes["flag_meanings"].split()[:5] == [
        "extremely_dry",
        "very_dry",
        "moderately_dry",
        "slightly_dry",
        "near_normal",
    ]
    by_share = Index(extremes="20%")(yearly(cells[:, :, :1]))["tas_index"].values()[
        :, 0, 0
    ]
    top, bottom = np.quantile(rain, [0.8, 0.2])
    high, low = (
        np.mean([x for x in rain if keep(x)])
        for keep in (lambda x: x >= top, lambda x: x <= bottom)
    )
    mean = np.mean(rain)
    expected = [
        3 * (x - mean) / (high - mean) if x >= mean else -3 * (x - mean) / (low - mean)
        for x in rain
    ]
    np.testing.assert_allclose(by_share, expected, rtol=1e-12)


@pytest.mark.parametrize("months", [1, 3])
def test_the_standardised_index_agrees_with_scipy(months):
    """Against scipy.stats.gamma.fit with the location held at 0, to 6 digits; scipy stops at 7."""
    random = np.random.default_rng(5)
    rain = np.where(
        random.random((480, 1, 1)) < 0.15, 0.0, random.gamma(2.0, 30.0, (480, 1, 1))
    )
    times = np.arange(480) * 30 + 15
    about = {
        "units": "mm",
        "standard_name": "",
        "long_name": "rain",
        "cell_methods": "time: sum",
    }
    data = make_dataset(rain, times=times, calendar="360_day", attributes=about)
    found = Index(kind="standardised", months=months)(data)["tas_index"].values()[
        :, 0, 0
    ]
    sums = pd.Series(rain[:, 0, 0]).rolling(months).sum().to_numpy()
    assert np.isnan(found[: months - 1]).all()
    for month in range(12):
        chosen = sums[month::12]
        chosen = chosen[np.isfinite(chosen)]
        shape, _, scale = scipy.stats.gamma.fit(chosen[chosen > 0], floc=0)
        zeros = (chosen == 0).mean()
        expected = scipy.stats.norm.ppf(
            zeros + (1 - zeros) * scipy.stats.gamma.cdf(chosen, shape, scale=scale)
        )
        np.testing.assert_allclose(
            found[month::12][-len(chosen) :], expected, rtol=2e-6, atol=2e-6
        )
    normal = Index(kind="standardised", distribution="normal")(data)[
        "tas_index"
    ].values()[:, 0, 0]
    np.testing.assert_allclose(
        normal[::12], scipy.stats.zscore(rain[::12, 0, 0], ddof=1), rtol=1e-12
    )


@pytest.mark.parametrize(
    ("words", "code", "message"),
    [
        (["aggregate"], 2, "aggregate: to what? Add --to month"),
        (
            ["aggregate", "--to", "fortnight"],
            2,
            "'fortnight' is not an interval; write hour, 3hour",
        ),
        (["aggregate", "--to", "5hour"], 2, "5 hours do not divide a day"),
        (["aggregate", "--to", "day"], 3, "so there is nothing to aggregate to day"),
        (
            ["aggregate", "--to", "year", "--statistic", "averge"],
            2,
            "'averge' is not offered. Did you mean range?",
        ),
        (
            ["aggregate", "--to", "year", "--statistic", "count-above"],
            2,
            "needs a threshold; write 'count-above",
        ),
        (
            ["aggregate", "--to", "year", "--statistic", "count-above", "2m"],
            3,
            "tas is in K, which m cannot be",
        ),
        (
            ["aggregate", "--to", "year", "--season", "DJF"],
            2,
            "--season goes with --to season",
        ),
        (
            ["climatology", "--cycle", "week"],
            2,
            "--cycle: 'week' is not offered. There are: hour, day, month",
        ),
        (
            ["climatology", "--cycle", "month+day"],
            2,
            "does not go together; write day+hour",
        ),
        (
            ["climatology", "--cycle", "hour"],
            3,
            "a cycle by hour needs at least one per hour",
        ),
        (
            ["climatology", "--statistic", "sum"],
            2,
            "a sum over years is not a normal; take it of each month or year first",
        ),
        (
            ["climatology", "--smooth", "4"],
            2,
            "write an odd number of phases, such as 31, or '3 harmonics'",
        ),
        (
            ["climatology", "--smooth", "7 harmonics"],
            2,
            "the monthly cycle has 12 phases, enough for 5",
        ),
        (
            ["index", "--extremes", "20"],
            3,
            "the base has 40 years, and the number has to be below half of that",
        ),
        (
            ["index", "--months", "3"],
            2,
            "--months and --distribution belong to --kind standardised",
        ),
        (
            ["accumulate", "--reset", "month", "--start", "oct"],
            2,
            "--start goes with --reset year",
        ),
    ],
)
def test_what_cannot_be_done_is_said(demo, tmp_path, words, code, message):
    answer = run_here(
        *words[:1],
        demo / "garnet_monthly_1981-2020.nc",
        *words[1:],
        "-o",
        tmp_path / "x.nc",
    )
    assert answer.code == code
    assert message in answer.err
    assert not list(tmp_path.iterdir())


@pytest.mark.slow
def test_thresholds_are_typed_as_two_words_and_warnings_add_up(demo, tmp_path):
    out = tmp_path / "days.csv"
    answer = run_here(
        "subset",
        demo / "nordic_daily_2010.nc",
        "--variable",
        "pr",
        "--at",
        "61N,9E",
        "then",
        "aggregate",
        "--to",
        "month",
        "--statistic",
        "count-above",
        "1mm/day",
        "-o",
        out,
    )
    assert answer.code == 0, answer.err
    daily = rhodolite.Subset(variable="pr", at="61N,9E")(
        rhodolite.read(demo / "nordic_daily_2010.nc")
    )
    wet = (
        pd.Series(daily["pr"].values().ravel() * 86400 > 1)
        .groupby(daily.time.months)
        .sum()
    )
    assert pd.read_csv(out)["pr"].tolist() == wet.tolist()
    gappy = run_here(
        "aggregate",
        demo / "nordic_daily_2010.nc",
        "--to",
        "month",
        "--statistic",
        "sum",
        "-o",
        tmp_path / "a.nc",
    )
    assert gappy.err.count("monthly values are missing") <= 2


def test_data_that_are_no_amounts_are_named():
    days = np.arange(400.0)
    with pytest.warns(
        RhodoliteWarning, match=r"tas \(K\) is a state, not an amount or a rate"
    ):
        Aggregate(to="month", statistic="sum", min_coverage=0)(
            make_dataset(np.ones((400, 1, 1)), times=days)
        )
    with (
        pytest.raises(
            DataError,
            match="an interval scale with an arbitrary zero, so a sum is meaningless",
        ),
        warnings.catch_warnings(),
    ):
        warnings.simplefilter("ignore")
        Aggregate(to="month", statistic="sum")(
            make_dataset(np.ones((400, 1, 1)), times=days, attributes={"units": "degC"})
        )
    with pytest.raises(
        DataError,
        match="an index needs months, seasons or years, and the data have every day",
    ):
        Index()(make_dataset(np.ones((2000, 1, 1)), times=np.arange(2000.0)))
    with pytest.raises(UsageError, match="'50%': the share at each end"):
        Index(extremes="50%")
