"""Climatology and anomaly against a plain loop over phases, and their metadata against CF."""

from __future__ import annotations

import warnings

import cftime
import numpy as np
import pytest
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, make_dataset, run_here, write_plain
from rhodolite import Aggregate, Anomaly, Climatology, Convert, Subset
from rhodolite.arrays import Engine, InMemory
from rhodolite.errors import DataError, RhodoliteWarning
from rhodolite.formats import layout
from rhodolite.formats.netcdf import writer
from rhodolite.formats.netcdf.hdf5_filters import ChunkCodec
from rhodolite.model.axes import Role
from rhodolite.model.indexing import take
from rhodolite.operations.axis_reduction.area_mean import mean_over

CALENDARS = st.sampled_from(["standard", "noleap", "360_day"])


def daily(calendar="standard", years=4, seed=0, gaps=0.0, units="K", start=2001):
    """Daily data of some years with a yearly cycle, in memory, and the month and season of each
    day."""
    first, last = (
        cftime.datetime(y, 1, 1, calendar=calendar) for y in (start, start + years)
    )
    days = (last - first).days
    random = np.random.default_rng(seed)
    values = (
        random.normal(280, 5, (days, 2, 3))
        + 10 * np.sin(np.arange(days) / 58)[:, None, None]
    )
    values[random.random(values.shape) < gaps] = np.nan
    data = make_dataset(
        values,
        units=f"days since {start}-01-01",
        calendar=calendar,
        attributes={"units": units},
    )
    months = np.array([d.month for d in data.time.dates])
    return data, values, {"month": months - 1, "season": months % 12 // 3}


@pytest.mark.slow
@given(
    CALENDARS,
    st.sampled_from(["month", "season"]),
    st.integers(0, 1000),
    st.sampled_from([0.0, 0.1]),
)
def test_normals_are_the_means_of_their_phases(calendar, cycle, seed, gaps):
    """Against numpy.nanmean over each phase, to 13 digits."""
    data, values, phases = daily(calendar, seed=seed, gaps=gaps)
    normals = Climatology(cycle=cycle, min_coverage=0)(data)["tas"].values()
    for phase in range(len(normals)):
        np.testing.assert_allclose(
            normals[phase],
            np.nanmean(values[phases[cycle] == phase], axis=0),
            rtol=1e-13,
        )


@given(
    CALENDARS,
    st.sampled_from(["month", "season"]),
    st.sampled_from(["difference", "percent", "standardised"]),
)
def test_departures_of_each_kind(calendar, cycle, kind):
    """Against scipy.stats.zscore and plain arithmetic, to 11 digits; their mean over the base is
    zero."""
    data, values, phases = daily(calendar, gaps=0.05)
    found = Anomaly(cycle=cycle, kind=kind)(data)["tas"].values()
    for phase in range(phases[cycle].max() + 1):
        chosen = phases[cycle] == phase
        members, mean = values[chosen], np.nanmean(values[chosen], axis=0)
        expected = {
            "difference": members - mean,
            "percent": 100 * (members / mean - 1),
            "standardised": scipy.stats.zscore(
                members, axis=0, ddof=1, nan_policy="omit"
            ),
        }[kind]
        np.testing.assert_allclose(found[chosen], expected, rtol=1e-9, atol=1e-10)
        assert np.abs(np.nanmean(found[chosen], axis=0)).max() < 1e-11


def test_a_base_is_its_years_alone_and_normal_plus_departure_restores_the_data():
    data, values, phases = daily(years=6)
    base = np.isin(data.time.years, [2002, 2003, 2004])
    departures = Anomaly(base="2002..2004")(data)["tas"].values()
    normals = Climatology(base="2002..2004")(data)["tas"].values()
    for month in range(12):
        expected = values[base & (phases["month"] == month)].mean(axis=0)
        np.testing.assert_allclose(normals[month], expected, rtol=1e-14)
    np.testing.assert_allclose(
        departures + normals[phases["month"]], values, rtol=1e-14
    )


def test_a_normal_needs_most_of_its_base_and_what_is_lost_is_counted_once():
    data, values, phases = daily(years=4)
    january = np.flatnonzero(phases["month"] == 0)
    values[january[: len(january) // 3], 0, 0] = (
        np.nan
    )  # a third of one cell's Januaries
    with pytest.warns(
        RhodoliteWarning, match="tas, 2001..2004: 1 of 72 normals are missing"
    ):
        normals = Climatology()(data)["tas"].values()
    assert np.argwhere(np.isnan(normals)).tolist() == [[0, 0, 0]]
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert not np.isnan(Climatology(min_coverage=0.5)(data)["tas"].values()).any()


def test_zero_divisors_are_missing_and_counted():
    data, values, _ = daily(years=3)
    values[:, 0, 0] = 0.0
    for kind, what in (("percent", "normals"), ("standardised", "standard deviations")):
        with pytest.warns(RhodoliteWarning, match=f"12 of 72 {what} are 0"):
            found = Anomaly(kind=kind)(data)["tas"].values()
        assert np.isnan(found[:, 0, 0]).all()
        assert np.isfinite(found[:, 1, 2]).all()


def test_float32_stays_float32_and_levels_are_kept(demo):
    data = rhodolite.read(str(demo / "nordic_daily_*.nc"))
    assert Anomaly()(data)["tas"].data.dtype == np.float32
    random = np.random.default_rng(3)
    monthly = make_dataset(
        random.normal(size=(48, 2, 3)),
        times=np.arange(48) * 30 + 15,
        calendar="360_day",
    )
    deep = monthly["tas"].replace(
        dimensions=("lat", "time", "lon"), data=InMemory(random.normal(size=(2, 48, 3)))
    )
    found = Anomaly()(
        monthly.with_variables([*list(monthly.variables.values())[:-1], deep])
    )["tas"]
    assert found.dimensions == ("lat", "time", "lon")
    values = deep.values().reshape(2, 4, 12, 3)
    expected = values - values.mean(axis=1, keepdims=True)
    np.testing.assert_allclose(
        found.values().reshape(2, 4, 12, 3), expected, atol=1e-14
    )


def test_climatological_time_follows_cf(demo):
    """CF 7.4: climatology bounds from the first phase's beginning to the last one's end, and its
    cell_methods."""
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    normal = Climatology(base="1991..2020")(data)
    time = normal.variables["time"]
    assert time.attributes["climatology"] == "climatology_bounds"
    assert "bounds" not in time.attributes
    assert "time_bnds" not in normal.variables
    ends = normal.time.to_dates(normal.time.bounds)
    assert [d.strftime("%Y-%m-%d") for d in ends[6]] == ["1991-07-01", "2020-08-01"]
    tas = normal["tas"].attributes
    assert tas["cell_methods"] == "time: mean within years time: mean over years"
    assert tas["standard_name"] == "air_temperature"
    assert (
        tas["long_name"]
        == "monthly normal of near-surface air temperature, 1991 to 2020"
    )
    seasons = Climatology(cycle="season", base="1991..2020")(data).time
    first = [d.strftime("%Y-%m-%d") for d in seasons.to_dates(seasons.bounds)[0]]
    assert first == ["1990-12-01", "2020-03-01"]
    assert (np.diff(seasons.numbers) > 0).all()


@pytest.mark.parametrize(
    ("kind", "units", "standard_name", "metadata"),
    [
        ("difference", "K", "air_temperature_anomaly", "temperature: difference"),
        ("percent", "%", None, None),
        ("standardised", "1", None, None),
    ],
)
def test_what_a_departure_is_stays_true_in_its_attributes(
    demo, kind, units, standard_name, metadata
):
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    made = Anomaly(base="1981..2010", kind=kind)(data)
    tas = made["tas"].attributes
    assert (tas["units"], tas.get("standard_name"), tas.get("units_metadata")) == (
        units,
        standard_name,
        metadata,
    )
    assert tas["long_name"].endswith(
        "of near-surface air temperature from the monthly normal of 1981 to 2010"
    )
    assert tas["cell_methods"] == "time: mean"
    assert (
        "standard_name" not in made["pr"].attributes
    )  # CF has no name for a departure of precipitation
    given = {} if kind == "difference" else {"kind": kind}
    assert dict(made.record[-1]) == {"verb": "anomaly", "base": "1981..2010"} | given


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"base": "1961..1990"}, "--base 1961..1990 lies outside the data"),
        ({"base": "2001..2002"}, "has data in 2 years; a normal needs at least 3"),
        (
            {"base": "1991..2004"},
            r"hold 4 of its 14 years .* and 80% are needed. .* --min-coverage 0.28",
        ),
    ],
)
def test_a_base_that_the_data_do_not_cover_is_refused(settings, message):
    for operation in (Anomaly, Climatology):
        with pytest.raises(DataError, match=message):
            operation(**settings)(daily()[0])


def test_data_too_coarse_or_without_a_zero_are_refused():
    yearly = make_dataset(
        np.zeros((5, 2, 2)), times=np.arange(5) * 365, calendar="noleap"
    )
    with pytest.raises(
        DataError, match=r"a cycle by month needs at least one per month"
    ):
        Anomaly()(yearly)
    with pytest.raises(DataError, match="with an arbitrary zero, so percent"):
        Anomaly(kind="percent")(daily(units="degC")[0])
    data, _, phases = daily()
    late = take(
        data,
        {"time": np.flatnonzero((phases["month"] != 0) | (data.time.years == 2004))},
    )
    with pytest.raises(
        DataError,
        match=r"--base 2001\.\.2003 holds no values for January, which the data have",
    ):
        Anomaly(base="2001..2003")(late)


def test_the_signals_put_into_the_demo_are_found(demo):
    """The winter of 2014 by the fall of its departures from west to east; the warming by its slope
    in time."""
    nordic = Subset(variable="tas")(rhodolite.read(str(demo / "nordic_daily_*.nc")))
    winter = (
        Subset(season="DJF", years="2014")(Anomaly(cycle="season")(nordic))["tas"]
        .values()
        .mean(axis=(0, 1))
    )
    fall = np.polyfit(np.arange(0, 40.25, 0.5), winter, 1)[0] * 40
    # 3.0 K were put in; nine tenths remain, since the winter is one of the ten that make its own
    # normal.
    assert fall == pytest.approx(-2.7, abs=0.8)
    garnet = Anomaly()(rhodolite.read(demo / "garnet_monthly_1981-2020.nc"))
    rows = mean_over(garnet, garnet["tas"], (Role.LONGITUDE,)).values(Engine())
    slope = np.polyfit(garnet.time.decimal_years, rows, 1)[0] * 10
    expected = 0.10 + 0.40 * np.sin(np.radians(garnet["lat"].values())) ** 2
    # The noise of a row's mean is up to 1.5 K; over 480 months that leaves 0.08 K per decade.
    assert np.abs(slope - expected).max() < 0.16
    assert np.abs(slope - expected).mean() < 0.05


def sub_daily(calendar="standard", years=3):
    """Values every six hours over some years, and the day of a common year, month and hour of
    each."""
    first, last = (
        cftime.datetime(y, 1, 1, calendar=calendar) for y in (2003, 2003 + years)
    )
    hours = np.arange(0, (last - first).days * 24, 6.0)
    random = np.random.default_rng(1)
    values = (
        random.normal(280, 5, (hours.size, 1, 2))
        + 3 * np.sin(hours / 24 * 2 * np.pi)[:, None, None]
    )
    data = make_dataset(
        values, times=hours, units="hours since 2003-01-01", calendar=calendar
    )
    dates = data.time.dates
    plain = [
        (
            d.month,
            28 if (d.month, d.day) == (2, 29) and calendar != "360_day" else d.day,
        )
        for d in dates
    ]
    days = {pair: n for n, pair in enumerate(sorted(set(plain)))}
    hour = np.array([d.hour // 6 for d in dates])
    return (
        data,
        values,
        {
            "day": np.array([days[pair] for pair in plain]),
            "hour": hour,
            "none": 0 * hour,
            "month+hour": 4 * np.array([d.month - 1 for d in dates]) + hour,
        },
    )


@pytest.mark.slow
@settings(max_examples=EXAMPLES or 20)
@given(
    CALENDARS,
    st.sampled_from(["day", "hour", "month+hour", "none"]),
    st.sampled_from(
        ["mean", "std", "min", "max", "range", "median", "p90", "variance", "count"]
    ),
    st.booleans(),
)
def test_every_cycle_and_statistic_merged_or_from_whole_series(
    calendar, cycle, statistic, whole
):
    """Against NumPy over each phase, to 12 digits; 29 February counts with the 28th."""
    data, values, phases = sub_daily(calendar)
    engine = Engine(memory=1 << 12) if whole else Engine()
    found = Climatology(cycle=cycle, statistic=statistic)(data)["tas"].values(engine)
    expected = {
        "mean": np.mean,
        "std": lambda v, axis: np.std(v, axis=axis, ddof=1),
        "min": np.min,
        "max": np.max,
        "range": np.ptp,
        "median": np.median,
        "p90": lambda v, axis: np.quantile(v, 0.9, axis=axis),
        "variance": lambda v, axis: np.var(v, axis=axis, ddof=1),
        "count": np.count_nonzero,
    }[statistic]
    assert len(found) == phases[cycle].max() + 1
    for phase in range(len(found)):
        chosen = values[phases[cycle] == phase]
        np.testing.assert_allclose(found[phase], expected(chosen, axis=0), rtol=1e-12)
    departures = Anomaly(cycle=cycle)(data)["tas"].values(engine)
    for phase in range(len(found)):
        assert np.abs(departures[phases[cycle] == phase].mean(axis=0)).max() < 1e-11


def test_cycles_are_smoothed_around_their_ends():
    """A window against a plain sum over neighbours; harmonics against least squares on sines; to 12
    digits."""
    data, values, _ = daily("noleap", years=3)
    plain, window, waves = (
        Climatology(cycle="day", smooth=how)(data)["tas"].values()
        for how in (None, "31", "2 harmonics")
    )
    around = (np.arange(365)[:, None] + np.arange(-15, 16)) % 365
    np.testing.assert_allclose(window, plain[around].mean(axis=1), rtol=1e-12)
    angle = 2 * np.pi * np.arange(365) / 365
    design = np.stack(
        [np.ones(365), *(f(n * angle) for n in (1, 2) for f in (np.sin, np.cos))],
        axis=1,
    )
    fitted = design @ np.linalg.lstsq(design, plain.reshape(365, -1), rcond=None)[0]
    np.testing.assert_allclose(waves.reshape(365, -1), fitted, rtol=1e-12)
    departures = Anomaly(cycle="day", smooth="31")(data)["tas"].values()
    np.testing.assert_allclose(
        departures, values - np.tile(window, (3, 1, 1)), atol=1e-10
    )


def test_normals_of_another_dataset_or_a_file(demo, tmp_path):
    """The future of a model against its own past, straight and by way of a written climatology, in
    other units."""
    past, future = (
        rhodolite.read(demo / f"almandine_{when}.nc")
        for when in ("historical", "future")
    )
    normals = Climatology(base="1981..2010")(past)
    rhodolite.write(Convert(units="tas=degC")(normals), tmp_path / "normals.nc")
    stored = Anomaly(climatology=rhodolite.read(tmp_path / "normals.nc"))(future)["tas"]
    straight = Anomaly(climatology=past, base="1981..2010")(future)["tas"]
    expected = future["tas"].values() - normals["tas"].values()[future.time.months - 1]
    np.testing.assert_allclose(straight.values(), expected, atol=2e-5)
    np.testing.assert_allclose(stored.values(), expected, atol=1e-4)
    assert (
        stored.attributes["base_period"]
        == straight.attributes["base_period"]
        == "1981..2010"
    )
    with pytest.raises(
        DataError, match="holds a monthly cycle, not a seasonal one; add --cycle month"
    ):
        Anomaly(climatology=normals, cycle="season")(future)
    with pytest.raises(DataError, match="bring both to the same"):
        Anomaly(climatology=past)(Subset(lat="0..")(future))
    with pytest.raises(DataError, match="normals without standard deviations"):
        Anomaly(climatology=normals, kind="standardised")(future)["tas"].values()
    other = rhodolite.read(demo / "grossular_future.nc")
    with pytest.raises(
        DataError, match="the data have one value every month; a cycle by day"
    ):
        Anomaly(climatology=past, cycle="day")(other)


def test_months_count_by_their_days_in_a_season():
    """By hand, in a calendar without leap years: 31, 31 and 28 days of winter."""
    values = np.tile(np.arange(12.0), 3)[:, None, None]
    times = (
        np.concatenate(
            [
                [0],
                np.cumsum(np.tile([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31], 3)),
            ]
        )[:-1]
        + 14
    )
    data = make_dataset(
        values, times=times, calendar="noleap", units="days since 2001-01-01"
    )
    winter = Climatology(cycle="season")(data)["tas"].values()[0, 0, 0]
    assert winter == pytest.approx((0 * 31 + 1 * 28 + 11 * 31) / 90, rel=1e-14)
    year, every = (
        Climatology(cycle=cycle)(data)["tas"].values()[0, 0, 0]
        for cycle in ("year", "none")
    )
    assert (
        year
        == every
        == pytest.approx(Aggregate(to="year")(data)["tas"].values()[0, 0, 0], rel=1e-14)
    )


def test_percent_of_negative_normals_keeps_the_sign_of_the_quotient():
    """A wind of -3 where normal is -2 is 50 % more than normal, whichever way it blows."""
    times = np.arange(40) * 91.3125
    values = np.full((40, 1, 2), -2.0)
    values[:, 0, 1] = 2.0
    values[37] *= 1.5
    data = make_dataset(values, times=times, attributes={"units": "m s-1"}, name="ua")
    made = Anomaly(cycle="none", base="2000..2008", kind="percent")(data)["ua"].values()
    normal = values[:36].mean(axis=0)
    np.testing.assert_allclose(made, 100 * (values - normal) / normal, rtol=1e-12)
    assert made[37].ravel().tolist() == pytest.approx([50.0, 50.0])


@pytest.mark.parametrize(("present", "kept"), [(20, True), (19, False)])
def test_a_period_is_kept_from_the_share_that_is_asked_for_on(present, kept):
    """Of 25 values, 80 % are 20: as many are enough, one less is not."""
    values = np.full((25, 1, 1), np.nan)
    values[:present] = 1.0
    data = make_dataset(values, times=np.arange(25.0) + 0.5)
    made = Aggregate(to="25days", min_coverage=0.8)(data)["tas"].values()
    assert np.isfinite(made).all() == kept


@pytest.mark.parametrize("kind", ["i2", pytest.param("f4", marks=pytest.mark.long)])
@pytest.mark.parametrize(
    "base", [("--base", "2001..2001"), pytest.param((), marks=pytest.mark.long)]
)
@pytest.mark.parametrize(
    ("output", "times"),
    [("o.nc", 1), ("o.zarr", 1), ("o.nc --format netcdf3-64bit", 2)],
)
def test_departures_from_daily_normals_decode_each_map_once(
    tmp_path, monkeypatch, kind, base, output, times
):
    """Against a loop over days of the year in NumPy: to single precision, as they are written."""
    stored = np.random.default_rng(4).integers(-900, 900, (2 * 365, 3, 4)).astype(kind)
    stored[5::7, 1, 2] = -999
    packing = {"scale_factor": 0.1, "add_offset": 270.0} if kind == "i2" else {}
    write_plain(
        tmp_path / "a.nc",
        stored,
        units="days since 2001-01-01",
        calendar="noleap",
        kind=kind,
        fill=-999,
        attributes={"units": "K", **packing},
        chunksizes=(1, 3, 4),
        compression="zlib",
    )
    for holder, name, value in ((writer, "_SMALL", 8), (layout, "_LEAST_BYTES", 1)):
        monkeypatch.setattr(holder, name, value)
    decode, decoded = ChunkCodec.decode, []
    monkeypatch.setattr(
        ChunkCodec, "decode", lambda *a: decoded.append(1) or decode(*a)
    )
    words = ("anomaly", "a.nc", "--cycle", "day", "--min-years", "1", *base, "-o")
    words = (*words, *output.split())
    planned = run_here(*words, "--plan", folder=tmp_path)
    assert ("group by group" in planned.out) == (times == 1)
    answer = run_here(*words, folder=tmp_path)
    assert answer.code == 0, answer.err
    part = 1 if base and times == 2 else 2  # normals of a part, in a pass of their own
    assert len(decoded) == (2 + part * (times - 1)) * 365
    values = stored.astype("f8")
    values[stored == -999] = np.nan
    values = (values * 0.1 + 270.0 if packing else values).reshape(2, 365, 3, 4)
    normals = np.nanmean(values[: 1 if base else 2], axis=0)
    lacking = np.isnan(values[: 1 if base else 2]).mean(axis=0) > 0.2
    normals[lacking] = np.nan
    found = rhodolite.read(tmp_path / output.split()[0])["tas"].values()
    np.testing.assert_allclose(
        found.reshape(values.shape), values - normals, rtol=1e-6, atol=2e-5
    )


@settings(max_examples=EXAMPLES or 15)
@given(
    CALENDARS,
    st.sampled_from([3, 5, 31]),
    st.sampled_from(["p90", "mean", "median", "max", "std"]),
    st.integers(0, 50),
    st.sampled_from([0.0, 0.2]),
)
def test_pooled_days_are_those_of_a_plain_loop(calendar, pool, statistic, seed, gaps):
    """NumPy over all values within the window of days of every year, to 12 digits; across the turn
    of the year, with 29 February among those of the 28th."""
    data, values, _ = daily(calendar, years=3, seed=seed, gaps=gaps, start=2003)
    dates = data.time.dates
    lengths = {"360_day": [30] * 12}.get(
        calendar, [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]
    )
    before = np.concatenate([[0], np.cumsum(lengths)])
    places = np.array(
        [before[d.month - 1] + min(d.day, lengths[d.month - 1]) - 1 for d in dates]
    )
    days = before[-1]
    step = Climatology(
        cycle="day", pool=pool, statistic=statistic, min_years=1, min_coverage=0.0
    )
    normals = step(data)["tas"].values()
    reduce = {
        "p90": lambda v: np.nanpercentile(v, 90, axis=0),
        "mean": lambda v: np.nanmean(v, axis=0),
        "median": lambda v: np.nanmedian(v, axis=0),
        "max": lambda v: np.nanmax(v, axis=0),
        "std": lambda v: np.nanstd(v, axis=0, ddof=1),
    }[statistic]
    for day in (0, 1, 57, 58, 59, 180, days - 1):
        near = (day + np.arange(-(pool // 2), pool // 2 + 1)) % days
        expected = reduce(values[np.isin(places, near)])
        np.testing.assert_allclose(normals[day], expected, rtol=1e-12)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--pool", "4", "--cycle", "day"), "odd number of phases"),
        (("--pool", "15"), "the monthly cycle has 12 phases"),
        (("--pool", "401", "--cycle", "day"), "the daily cycle has 36"),
    ],
)
def test_what_cannot_be_pooled_is_said(tmp_path, words, said):
    times = np.arange(2000.0)
    write_plain(tmp_path / "a.nc", np.ones((2000, 1, 1)), times=times)
    answer = run_here("climatology", "a.nc", *words, "-o", "o.nc", folder=tmp_path)
    assert (answer.code, said in answer.err) == (2, True), answer.err
