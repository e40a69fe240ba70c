"""Times that are chosen by a series or by the data, and means over them."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here, write_plain
from rhodolite import Composite, Subset
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError

YEARS = 12


def field(seed=0, years=YEARS, gaps=0.05):
    rng = np.random.default_rng(seed)
    values = rng.normal(280, 3, (years * 12, 3, 2))
    values[rng.random(values.shape) < gaps] = np.nan
    times = np.arange(years * 12) * 30.0 + 15
    return make_dataset(values, times=times, calendar="360_day"), values


@pytest.fixture
def series(tmp_path):
    """Months of an index and years of rain, as tables from elsewhere."""
    rng = np.random.default_rng(1)
    index = rng.normal(0, 1, YEARS * 12).round(2)
    months = [f"{2000 + m // 12}-{m % 12 + 1:02d}" for m in range(YEARS * 12)]
    rows = "\n".join(f"{m},{v}" for m, v in zip(months, index, strict=True))
    (tmp_path / "oni.csv").write_text(f"time,oni\n{rows}\n")
    rain = rng.integers(300, 320, YEARS)
    rows = "\n".join(f"{2000 + y},{v}" for y, v in enumerate(rain))
    (tmp_path / "rain.csv").write_text(f"time,pr [mm]\n{rows}\n")
    return tmp_path, index, rain


def values_of(dataset, *names):
    return [Engine().compute(dataset[name].data) for name in names]


@settings(max_examples=10)
@given(st.integers(0, 10**6))
def test_means_and_welchs_test_are_those_of_scipy(seed):
    data, values = field(seed)
    flags = np.random.default_rng(seed).random(YEARS * 12) < 0.3
    flags[:2], flags[2:4] = True, False
    index = rhodolite.from_arrays(
        {"index": np.where(flags, 1.0, -1.0)},
        {"time": data.time.dates},
        units={"index": "1"},
    )
    result = Composite(when="> 0.5", with_=index)(data)
    chosen, others, difference, pvalue, count = values_of(
        result,
        "tas_chosen",
        "tas_others",
        "tas_difference",
        "tas_difference_pvalue",
        "tas_chosen_count",
    )
    np.testing.assert_allclose(chosen, np.nanmean(values[flags], axis=0), rtol=1e-13)
    np.testing.assert_allclose(others, np.nanmean(values[~flags], axis=0), rtol=1e-13)
    np.testing.assert_allclose(difference, chosen - others, rtol=1e-9, atol=1e-11)
    expected = scipy.stats.ttest_ind(
        values[flags], values[~flags], equal_var=False, nan_policy="omit"
    ).pvalue
    np.testing.assert_allclose(pvalue, expected, rtol=1e-9)
    np.testing.assert_array_equal(count, (~np.isnan(values[flags])).sum(axis=0))


def test_a_permutation_test_counts_random_choices_of_as_many_times():
    """Differences written out choice by choice; the same p-values in blocks of any size."""
    data, values = field(3)
    flags = np.arange(YEARS * 12) % 5 == 0
    index = rhodolite.from_arrays(
        {"index": flags.astype(float)}, {"time": data.time.dates}, units={"index": "1"}
    )
    step = Composite(
        when="== 1", with_=index, test="permutation", permutations=99, seed=5
    )
    (pvalue,) = values_of(step(data), "tas_difference_pvalue")
    random = np.random.default_rng(5)
    choices = [random.permutation(flags.astype(float)) == 1 for _ in range(99)]

    def distance(chosen):
        return np.abs(np.nanmean(values[chosen], 0) - np.nanmean(values[~chosen], 0))

    as_much = sum(distance(c) >= distance(flags) - 1e-9 for c in choices)
    np.testing.assert_allclose(pvalue, (as_much + 1) / 100, rtol=1e-12)
    one = Subset(lat="0..0")(data)
    (alone,) = values_of(step(one), "tas_difference_pvalue")
    np.testing.assert_array_equal(alone[0], pvalue[0])


def test_false_discoveries_are_held_over_the_field():
    rng = np.random.default_rng(8)
    values = rng.normal(0, 1, (120, 40, 50))
    values[::4, :8] += 1.5
    data = make_dataset(values, times=np.arange(120) * 30.0 + 15, calendar="360_day")
    when = rhodolite.from_arrays(
        {"x": (np.arange(120) % 4 == 0) * 1.0},
        {"time": data.time.dates},
        units={"x": "1"},
    )
    plain = Composite(when="> 0.5", with_=when)(data)
    held = Composite(when="> 0.5", with_=when, false_discovery=True)(data)
    names = ("tas_difference_significant", "tas_difference_pvalue")
    flags, pvalue = values_of(plain, *names)
    fewer, _ = values_of(held, *names)
    np.testing.assert_array_equal(flags, pvalue < 0.05)
    limit = scipy.stats.false_discovery_control(pvalue.ravel()).reshape(pvalue.shape)
    np.testing.assert_array_equal(fewer, limit <= 0.05)
    assert fewer[:8].mean() > 0.99
    assert fewer[8:].mean() < 0.02 < flags[8:].mean()


def test_series_in_files_choose_their_own_months_or_all_months_of_their_years(series):
    folder, index, rain = series
    _, values = field(2)
    path = folder / "data.nc"
    write_plain(
        path,
        np.nan_to_num(values, nan=280.0),
        times=np.arange(YEARS * 12) * 30.4375 + 15,
        kind="f8",
    )
    order = np.argsort(rain, kind="stable")[:3]
    by_year = np.isin(np.arange(YEARS * 12) // 12, order)
    for when, flags in (
        ("oni.csv:oni >= 0.5", index >= 0.5),
        ("oni.csv < -1", index < -1),
        ("lowest 3 of rain.csv:pr", by_year),
        ("rain.csv:pr < 0.31m", np.repeat(rain < 310, 12)),
    ):
        answer = run_here(
            "subset",
            "data.nc",
            "--when",
            when,
            "-o",
            "s.nc",
            "--overwrite",
            folder=folder,
        )
        assert answer.code == 0, answer.err
        kept = rhodolite.read(folder / "s.nc")["tas"].values()
        expected = np.nan_to_num(values, nan=280.0)[flags]
        np.testing.assert_array_equal(kept, expected)
        answer = run_here(
            "composite",
            "data.nc",
            "--when",
            when,
            "-o",
            "c.nc",
            "--overwrite",
            folder=folder,
        )
        assert answer.code == 0, answer.err
        mean = rhodolite.read(folder / "c.nc")["tas_chosen"].values()
        np.testing.assert_allclose(mean, expected.mean(axis=0), rtol=1e-12)
        into = f"again_{len(list(folder.glob('again*')))}"
        answer = run_here("retrace", "c.nc", "--run", "--into", into, folder=folder)
        assert answer.code == 0, answer.err


def test_the_data_choose_their_own_times_as_a_whole_or_cell_by_cell():
    data, values = field(4, gaps=0.0)
    whole = Composite(when="mean(tas, area) > 280[K]")(data)
    weights = np.sin(np.radians([0.5, 1.5, 2.5])) - np.sin(np.radians([-0.5, 0.5, 1.5]))
    mean = np.average(values.mean(axis=2), axis=1, weights=weights)
    (chosen,) = values_of(whole, "tas_chosen")
    np.testing.assert_allclose(chosen, values[mean > 280].mean(axis=0), rtol=1e-12)
    each = Composite(when="tas > 280[K]", against="tas < 6.85[degC]")(data)
    chosen, others = values_of(each, "tas_chosen", "tas_others")
    warm, cold = (
        np.where(flags, values, np.nan) for flags in (values > 280, values < 280)
    )
    np.testing.assert_allclose(chosen, np.nanmean(warm, axis=0), rtol=1e-12)
    np.testing.assert_allclose(others, np.nanmean(cold, axis=0), rtol=1e-12)
    with pytest.raises(UsageError, match="cell to cell"):
        Composite(when="tas > 280[K]", test="permutation")(data)


def test_what_cannot_be_chosen_is_refused(series):
    folder, *_ = series
    data, _ = field(5)
    oni = rhodolite.read(folder / "oni.csv")
    for options, words in (
        ({"when": "> 9", "with_": oni}, "no time"),
        ({"when": "> 0", "against": "> 1", "with_": oni}, "both"),
        ({"when": "highest 500", "with_": oni}, "only 144"),
        ({"when": "> 0"}, "no series is named"),
        ({"when": "tas > 280[K]", "with_": oni}, "takes no --with"),
    ):
        with pytest.raises((UsageError, DataError), match=words):
            Composite(**options)(data)
    years = rhodolite.Aggregate(to="year")(data)
    means = rhodolite.Summarise()(data)
    with pytest.raises(DataError, match="several in each"):
        Composite(when="> 280", with_=means)(years)
    with pytest.raises(DataError, match="cannot be converted"):
        Composite(when="> 1mm", with_=means)(data)
    for options, words in (
        ({}, "of which times"),
        ({"when": "warm ones"}, "is no condition"),
        ({"when": "> 1", "alpha": 2}, "between 0 and 1"),
        ({"when": "> 1", "permutations": 5}, "at least 99"),
    ):
        with pytest.raises((UsageError, ValueError), match=words):
            Composite(**options)
    with pytest.raises(UsageError, match="by a series in a file"):
        Subset(when="tas > 3")
    with pytest.raises(UsageError, match="--when says"):
        Subset(with_=oni)


def test_departures_stay_differences_whatever_is_made_of_them():
    """Means, levels and indicators of departures are marked as what they are."""
    data, _ = field(6)
    departures = rhodolite.Anomaly()(data)
    results = {
        "tas_chosen": Composite(when="mean(tas, area) > 0[K]")(departures),
        "tas_return_level": rhodolite.Extremes(above="90%", samples=0)(departures),
        "tas_pattern": rhodolite.Patterns(count=1, min_coverage=0.5)(departures),
    }
    for name, result in results.items():
        mark = result[name].attributes["units_metadata"]
        assert mark == "temperature: difference", name
    states = Composite(when="mean(tas, area) > 0[K]")(data)
    assert states["tas_chosen"].attributes["units_metadata"] == "temperature: on_scale"
