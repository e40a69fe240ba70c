"""Models brought to observations: what each method promises, and SciPy where it knows better."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import Adjust
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.model.indexing import take

YEARS = 20


def months(values, start=0, name="tas", units="K", **attributes):
    """Months of a 360-day calendar from the year 2000 on, some years later."""
    times = np.arange(len(values)) * 30.0 + 15 + start * 360
    about = {"units": units} | attributes
    if name == "pr":
        about["standard_name"] = "precipitation_flux"
    return make_dataset(
        values, times=times, calendar="360_day", name=name, attributes=about
    )


def sample(seed, years=YEARS, shift=0.0, spread=1.0):
    rng = np.random.default_rng(seed)
    cycle = 10 * np.sin(np.arange(years * 12) * np.pi / 6)
    return (
        280
        + cycle[:, None, None]
        + shift
        + spread * rng.normal(size=(years * 12, 2, 2))
    )


def adjusted(model, name="tas", **options):
    return Engine().compute(Adjust(**options)(model)[name].data)


def by_month(values):
    return values.reshape(-1, 12, *values.shape[1:])


@settings(max_examples=8)
@given(st.integers(0, 10**6))
def test_each_method_brings_what_it_promises_to_the_training(seed):
    model, truth = sample(seed, shift=3, spread=2), sample(seed + 1)
    data, observed = months(model), months(truth)
    wanted = by_month(truth)
    mean = by_month(adjusted(data, to=observed, method="mean"))
    np.testing.assert_allclose(mean.mean(0), wanted.mean(0), rtol=1e-12)
    np.testing.assert_allclose(mean.std(0), by_month(model).std(0), rtol=1e-9)
    both = by_month(adjusted(data, to=observed, method="mean-and-spread"))
    np.testing.assert_allclose(both.mean(0), wanted.mean(0), rtol=1e-12)
    np.testing.assert_allclose(both.std(0), wanted.std(0), rtol=1e-9)
    for method in ("quantiles", "quantile-changes", "detrended-quantiles"):
        mapped = by_month(adjusted(data, to=observed, method=method))
        ordered = np.sort(mapped, axis=0)
        np.testing.assert_allclose(ordered, np.sort(wanted, axis=0), rtol=1e-12)
        # The order of years stays that of the model.
        ranks = [
            np.argsort(np.argsort(v, axis=0), axis=0) for v in (mapped, by_month(model))
        ]
        np.testing.assert_array_equal(*ranks)


@settings(max_examples=8)
@given(st.integers(0, 10**6), st.sampled_from(["differences", "ratios"]))
def test_changes_of_quantiles_are_kept(seed, by):
    """The change of each ordered value is that of the model."""
    past, truth = sample(seed, shift=3, spread=2), sample(seed + 1)
    future = sample(seed + 2, shift=7, spread=3)
    name, units = ("tas", "K") if by == "differences" else ("wind", "m s-1")
    data = months(future, start=50, name=name, units=units)
    result = adjusted(
        data,
        name=name,
        to=months(truth, name=name, units=units),
        trained_on=months(past, name=name, units=units),
        by=by,
    )
    after, before = (np.sort(by_month(v), axis=0) for v in (future, past))
    wanted, order = np.sort(by_month(truth), axis=0), by_month(future).argsort(axis=0)
    ours = np.take_along_axis(by_month(result), order, axis=0)
    expected = wanted + (after - before)
    if by == "ratios":
        expected = wanted * after / before
    np.testing.assert_allclose(ours, expected, rtol=1e-12)
    detrended = adjusted(
        months(past + 4.0, start=50),
        to=months(truth),
        trained_on=months(past),
        method="detrended-quantiles",
    )
    np.testing.assert_allclose(
        np.sort(by_month(detrended), axis=0), wanted + 4, rtol=1e-12
    )


def test_gamma_quantiles_are_those_of_scipy():
    rng = np.random.default_rng(3)
    model, truth = (rng.gamma(a, b, (240, 2, 2)) for a, b in ((2.0, 3.0), (1.2, 4.0)))
    result = adjusted(
        months(model, name="pr", units="mm day-1"),
        name="pr",
        to=months(truth, name="pr", units="mm day-1"),
        method="quantiles",
        fit="gamma",
    )
    january = slice(0, None, 12)
    fits = [scipy.stats.gamma.fit(v[january, 0, 0], floc=0) for v in (model, truth)]
    share = scipy.stats.gamma(*fits[0]).cdf(model[january, 0, 0])
    expected = scipy.stats.gamma(*fits[1]).ppf(share)
    np.testing.assert_allclose(result[january, 0, 0], expected, rtol=1e-4)


def test_days_without_rain_become_as_many_as_there_are():
    rng = np.random.default_rng(4)

    def rain(dry, scale):
        values = rng.gamma(1.0, scale, (7200, 1, 2))
        values[rng.random(values.shape) < dry] = 0.0
        return values

    def days(values, **more):
        return make_dataset(
            values,
            times=np.arange(len(values)) + 0.5,
            calendar="360_day",
            name="pr",
            attributes={"units": "mm", "standard_name": "precipitation_amount"} | more,
        )

    model, truth = rain(0.2, 3.0), rain(0.6, 8.0)
    result = adjusted(days(model), name="pr", to=days(truth))
    dry = [(v == 0).reshape(-1, 30, 2).mean(axis=(0, 1)) for v in (result, truth)]
    np.testing.assert_allclose(dry[0], dry[1], atol=0.02)
    assert result.min() == 0
    np.testing.assert_allclose(result.mean((0, 1)), truth.mean((0, 1)), rtol=0.01)
    again = adjusted(days(model[:, :, :1]), name="pr", to=days(truth[:, :, :1]))
    np.testing.assert_array_equal(again, result[:, :, :1])


def test_dry_days_get_the_same_amounts_in_files_that_run_backwards(rng):
    wet = rng.gamma(1.0, 1e-4, (240, 2, 2)) * (rng.random((240, 2, 2)) < 0.5)
    rain = months(wet, name="pr", units="kg m-2 s-1")
    truth = months(wet[::-1] * 1.3, name="pr", units="kg m-2 s-1")
    backwards = [take(part, {"time": np.arange(240)[::-1]}) for part in (rain, truth)]
    forwards = rain.adjust(to=truth, method="quantile-changes")["pr"].values()
    turned = backwards[0].adjust(to=backwards[1], method="quantile-changes")
    assert (forwards == 0).any()
    np.testing.assert_array_equal(turned["pr"].values()[::-1], forwards)


def test_it_helps_in_years_that_it_has_not_seen(tmp_path):
    truth = sample(8, years=30)
    model = 2.5 + 1.8 * (truth - 280) + 280
    months(truth).write(tmp_path / "observed.nc")
    months(model).write(tmp_path / "model.nc")
    lines = (
        "adjust model.nc --to observed.nc --base 2000..2014 -o adjusted.nc",
        "subset adjusted.nc --time 2015.. then compare --with observed.nc -o c.nc",
        "adjust model.nc --to observed.nc --cycle day --pool 31 -o days.nc",
    )
    for line in lines[:2]:
        answer = run_here(*line.split(), folder=tmp_path)
        assert answer.code == 0, answer.err
    answer = run_here(*lines[2].split(), folder=tmp_path)
    assert answer.code != 0
    held_out = adjusted(months(model), to=months(truth), base="2000..2014")[180:]
    before = np.abs(model[180:] - truth[180:]).mean()
    assert np.abs(held_out - truth[180:]).mean() < 0.1 * before


def test_units_gaps_and_pooled_days():
    rng = np.random.default_rng(5)
    days = np.arange(3600) + 0.5
    cycle = np.sin(days / 360 * 2 * np.pi)[:, None, None]
    truth = 8 + cycle + rng.normal(size=(3600, 1, 1))
    model = 280 + cycle + 2 * rng.normal(size=(3600, 1, 1))
    model[5] = np.nan
    data, observed = (
        make_dataset(v, times=days, calendar="360_day", attributes={"units": u})
        for v, u in ((model, "K"), (truth, "degC"))
    )
    result = adjusted(data, to=observed, cycle="day", pool=31, method="quantiles")
    assert np.isnan(result[5, 0, 0])
    assert np.nanmean(result) == pytest.approx(truth.mean() + 273.15, abs=0.05)
    assert np.nanstd(result - cycle) == pytest.approx(1.0, abs=0.05)


def test_what_cannot_be_adjusted_is_refused():
    data, truth = months(sample(1)), months(sample(2), start=100)
    with pytest.raises(DataError, match="no year in common"):
        Adjust(to=truth)(data)
    celsius = months(sample(1) - 273.15, units="degC")
    with pytest.raises(DataError, match="zero is arbitrary"):
        Adjust(to=celsius, by="ratios")(celsius)
    for options, words in (
        ({}, "to what"),
        ({"to": data, "by": "sums"}, "differences or ratios"),
        ({"to": data, "pool": 2}, "odd number"),
        ({"to": data, "fit": "gamma"}, "goes with"),
    ):
        with pytest.raises(UsageError, match=words):
            Adjust(**options)


@pytest.mark.parametrize("units", ["degC", "degF"])
def test_no_gamma_distribution_is_fitted_to_degrees(rng, units):
    times = np.arange("2001-01", "2011-01", dtype="M8[M]").astype("M8[D]")
    data = rhodolite.from_arrays(
        {"tas": rng.normal(50, 3, 120)}, {"time": times}, units={"tas": units}
    )
    with pytest.raises(DataError, match="no gamma distribution fits"):
        data.adjust(to=data, method="quantiles", fit="gamma")
    kelvins = data.convert(units="tas=K")
    kelvins.adjust(to=kelvins, method="quantiles", fit="gamma")
