"""Windows that move along time: against plain loops, against periods, and at every end."""

from __future__ import annotations

from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here, write_plain
from rhodolite import Aggregate, DataError, UsageError, Window
from rhodolite.kernels import sliding
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.kernels.lanczos import lanczos_weights, low_pass
from rhodolite.kernels.moving_quantiles import (
    changes_of_groups,
    changes_of_windows,
    find_moving_quantiles,
)
from rhodolite.kernels.order_statistics import percentile
from rhodolite.kernels.sliding import slide, slide_quantile
from rhodolite.operations.time_groups import moving_windows

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
STATISTICS = [
    "mean",
    "sum",
    "min",
    "max",
    "range",
    "std",
    "median",
    "p90",
    "count",
    "count-above 1",
]
PLAIN = {
    "mean": np.nanmean,
    "sum": np.nansum,
    "min": np.nanmin,
    "max": np.nanmax,
    "range": lambda v: np.nanmax(v) - np.nanmin(v),
    "std": lambda v: np.nanstd(v, ddof=1) if np.isfinite(v).sum() > 1 else np.nan,
    "median": np.nanmedian,
    "p90": lambda v: np.nanpercentile(v, 90),
    "count": lambda v: np.isfinite(v).sum(),
    "count-above 1": lambda v: (v > 1).sum(),
}


def _days(values, kept, attributes=None):
    times = np.datetime64("2001-01-01") + kept
    return rhodolite.from_arrays(
        {"x": values},
        {"time": times, "lat": np.arange(float(values.shape[1]))},
        units={"x": "kg m-2"},
        attributes={"x": attributes or {"cell_methods": "time: sum"}},
    )


@given(
    st.sampled_from(list(PLAIN)),
    st.integers(1, 9),
    st.sampled_from(["centre", "start", "end"]),
    st.sampled_from([0.0, 0.5, 1.0]),
    st.integers(0, 999),
    st.booleans(),
)
def test_windows_are_those_of_a_plain_loop(
    statistic, length, align, share, seed, backwards
):
    """To 12 digits, with values and whole steps missing, in either order of time."""
    rng = np.random.default_rng(seed)
    kept = np.flatnonzero(rng.random(24) > 0.15)
    kept = kept[::-1] if backwards else kept
    values = np.where(
        rng.random((kept.size, 3)) < 0.1, np.nan, rng.gamma(1.0, 2.0, (kept.size, 3))
    )
    if kept.size < length or np.abs(np.diff(kept)).min() > 1:
        return
    step = Window(width=length, statistic=statistic, align=align, min_coverage=share)
    data = _days(values, kept)
    if align == "centre" and length % 2 == 0 and statistic not in ("mean", "sum"):
        with pytest.raises(
            DataError, match="has no middle step; take an odd number, or --align"
        ):
            step(data)
        return
    before = {"centre": [length // 2], "start": [0], "end": [length - 1]}[align]
    if align == "centre" and length % 2 == 0:
        before = [length // 2, length // 2 - 1]
    expected = np.full(values.shape, np.nan)
    for at, day in enumerate(kept):
        for cell in range(3):
            parts = []
            for back in before:
                inside = (kept >= day - back) & (kept < day - back + length)
                part = values[inside, cell]
                there = np.isfinite(part).sum()
                enough = there >= max(share * length, 1) - 1e-9
                parts.append(PLAIN[statistic](part) if enough else np.nan)
            expected[at, cell] = np.mean(parts)
    np.testing.assert_allclose(
        step(data)["x"].values(), expected, rtol=1e-12, atol=1e-12
    )


def test_a_window_of_a_year_is_the_year(demo):
    """Months count by their days, as in the mean of a year; sums turn rates into amounts."""
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    for name, statistic in (
        ("tas", "mean"),
        ("pr", "sum"),
        ("tas", "p90"),
        ("tas", "std"),
    ):
        part = data.subset(variable=name, lat=(50, 60), lon=(0, 20), time="1990..1993")
        moved = part.window(width="12months", statistic=statistic, align="end")
        years = part.aggregate(to="year", statistic=statistic)
        np.testing.assert_allclose(moved[name][11::12], years[name], rtol=1e-13)
        kept = ("units", "standard_name", "cell_methods", "units_metadata")
        for key in kept:
            assert moved[name].attributes.get(key) == years[name].attributes.get(key), (
                key
            )
        assert moved.dates.size == 48
    centred = part.window(width="1years", min_coverage=0.5)["tas"].values()
    assert np.isfinite(centred).all()


def test_windows_of_hours_days_and_years_are_whole_numbers_of_steps(demo):
    hours = rhodolite.read(demo / "rain_hourly.nc").subset(
        at=(60, 10), time="2018-10-01..2018-10-04"
    )
    day = hours.window(width="1day", statistic="sum", align="end")["pr"]
    steps = hours.window(width=24, statistic="sum", align="end")["pr"]
    np.testing.assert_array_equal(day, steps)
    days = hours.aggregate(to="day", statistic="sum")["pr"]
    np.testing.assert_allclose(day[23::24], days, rtol=1e-6)
    assert (day.units, day.attributes["standard_name"]) == (
        "kg m-2",
        "precipitation_amount",
    )
    for width, said in (
        ("1month", "are no whole number"),
        ("90days", "holds 2,160 steps"),
    ):
        with pytest.raises(DataError, match=said):
            hours.window(width=width)
    for width in ("0", "5weeks", "days"):
        with pytest.raises(UsageError, match="is no length of a window"):
            Window(width=width)
    with pytest.raises(
        DataError, match="holds normals, whose last step is followed by the first"
    ):
        rhodolite.read(demo / "garnet_monthly_1981-2020.nc").climatology().window(
            width=3
        )
    with pytest.raises(UsageError, match=r"window: how long\? Add --width"):
        Window()


def test_constants_stay_constants_and_packing_is_read(tmp_path):
    values = np.full((40, 2, 3), 1234)
    write_plain(
        tmp_path / "a.nc",
        values,
        kind="i2",
        attributes={"units": "K", "scale_factor": 0.01},
    )
    data = rhodolite.read(tmp_path / "a.nc")
    for width in (7, 8):
        mean = data.window(width=width, min_coverage=0.1)["tas"].values()
        np.testing.assert_array_equal(mean, data["tas"].values()[:1].repeat(40, axis=0))
    spread = data.window(width=9, statistic="std", align="start")["tas"].values()
    assert np.nanmax(spread) == 0
    degrees = data.convert(units="tas=degC").window(width=3, statistic="range")["tas"]
    assert (degrees.units, degrees.attributes["units_metadata"]) == (
        "K",
        "temperature: difference",
    )
    answer = run_here(
        "window",
        "a.nc",
        "--width",
        "7",
        "then",
        "subset",
        "--time",
        "2000-01",
        "-o",
        "b.nc",
        folder=tmp_path,
    )
    assert answer.code == 0 and "48 of 240 values are missing" not in answer.out
    assert "--min-coverage changes how much is needed" in answer.err


def test_memory_is_bounded_and_blocks_change_nothing(tmp_path, rng):
    values = rng.normal(size=(300, 20, 30)).astype("f4")
    write_plain(tmp_path / "a.nc", values, chunksizes=(1, 20, 30), zlib=True)
    moved = rhodolite.read(tmp_path / "a.nc").window(width=11)["tas"]
    small = moved.values(rhodolite.Engine(memory=1 << 18, workers=2))
    np.testing.assert_array_equal(small, moved.values(rhodolite.Engine(workers=1)))
    assert Aggregate(to="month")(rhodolite.read(tmp_path / "a.nc")) is not None


@pytest.mark.parametrize(
    ("verb", "settings"),
    [
        ("aggregate", {"to": "year", "coverage": True}),
        ("climatology", {"base": "1990..1993", "cycle": "season"}),
        ("window", {"width": "3months"}),
    ],
)
def test_several_statistics_at_once_are_those_of_each_alone(demo, verb, settings):
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    data = data.subset(lat=(50, 60), lon=(0, 20), time="1990..1993")
    asked = "mean,p10,p90,count-above 280K" if verb != "climatology" else "mean,p10,p90"
    data = data if "count" not in asked else data.subset(variable="tas")
    several = getattr(data, verb)(statistic=asked, **settings)
    for word in asked.split(","):
        alone = getattr(data, verb)(statistic=word, **settings)
        ending = {"count-above 280K": "count_above_280K"}.get(word, word)
        for field in data.fields:
            named = several[f"{field.name}_{ending}"]
            np.testing.assert_array_equal(named, alone[field.name])
            assert (
                named.attributes["long_name"]
                == alone[field.name].attributes["long_name"]
            )
            if verb == "aggregate":
                assert (
                    named.attributes["ancillary_variables"] == f"{named.name}_coverage"
                )
                share = several[f"{named.name}_coverage"]
                np.testing.assert_array_equal(share, alone[f"{field.name}_coverage"])
    assert several.record[-1]["statistic"] in (asked, asked.split(","))
    np.testing.assert_array_equal(several["time"], alone["time"])
    assert not set(several) & {"tas", "tas_coverage"}


def test_names_of_several_statistics_that_are_taken_are_refused(demo):
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc").subset(
        time="1990..1993"
    )
    data = data.with_fields(tas_mean=data["tas"][0])
    with pytest.raises(DataError, match="two variables would be called tas_mean"):
        data.aggregate(to="year", statistic="mean,max")


def _waves(years=60):
    """A slow, a middle and a quick wave over months, and the time of each."""
    months = np.arange(years * 12)
    parts = [
        amplitude * np.sin(2 * np.pi * months / period + 0.3)
        for amplitude, period in ((3.0, 240), (2.0, 60), (1.0, 8))
    ]
    return months, np.array(parts)


def _monthly(values, units="degC"):
    times = np.datetime64("1950-01") + np.arange(len(values))
    return rhodolite.from_arrays(
        {"x": values[:, None]},
        {"time": times.astype("M8[D]"), "lat": [0.0]},
        units={"x": units},
    )


@pytest.mark.parametrize(
    ("options", "kept"),
    [
        ({"longer_than": "10years"}, [1, 0, 0]),
        ({"longer_than": "24months"}, [1, 1, 0]),
        ({"shorter_than": "2years"}, [0, 0, 1]),
        ({"longer_than": "2years", "shorter_than": "10years"}, [0, 1, 0]),
    ],
)
def test_filters_part_slow_waves_from_quick_ones(options, kept):
    _, parts = _waves()
    data = _monthly(10 + parts.sum(axis=0))
    result = Window(**options)(data)["x"]
    departs = "shorter_than" in options
    assert result.units == ("K" if departs else "degC")
    expected = (np.array(kept)[:, None] * parts).sum(axis=0) + (0 if departs else 10)
    values = result.values()[:, 0]
    inside = np.isfinite(values)
    assert inside.sum() >= 400
    assert np.abs(values - expected)[inside].max() < 0.25


@given(st.integers(1, 20), st.floats(2, 30), st.integers(0, 99))
def test_a_filter_is_its_weights_written_out(half, cutoff, seed):
    """To 12 digits of a direct sum, whose weights are those of the formula."""
    values = np.random.default_rng(seed).normal(280, 5, 60)
    values[7] = np.nan
    steps = np.arange(1, half + 1)
    side = np.sin(2 * np.pi * steps / cutoff) / (np.pi * steps)
    side *= np.sin(np.pi * steps / half) / (np.pi * steps / half)
    weights = np.concatenate([side[::-1], [2 / cutoff], side])
    weights /= weights.sum()
    ours = low_pass(values[:, None], lanczos_weights(cutoff, half), 1.0)[:, 0]
    for at in range(60):
        around = values[max(at - half, 0) : at + half + 1]
        if len(around) < 2 * half + 1 or np.isnan(around).any():
            # A weight that is nought needs no value.
            continue
        assert ours[at] == pytest.approx((weights * around).sum(), rel=1e-11)
    equal = low_pass(np.full((60, 1), 0.1), lanczos_weights(cutoff, half), 0.5)
    assert set(equal[np.isfinite(equal)]) == {0.1}


def test_what_a_filter_cannot_do_is_refused():
    data = _monthly(_waves(10)[1].sum(axis=0))
    for options, words in (
        ({"longer_than": "8years"}, "makes it shorter"),
        ({"longer_than": "5years", "shorter_than": "2years"}, "exchange them"),
        ({"longer_than": "1"}, "two steps"),
    ):
        with pytest.raises(DataError, match=words):
            Window(**options)(data)
    with pytest.raises(UsageError, match="do not go with"):
        Window(longer_than="2years", statistic="max")


def spread_of(values, weights):
    """The variance, as the accumulator for parts of series has it."""
    kernel = Spread()
    gathered = kernel.gather(values, np.zeros(len(values), int), 1, weights)
    return kernel.finish(gathered)["variance"][0]


@given(
    st.sampled_from(["mean", "sum", "min", "max", "range", "std", "variance"]),
    st.integers(1, 7),
    st.booleans(),
    st.integers(0, 99),
)
def test_windows_without_gaps_are_those_with_a_gap_elsewhere(
    statistic, length, weighted, seed
):
    """All full windows at once, against one by one: 12 digits; equal values stay equal."""
    rng = np.random.default_rng(seed)
    values = rng.normal(280, 5, (40, 3))
    weights = rng.integers(28, 32, 40).astype(float) if weighted else None
    full = slide(values, weights, statistic, length)
    for at, ours in enumerate(full):
        part = values[at : at + length]
        w = np.ones(length) if weights is None else weights[at : at + length]
        expected = {
            "mean": (w[:, None] * part).sum(axis=0) / w.sum(),
            "sum": (w[:, None] * part).sum(axis=0),
            "min": part.min(axis=0),
            "max": part.max(axis=0),
            "range": np.ptp(part, axis=0),
            "std": spread_of(part, w) ** 0.5,
            "variance": spread_of(part, w),
        }[statistic]
        np.testing.assert_allclose(ours, expected, rtol=1e-12)
    equal = slide(np.full((40, 2), 0.1), weights, "mean", length)
    assert set(equal.ravel()) == {0.1}
    if length > 1:
        assert not slide(np.full((40, 2), 0.1), weights, "std", length).any()


@given(
    st.integers(1, 50),
    st.integers(1, 50),
    st.booleans(),
    st.sampled_from(["f4", "f8"]),
    st.integers(0, 99),
)
def test_many_windows_are_added_up_as_few_are(steps, length, weighted, kind, seed):
    """Compiled and not: to the bit, so that sizes of blocks change nothing. What is out of scale
    touches no window that does not hold it."""
    rng, length = np.random.default_rng(seed), min(length, steps)
    values = rng.normal(280, 5, (steps, 70)).astype(kind)
    weights = rng.integers(28, 32, steps).astype(float) if weighted else None
    for statistic in ("mean", "sum"):
        few = slide(values, weights, statistic, length)
        with mock.patch.object(sliding, "_WORTH_COMPILING", 0):
            many = slide(values, weights, statistic, length)
        np.testing.assert_array_equal(many, few)
    values[:] = 0.1
    values[seed % steps] = (1e30, np.inf)[seed % 2]
    first = np.arange(steps - length + 1)
    others = (first > seed % steps) | (first + length <= seed % steps)
    equal = float(np.dtype(kind).type(0.1))
    assert set(slide(values, weights, "mean", length)[others].ravel()) <= {equal}
    if length > 1:
        assert not slide(values, weights, "std", length)[others].any()


@given(
    st.floats(0, 1), st.integers(1, 9), st.integers(0, 999), st.sampled_from([0, 1, 9])
)
def test_quantiles_of_windows_are_those_of_each_window(share, length, seed, digits):
    """To the bit; with many equal values and with none. NumPy's to twelve digits."""
    values = np.random.default_rng(seed).normal(0, 3, (30, 4)).round(digits)
    slid = slide_quantile(values, share, length)
    for at, ours in enumerate(slid):
        part = values[at : at + length]
        np.testing.assert_array_equal(ours, percentile(part, share))
        wanted = np.quantile(part, share, axis=0)
        np.testing.assert_allclose(ours, wanted, rtol=1e-12, atol=1e-12)


@given(
    st.floats(0, 1),
    st.integers(0, 999),
    st.sampled_from(["f4", "f8", "i2", "u1", "i8"]),
)
def test_moving_quantiles_are_those_of_each_group(share, seed, kind):
    """To the bit; of windows that shrink, leap and stand still, with gaps, equal and infinite
    values, and of values whose order that of stored numbers is."""
    rng = np.random.default_rng(seed)
    stored = rng.normal(60, 30, (150, 3)).round(seed % 2).clip(0, 127).astype(kind)
    values = stored if kind[0] == "f" else (stored * np.float64(0.1) - 5)
    if kind[0] == "f":
        values *= rng.choice([-1, 1], values.shape)
        values[rng.random(values.shape) < 0.01] = np.inf
    values[rng.random(values.shape) < rng.choice([0, 0.3])] = -np.nan
    values[:, 2] = rng.choice([np.nan, 7.0])
    begins = np.sort(rng.integers(0, 150, 40))
    ends = np.maximum.accumulate(np.minimum(begins + rng.integers(0, 99, 40), 150))
    numbers = None if kind[0] == "f" else stored
    for changes, members in (
        (changes_of_windows(begins, ends), list(map(np.arange, begins, ends))),
        (changes_of_groups(some := [rng.permutation(150)[:n] for n in begins]), some),
    ):
        quantiles, sizes = find_moving_quantiles(values, changes, share, numbers)
        for ours, size, rows in zip(quantiles, sizes, members, strict=True):
            np.testing.assert_array_equal(size, (~np.isnan(values[rows])).sum(axis=0))
            if rows.size:
                np.testing.assert_array_equal(ours, percentile(values[rows], share))
            else:
                assert np.isnan(ours).all()


@pytest.mark.parametrize("width", ["5days", "31days"])
def test_percentiles_of_many_windows_are_those_of_few(monkeypatch, rng, width):
    """Cells without gaps at once, others window by window, or all from one window to the next."""
    values = rng.normal(280, 5, (60, 5))
    values[7, 2] = np.nan
    data = _days(values, np.arange(60), {"cell_methods": "time: mean"})
    step = Window(width=width, statistic="p90", min_coverage=0.5)
    few = step(data)["x"].values()
    monkeypatch.setattr(moving_windows, "_WORTH_COMPILING", 0)
    np.testing.assert_array_equal(step(data)["x"].values(), few)
