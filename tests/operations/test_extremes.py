"""Levels that are rarely exceeded, against SciPy, the definition of L-moments, and themselves."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
import scipy.optimize
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, make_dataset, run_here, write_plain
from rhodolite import Extremes
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.extreme_values import fit_extremes, l_moments, quantile
from rhodolite.kernels.peaks import find_peaks

SHAPES = st.one_of(
    st.floats(-0.6, 0.9), st.sampled_from([0.0, 1e-7, -1e-6, 1e-5, -1e-4])
)


@given(st.lists(st.floats(-50, 50), min_size=3, max_size=9), st.integers(0, 3))
def test_l_moments_are_what_their_definition_says(values, missing):
    """Means of the ordered values of all samples of one, two and three, to 11 digits."""
    block = np.array([*values, *[np.nan] * missing])
    count, first, second, skewness = l_moments(block)
    pairs = [np.sort(p) for p in itertools.combinations(values, 2)]
    triples = [np.sort(p) for p in itertools.combinations(values, 3)]
    expected = np.mean([p[1] - p[0] for p in pairs]) / 2
    third = np.mean([p[2] - 2 * p[1] + p[0] for p in triples]) / 3
    assert count == len(values)
    scale = max(np.abs(values).max(), 1e-300)
    assert first == pytest.approx(np.mean(values), rel=1e-11, abs=1e-11 * scale)
    assert second == pytest.approx(expected, rel=1e-11, abs=1e-11 * scale)
    if expected > 1e-6 * scale:
        assert skewness == pytest.approx(third / expected, rel=1e-8, abs=1e-8)


@given(SHAPES, st.floats(-20, 20), st.floats(0.1, 30))
def test_the_fit_has_the_moments_that_were_asked_for(k, location, scale):
    """Moments by integration of SciPy's quantiles; the parameters come back to 7 digits."""

    # Tanh-sinh quadrature, from both ends, so that tails keep their digits.
    places = np.arange(-4, 4.0001, 0.02)
    tail = 1 / (1 + np.exp(np.pi * np.sinh(np.abs(places))))
    values = np.where(
        places < 0,
        scipy.stats.genextreme.ppf(tail, k),
        scipy.stats.genextreme.isf(tail, k),
    )
    below = np.where(places < 0, tail, 1 - tail)
    weights = 0.02 * np.pi * np.cosh(places) * tail * (1 - tail)
    known = weights > 1e-200

    def moment(power):
        return float((values * below**power * weights)[known].sum())

    b0, b1, b2 = (moment(power) for power in range(3))
    moments = (b0, 2 * b1 - b0, (6 * b2 - 6 * b1 + b0) / (2 * b1 - b0))
    first, second = location + scale * moments[0], scale * moments[1]
    fitted = fit_extremes(np.array(first), np.array(second), np.array(moments[2]))
    for part, expected in zip(fitted, (location, scale, k), strict=True):
        assert float(part) == pytest.approx(expected, rel=1e-5, abs=2e-5 * scale)


@given(SHAPES, st.floats(1e-6, 1 - 1e-6))
def test_quantiles_are_those_of_scipy(k, below):
    ours = quantile(np.array(3.0), np.array(2.0), np.array(k), below)
    theirs = scipy.stats.genextreme.ppf(below, k, 3.0, 2.0)
    assert float(ours) == pytest.approx(theirs, rel=1e-10, abs=1e-9)


def _years(values):
    return make_dataset(
        values,
        times=np.arange(len(values)) * 365.2425 + 180,
        attributes={"units": "mm"},
    )


@pytest.mark.parametrize("tail", ["high", "low"])
def test_levels_and_limits_hold_for_samples_of_a_known_distribution(tail):
    """Of 300 samples of 60 years the limits hold the true level of 50 years in about 95 of 100."""
    random = np.random.default_rng(4)
    sample = scipy.stats.genextreme.rvs(
        -0.1, 40, 8, size=(60, 15, 20), random_state=random
    )
    true = scipy.stats.genextreme.ppf(1 - 1 / 50, -0.1, 40, 8)
    if tail == "low":
        sample, true = -sample, -true
    result = Extremes(periods="50", tail=tail, samples=200)(_years(sample))
    level, low, high = (
        result[f"tas_return_level{end}"].values() for end in ("", "_lower", "_upper")
    )
    assert (low <= high).all()
    assert 0.85 < ((low <= true) & (true <= high)).mean() <= 1
    assert np.median(level) == pytest.approx(true, rel=0.05)
    assert np.median(result["tas_shape"].values()) == pytest.approx(0.1, abs=0.05)
    assert (result["tas_fit"].values() > 0.9).all()


@settings(max_examples=EXAMPLES or 4)
@given(st.integers(0, 100), st.floats(0.1, 50), st.floats(-100, 100), st.booleans())
def test_levels_go_with_units_and_order_and_neighbours_change_nothing(
    seed, factor, shift, low
):
    random = np.random.default_rng(seed)
    values = random.gumbel(20, 5, (40, 2, 3))
    values[random.random(values.shape) < 0.1] = np.nan
    step = Extremes(tail="low" if low else "high", samples=100, min_values=10)
    plain = step(_years(values))
    other = step(_years(values * factor + shift))
    shuffled = step(_years(values[random.permutation(40)]))
    alone = step(_years(values[:, 1:, 2:]))
    for ending in ("return_level", "return_level_lower", "return_level_upper"):
        name = f"tas_{ending}"
        ours = plain[name].values()
        scale = np.nanmax(np.abs(ours * factor)) + abs(shift)
        np.testing.assert_allclose(
            other[name].values(), ours * factor + shift, atol=1e-8 * scale
        )
        np.testing.assert_allclose(shuffled[name].values(), ours, rtol=1e-10)
        np.testing.assert_array_equal(alone[name].values(), ours[..., 1:, 2:])


def test_blocks_and_memory_change_no_bit(rng):
    values = rng.gumbel(20, 5, (30, 20, 30))
    data = _years(values)
    step = Extremes(samples=100)
    whole = step(data)["tas_return_level_upper"].values(Engine())
    parts = step(data)["tas_return_level_upper"].values(
        Engine(memory=1 << 20, workers=2)
    )
    np.testing.assert_array_equal(whole, parts)


def test_daily_rain_to_levels_in_a_chain(tmp_path):
    random = np.random.default_rng(2)
    write_plain(
        tmp_path / "a.nc",
        random.gamma(0.3, 8, (365 * 30 + 8, 1, 1)),
        times=np.arange(365 * 30 + 8) + 0.5,
        name="pr",
        attributes={"units": "mm"},
        units="days since 1981-01-01",
    )
    chain = "aggregate a.nc --to year --statistic max then extremes --periods 10,100"
    answer = run_here(*chain.split(), "-o", "o.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    result = rhodolite.read(tmp_path / "o.nc")
    assert result["return_period"].values().tolist() == [10.0, 100.0]
    levels = result["pr_return_level"].values().ravel()
    assert levels[0] < levels[1]
    assert f"pr: once in 10 years {levels[0]:.4g}" in answer.out
    assert result["pr_return_level"].units == "mm"
    assert math.isfinite(float(result["pr_shape"].values().item()))


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        ((), 3, "aggregate --to year --statistic max then extremes"),
        (("--tail", "low"), 3, "--statistic min then"),
        (("--periods", "1"), 2, "are no return periods"),
        (("--periods", "10,10"), 2, "twice"),
        (("--samples", "7"), 2, "at least 100 samples"),
        (("--confidence", "95"), 2, "write a number between 0 and 1"),
        (("--min-values", "5"), 2, "at least 10 values"),
    ],
)
def test_what_cannot_be_fitted_is_said(tmp_path, words, code, said):
    write_plain(tmp_path / "a.nc", np.ones((900, 1, 1)), times=np.arange(900.0))
    answer = run_here("extremes", "a.nc", *words, "-o", "o.nc", folder=tmp_path)
    assert (answer.code, said in answer.err) == (code, True), answer.err


def test_far_periods_and_short_series_are_said(tmp_path):
    values = np.random.default_rng(1).gumbel(10, 2, (25, 1, 2))
    values[:8, 0, 1] = np.nan
    write_plain(
        tmp_path / "a.nc",
        values,
        times=np.arange(25) * 365.2425,
        fill=np.float32(np.nan),
    )
    words = ("extremes", "a.nc", "--periods", "500", "-o", "o.nc")
    answer = run_here(*words, folder=tmp_path)
    assert "is a guess" in answer.err
    assert "1 of 2 cells have fewer than 20 values" in answer.err
    level = rhodolite.read(tmp_path / "o.nc")["tas_return_level"]
    assert level.dimensions == ("lat", "lon")
    assert np.isnan(level.values()).tolist() == [[False, True]]


def _annual(values, units="K"):
    times = np.arange(len(values)) * 360.0 + 180
    return make_dataset(
        values[:, None, :], times=times, calendar="360_day", attributes={"units": units}
    )


def _values(result, *names):
    return [Engine().compute(result[f"tas_{name}"].data)[..., 0, :] for name in names]


def _walk(loss, start):
    """The lowest point that a simplex finds, begun anew until it stays."""
    best = start
    for _ in range(3):
        options = {"maxiter": 2000, "fatol": 1e-10, "xatol": 1e-8}
        found = scipy.optimize.minimize(
            loss, best, method="Nelder-Mead", options=options
        )
        best = found.x
    return found


@pytest.mark.parametrize("with_trend", [False, True])
def test_likelihood_is_as_large_as_scipy_finds_it(with_trend):
    """Parameters to 3 digits of a simplex that SciPy walks with; the ratio test by its chi2."""
    rng = np.random.default_rng(67030)
    x = scipy.stats.genextreme.rvs(-0.1, 20, 4, size=50, random_state=rng)
    years = 2000 + (np.arange(50) * 360 + 180) / 360
    covariate = 2 * (years - years[0]) / (years[-1] - years[0]) - 1
    x = x + (2 * covariate if with_trend else 0)
    step = Extremes(method="likelihood", trend=with_trend, samples=0, periods="20")
    names = ["location", "scale", "shape", "return_level"]
    names += ["location_trend", "trend_pvalue"] if with_trend else []
    ours = [float(v[0]) for v in _values(step(_annual(x[:, None])), *names)]

    def loss(p):
        if p[1] <= 0 or p[2] < -0.99:
            return np.inf
        moved = x - (p[3] * covariate if len(p) > 3 else 0)
        return -scipy.stats.genextreme.logpdf(moved, -p[2], p[0], p[1]).sum()

    start = [x.mean(), x.std(), 0.0]
    still = _walk(loss, start)
    best = _walk(loss, [*start, 0.0]) if with_trend else still
    slope = best.x[3] if with_trend else 0.0
    expected = [best.x[0] + slope, best.x[1], best.x[2]]
    np.testing.assert_allclose(ours[:3], expected, rtol=1e-3, atol=1e-3)
    level = scipy.stats.genextreme.isf(1 / 20, -expected[2], *expected[:2])
    assert ours[3] == pytest.approx(level, rel=1e-3)
    if with_trend:
        assert ours[4] == pytest.approx(10 * slope / 24.5, rel=1e-3)
        p = scipy.stats.chi2.sf(2 * (still.fun - best.fun), 1)
        assert ours[5] == pytest.approx(p, rel=1e-3)


@settings(max_examples=5)
@given(st.integers(0, 10**6), st.sampled_from(["high", "low"]), st.integers(1, 4))
def test_peaks_are_those_of_clusters_walked_through_one_by_one(seed, tail, apart):
    """Clusters, and the distribution of Hosking and Wallis 1987, written out for one cell."""
    rng = np.random.default_rng(seed)
    values = rng.gamma(0.7, 6, (3600, 2))
    values = np.maximum(values, np.roll(values, 1, axis=0) * 0.8)
    values[rng.random(values.shape) < 0.01] = np.nan
    sign = 1 if tail == "high" else -1
    data = make_dataset(
        (sign * values)[:, None, :], times=np.arange(3600) + 0.5, calendar="360_day"
    )
    step = Extremes(above="95%", apart=apart, periods="50", samples=0, tail=tail)
    names = ("threshold", "scale", "shape", "rate", "return_level")
    threshold, scale, shape, rate, level = _values(step(data), *names)
    for cell in range(2):
        x = values[:, cell]
        limit = np.nanquantile(x, 0.95)
        peaks, since = [], apart
        for value in x:
            if value > limit:
                if since >= apart:
                    peaks.append(value)
                peaks[-1] = max(peaks[-1], value)
                since = 0
            else:
                since += 1
        excess = np.sort(np.array(peaks)) - limit
        weights = np.arange(len(excess)) / (len(excess) - 1)
        first = excess.mean()
        second = 2 * (weights * excess).mean() - first
        k = first / second - 2
        assert threshold[cell] == pytest.approx(sign * limit, rel=1e-12)
        assert scale[cell] == pytest.approx((1 + k) * first, rel=1e-9)
        assert shape[cell] == pytest.approx(-k, rel=1e-9, abs=1e-12)
        often = len(peaks) / (np.isfinite(x).sum() / 360)
        assert rate[cell] == pytest.approx(often, rel=1e-6)
        above = scipy.stats.genpareto.isf(1 / (often * 50), -k, 0, (1 + k) * first)
        assert level[cell] == pytest.approx(sign * (limit + above), rel=1e-6)


def test_limits_hold_the_true_level_as_often_as_they_say():
    """Of 20 records of 60 years, and of peaks of 40 years: nine in ten of L-moments, and somewhat
    fewer of likelihood, as of any percentiles of samples of a distribution that is bent."""
    rng = np.random.default_rng(9)
    true = scipy.stats.genextreme.isf(1 / 20, 0.1, 20, 4)
    values = scipy.stats.genextreme.rvs(0.1, 20, 4, size=(60, 20), random_state=rng)
    options = {"periods": "20", "confidence": 0.9, "samples": 100}
    step = Extremes(method="likelihood", **options)
    low, high = _values(
        step(_annual(values)), "return_level_lower", "return_level_upper"
    )
    assert 0.6 <= ((low < true) & (true < high)).mean() <= 1.0
    days = rng.exponential(5, (40 * 360, 20))
    data = make_dataset(
        days[:, None, :], times=np.arange(len(days)) + 0.5, calendar="360_day"
    )
    step = Extremes(above="98%", apart=1, **options)
    low, high = _values(step(data), "return_level_lower", "return_level_upper")
    true = -5 * np.log(1 / (20 * 360))
    assert 0.75 <= ((low < true) & (true < high)).mean() <= 1.0


def test_amounts_and_scales_follow_the_units():
    rng = np.random.default_rng(4)
    values = scipy.stats.genextreme.rvs(0.1, 20, 4, size=(40, 2), random_state=rng)
    names = ("location", "scale", "shape")
    celsius = _values(Extremes(samples=0)(_annual(values, "degC")), *names)
    fahrenheit = _values(
        Extremes(samples=0)(_annual(values * 1.8 + 32, "degF")), *names
    )
    np.testing.assert_allclose(fahrenheit[0], celsius[0] * 1.8 + 32, rtol=1e-9)
    for ours, theirs in zip(fahrenheit[1:], celsius[1:], strict=True):
        np.testing.assert_allclose(ours, theirs, rtol=1e-9, atol=1e-12)
    for options, words in (
        ({"trend": True}, "--method likelihood"),
        (
            {"above": "98%", "method": "likelihood", "trend": True},
            "leave one of both out",
        ),
        ({"above": "high"}, "is no threshold"),
        ({"above": "120%"}, "is no share"),
        ({"apart": 0}, "number of steps"),
    ):
        with pytest.raises((UsageError, ValueError), match=words):
            Extremes(**options)
    rain = make_dataset(np.ones((90, 1, 1)), attributes={"units": "mm day-1"})
    with pytest.raises(DataError, match="cannot be converted"):
        Extremes(above="20degC")(rain)


def test_peaks_by_likelihood_are_as_likely_as_scipy_finds_them():
    """Scale and shape to 3 digits of a simplex that SciPy walks with."""
    rng = np.random.default_rng(12)
    values = rng.gamma(0.7, 6, (3600, 1))
    data = make_dataset(
        values[:, None, :], times=np.arange(3600) + 0.5, calendar="360_day"
    )
    options = {"above": "95%", "apart": 1, "periods": "20", "samples": 100}
    result = Extremes(method="likelihood", **options)(data)
    names = ("threshold", "scale", "shape", "return_level")
    threshold, scale, shape, level = (float(v[0]) for v in _values(result, *names))
    peaks = find_peaks(values, np.array([threshold]), 1)
    excess = peaks[np.isfinite(peaks)] - threshold

    def loss(p):
        if p[0] <= 0:
            return np.inf
        return -scipy.stats.genpareto.logpdf(excess, p[1], 0, p[0]).sum()

    best = _walk(loss, [excess.mean(), 0.05]).x
    np.testing.assert_allclose([scale, shape], best, rtol=1e-3, atol=1e-4)
    low, high = (
        float(v[0]) for v in _values(result, "return_level_lower", "return_level_upper")
    )
    assert low < level < high
    plain = Extremes(**options)(data)
    assert _values(plain, "return_level")[0][0] == pytest.approx(level, rel=0.1)
