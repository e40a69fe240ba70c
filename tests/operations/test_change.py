"""Change that can be defended: rank tests, serial correlation, what is left without trends, and
pairs of datasets."""

from __future__ import annotations

import itertools
import re
import warnings

import numpy as np
import pytest
import scipy.stats
import statsmodels.api as sm
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import (
    Anomaly,
    Compare,
    Convert,
    Correlate,
    DataError,
    Detrend,
    Map,
    Series,
    Subset,
    Trend,
    UsageError,
)
from rhodolite.arrays import Engine
from rhodolite.errors import RhodoliteWarning
from rhodolite.kernels import few_series
from rhodolite.kernels.distributions import normal_quantile
from rhodolite.kernels.polynomial_fit import fit_polynomial
from rhodolite.kernels.rank_trends import (
    kendall_statistic,
    kendall_variance,
    normal_pvalue,
    pairwise_trend,
    seasonal_kendall,
)

PONTIUS = """.11019 .21956 .32949 .43899 .54803 .65694 .76562 .87487 .98292 1.09146 1.20001
1.30822 1.41599 1.52399 1.63194 1.73947 1.84646 1.95392 2.06128 2.16844 .11052 .22018 .32939
.43886 .54798 .65739 .76596 .87474 .98300 1.09150 1.20004 1.30818 1.41613 1.52408 1.63159 1.73965
1.84696 1.95445 2.06177 2.16829"""
"""The values of the NIST StRD data set Pontius, at loads of 150,000 to 3,000,000, twice."""


def powers(fit):
    """The coefficients of 1, x, x squared and so on of a fitted polynomial."""
    basis = [np.polynomial.Polynomial([1.0])]
    for k in range(len(fit.terms) - 1):
        before = basis[-2] * float(fit.ratios[k, 0]) if k else 0
        basis.append(
            np.polynomial.Polynomial([-float(fit.centres[k, 0]), 1.0]) * basis[-1]
            - before
        )
    return sum(
        (float(term) * part for term, part in zip(fit.terms[:, 0], basis, strict=True)),
        np.polynomial.Polynomial([0.0]),
    ).coef


def test_polynomials_agree_with_nist_to_nine_digits():
    """Certified coefficients of NIST StRD: Pontius (a parabola), Wampler1 and Wampler2 (degree
    5)."""
    x, y = (
        np.tile(np.arange(1, 21) * 150_000.0, 2),
        np.array([float(v) for v in PONTIUS.split()])[:, None],
    )
    fit = fit_polynomial(x, y, 2)
    certified = [0.673565789473684e-03, 0.732059160401003e-06, -0.316081871345029e-14]
    np.testing.assert_allclose(powers(fit), certified, rtol=1e-9)
    assert np.sqrt(fit.squares / fit.freedom)[0] == pytest.approx(
        0.205177424076185e-03, rel=1e-10
    )
    bend, leverage = fit.acceleration()
    error = np.sqrt(fit.squares / fit.freedom * leverage)[0]
    assert bend[0] / 2 == pytest.approx(certified[2], rel=1e-9)
    assert error / 2 == pytest.approx(0.486652849992036e-16, rel=1e-9)
    x = np.arange(21.0)
    for coefficients in ([1.0] * 6, [10.0**-k for k in range(6)]):
        y = np.polynomial.polynomial.polyval(x, coefficients)[:, None]
        np.testing.assert_allclose(
            powers(fit_polynomial(x, y, 5)), coefficients, rtol=1e-9
        )


@given(st.integers(5, 40), st.integers(0, 999))
def test_parabolas_agree_with_statsmodels(n, seed):
    """Slope at the mean of the times, its error and p-value against statsmodels OLS, with gaps; to
    8 digits."""
    random = np.random.default_rng(seed)
    x, y = 2000 + np.sort(random.uniform(0, 40, n)), random.normal(size=(n, 3)) * 3 + 5
    y[random.random(y.shape) < 0.2] = np.nan
    fit = fit_polynomial(x, y, 2)
    for cell in range(3):
        there = ~np.isnan(y[:, cell])
        if there.sum() < 5:
            continue
        centred = x[there] - x[there].mean()
        model = sm.OLS(
            y[there, cell],
            np.stack([np.ones(there.sum()), centred, centred**2], axis=1),
        ).fit()
        slope, leverage = (part[cell] for part in fit.slope())
        assert slope == pytest.approx(model.params[1], rel=1e-8, abs=1e-10)
        assert np.sqrt(fit.squares / fit.freedom)[cell] * np.sqrt(
            leverage
        ) == pytest.approx(model.bse[1], rel=1e-8)


@given(st.sampled_from([4, 9, 40, 420]), st.integers(0, 99), st.booleans())
def test_rank_statistics_agree_with_scipy(n, seed, ties):
    """Against scipy.stats.theilslopes and kendalltau, with ties and gaps, short series and long; to
    11 digits."""
    random = np.random.default_rng(seed)
    x = 2000 + np.sort(random.uniform(0, 40, n))
    y = random.normal(size=(n, 3)) * 3 + random.normal() * 0.1 * (x[:, None] - 2020)
    y = np.round(y, 1) if ties else y
    y[random.random(y.shape) < 0.1] = np.nan
    variance = kendall_variance(y)
    score, slope, low, high = pairwise_trend(x, y, None, variance, 0.1)
    for cell in range(3):
        there = ~np.isnan(y[:, cell])
        if there.sum() < 3 or np.ptp(y[there, cell]) == 0:
            continue
        expected = scipy.stats.theilslopes(y[there, cell], x[there], 0.9)
        np.testing.assert_allclose(
            [slope[cell], low[cell], high[cell]],
            [expected[0], expected[2], expected[3]],
            rtol=1e-11,
        )
        z = (score[cell] - np.sign(score[cell])) / np.sqrt(variance[cell])
        assert normal_pvalue(score, variance)[cell] == pytest.approx(
            2 * scipy.stats.norm.sf(abs(z)), rel=1e-11
        )
        # Kendall's tau-b has the same score over another divisor.
        tau = scipy.stats.kendalltau(x[there], y[there, cell]).statistic
        pairs = there.sum() * (there.sum() - 1) / 2
        tied = sum(
            c * (c - 1) / 2 for c in np.unique(y[there, cell], return_counts=True)[1]
        )
        assert score[cell] / np.sqrt(pairs * (pairs - tied)) == pytest.approx(
            tau, rel=1e-11, abs=1e-12
        )


def test_a_worked_mann_kendall_example():
    """Gilbert 1987, section 16.4.1: of 10, 15, 14, 20 five pairs rise and one falls, so S = 4;
    variance by hand."""
    values = np.array([10.0, 15.0, 14.0, 20.0])[:, None]
    assert kendall_statistic(values)[0] == 4
    assert kendall_variance(values)[0] == pytest.approx(4 * 3 * 13 / 18)
    tied = np.array([23.0, 24.0, 29.0, 6.0, 29.0, 24.0, 24.0, 29.0, 23.0])[:, None]
    # Nine values; groups of 2, 3 and 3 that are equal: (9 8 23 - 2 1 9 - 2 3 2 11) / 18 by hand.
    assert kendall_variance(tied)[0] == pytest.approx(
        (9 * 8 * 23 - 2 * 1 * 9 - 2 * 3 * 2 * 11) / 18
    )


def test_the_seasonal_test_agrees_with_its_definition():
    """Against Hirsch and Slack 1984, written out pair by pair in plain Python, with ties and gaps;
    to 12 digits."""
    random = np.random.default_rng(4)
    table = np.round(random.normal(size=(3, 9)), 1)
    table[1, 4] = np.nan
    seasons, years = (
        part.ravel() for part in np.meshgrid(np.arange(3), np.arange(9), indexing="ij")
    )
    score, variance = seasonal_kendall(table.ravel()[:, None], seasons, years)

    def sign(a, b):
        return 0 if a != a or b != b else int(a > b) - int(a < b)

    n = 9
    counts = [sum(v == v for v in row) for row in table]
    ranks = [
        [(counts[g] + 1 + sum(sign(v, w) for w in row)) / 2 for v in row]
        for g, row in enumerate(table)
    ]
    total = 0.0
    for g, h in itertools.product(range(3), repeat=2):
        if g == h:
            ties = np.unique(table[g][~np.isnan(table[g])], return_counts=True)[1]
            m = counts[g]
            total += (
                m * (m - 1) * (2 * m + 5) - sum(t * (t - 1) * (2 * t + 5) for t in ties)
            ) / 18
            continue
        k = sum(
            sign(table[g, j], table[g, i]) * sign(table[h, j], table[h, i])
            for i in range(n)
            for j in range(i + 1, n)
        )
        cross = sum(a * b for a, b in zip(ranks[g], ranks[h], strict=True))
        total += (k + 4 * cross - n * (counts[g] + 1) * (counts[h] + 1)) / 3
    expected = sum(
        sign(row[j], row[i]) for row in table for i in range(n) for j in range(i + 1, n)
    )
    assert score[0] == expected
    assert variance[0] == pytest.approx(total, rel=1e-12)


def monthly(values, **attributes):
    values = np.asarray(values, float)
    about = {"base_period": "all", "standard_name": ""} | attributes
    return make_dataset(
        values.reshape(len(values), -1, 1),
        times=np.arange(len(values)) * 30 + 15,
        calendar="360_day",
        units="days since 2001-01-01",
        attributes=about,
    )


RATES = {
    (0.0, "t", "none"): (0.04, 0.06),
    (0.0, "mann-kendall", "none"): (0.04, 0.06),
    (0.0, "seasonal-mann-kendall", "none"): (0.035, 0.06),
    (0.0, "t", "ar1"): (0.03, 0.06),
    (0.0, "mann-kendall", "hamed-rao"): (0.04, 0.07),
    (0.0, "mann-kendall", "pre-whitening"): (0.04, 0.07),
    (0.6, "t", "none"): (0.25, 0.40),
    (0.6, "mann-kendall", "none"): (0.25, 0.40),
    (0.6, "t", "ar1"): (0.04, 0.09),
    (0.6, "mann-kendall", "hamed-rao"): (0.06, 0.14),
    (0.6, "mann-kendall", "pre-whitening"): (0.05, 0.11),
}
"""Share of false positives at 0.05 among 2,000 series of 120 months, by persistence, test and what
is done about it."""


@pytest.mark.parametrize(("follows", "test", "serial"), list(RATES))
def test_how_often_each_test_finds_what_is_not_there(follows, test, serial):
    random = np.random.default_rng(8)
    noise = random.normal(size=(220, 2000))
    for step in range(1, 220):
        noise[step] += follows * noise[step - 1]
    found = Trend(test=test, serial_correlation=serial)(monthly(noise[100:]))[
        "tas_trend_significant"
    ].values()
    low, high = RATES[follows, test, serial]
    assert low < (found == 1).mean() < high


def test_false_discoveries_are_held_over_the_map():
    """Against scipy.stats.false_discovery_control."""
    random = np.random.default_rng(1)
    values = (
        random.normal(size=(40, 300))
        + np.where(np.arange(300) < 60, 0.06, 0.0) * np.arange(40)[:, None]
    )
    made = Trend(false_discovery=True, alpha=0.1)(monthly(values))
    adjusted = scipy.stats.false_discovery_control(
        made["tas_trend_pvalue"].values().ravel()
    )
    np.testing.assert_array_equal(
        made["tas_trend_significant"].values().ravel() == 1, adjusted <= 0.1
    )
    assert 30 < (adjusted <= 0.1).sum() < 75


METHODS = [
    {},
    {"order": 2},
    {"method": "theil-sen"},
    {"serial_correlation": "ar1"},
    {"method": "theil-sen", "test": "seasonal-mann-kendall"},
    {"method": "theil-sen", "serial_correlation": "hamed-rao"},
]


@pytest.mark.parametrize("settings", METHODS)
def test_what_any_trend_has_to_keep_to(settings):
    """Adding a line adds its slope, turning time round turns the sign, units commute, blocks
    change
    nothing."""
    random = np.random.default_rng(3)
    values = random.normal(280, 1, (96, 6))
    values[random.random(values.shape) < 0.1] = np.nan
    years = monthly(values).time.decimal_years[:, None]

    def trend(data, **more):
        return Trend(**settings, **more)(data)["tas_trend"].values().ravel()

    plain = trend(monthly(values))
    np.testing.assert_allclose(
        trend(monthly(values + 0.3 * (years - 2005))), plain + 3.0, rtol=1e-9
    )
    if "test" not in settings:
        np.testing.assert_allclose(
            trend(monthly(values[::-1])), -plain, rtol=1e-9, atol=1e-9
        )
    np.testing.assert_allclose(
        trend(monthly(values), per="century"), 10 * plain, rtol=1e-12
    )
    fahrenheit = Convert(units="tas=degF")(
        make_dataset(
            values[..., None],
            times=np.arange(96) * 30 + 15,
            calendar="360_day",
            units="days since 2001-01-01",
        )
    )
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RhodoliteWarning)
        np.testing.assert_allclose(trend(fahrenheit), plain, rtol=1e-8, atol=1e-9)
    small = (
        Trend(**settings)(monthly(values))["tas_trend"]
        .values(Engine(workers=2, memory=1 << 12))
        .ravel()
    )
    np.testing.assert_allclose(small, plain, rtol=1e-12)


def test_cells_without_a_trend_are_defined():
    values = np.random.default_rng(0).normal(size=(40, 4))
    values[:, 1], values[3:, 2], values[:, 3] = 7.0, np.nan, np.nan
    for settings in METHODS:
        made = Trend(**settings, min_values=4)(monthly(values))
        slope, pvalue, flag = (
            made[f"tas_trend{part}"].values().ravel()
            for part in ("", "_pvalue", "_significant")
        )
        assert (slope[1], pvalue[1], flag[1]) == (0.0, 1.0, 0)
        assert np.isnan(slope[2:]).all()
        assert np.isnan(pvalue[2:]).all()
        assert flag[2:].tolist() == [-1, -1]


@given(st.sampled_from([1, 2]), st.booleans(), st.sampled_from(["none", "month"]))
def test_no_slope_is_left_and_the_mean_is_kept_or_not(order, keep_mean, cycle):
    random = np.random.default_rng(2)
    values = random.normal(280, 3, (120, 3)) + 0.01 * np.arange(120)[:, None]
    values[random.random(values.shape) < 0.1] = np.nan
    made = Detrend(order=order, keep_mean=keep_mean, cycle=cycle)(monthly(values))
    rest = made["tas"].values()[..., 0]
    years = made.time.decimal_years
    groups = (
        [np.arange(120)]
        if cycle == "none"
        else [np.arange(month, 120, 12) for month in range(12)]
    )
    for members in groups:
        assert (
            np.abs(fit_polynomial(years[members], rest[members], 1).slope()[0]).max()
            < 1e-10
        )
        means = np.nanmean(values[members], axis=0) if keep_mean else 0.0
        np.testing.assert_allclose(np.nanmean(rest[members], axis=0), means, atol=1e-10)
    assert re.search(
        r"the largest slope left is \d\.\de-1\d K per decade",
        made.remarks[0].text(Engine()),
    )


def test_correlation_agrees_with_scipy_with_a_series_and_by_cell():
    """Against scipy.stats.pearsonr, spearmanr and linregress; p-values by hand; to 10 digits."""
    random = np.random.default_rng(6)
    index = random.normal(size=(120, 1))
    field = 0.5 * index + random.normal(size=(120, 4))
    field[random.random(field.shape) < 0.1] = np.nan
    series, data = monthly(index), monthly(field)
    for method, expected in (
        ("pearson", scipy.stats.pearsonr),
        ("spearman", scipy.stats.spearmanr),
    ):
        for other in (series, monthly(np.repeat(index, 4, axis=1))):
            made = Correlate(with_=other, method=method)(data)
            found = made["tas_correlation"].values().ravel()
            for cell in range(4):
                there = ~np.isnan(field[:, cell])
                assert found[cell] == pytest.approx(
                    expected(field[there, cell], index[there, 0]).statistic, rel=1e-10
                )
    made = Correlate(with_=series)(data)
    there = ~np.isnan(field[:, 0])
    slope = scipy.stats.linregress(index[there, 0], field[there, 0]).slope
    assert made["tas_regression"].values().ravel()[0] == pytest.approx(slope, rel=1e-10)
    whole = np.where(np.isnan(field), 0.0, field)[:, :1]
    made = Correlate(with_=series)(monthly(whole))

    def lag1(v):
        d = v - v.mean()
        return (d[1:] * d[:-1]).mean() / (d * d).mean()

    r, product = (
        scipy.stats.pearsonr(whole[:, 0], index[:, 0]).statistic,
        lag1(whole[:, 0]) * lag1(index[:, 0]),
    )
    freedom = 120 * (1 - max(product, 0)) / (1 + max(product, 0)) - 2
    expected = 2 * scipy.stats.t.sf(abs(r) * np.sqrt(freedom / (1 - r * r)), freedom)
    assert made["tas_correlation_pvalue"].values().item() == pytest.approx(
        expected, rel=1e-9
    )


def test_lags_are_found_and_times_are_matched_by_what_they_stand_for():
    random = np.random.default_rng(7)
    index = random.normal(size=150)
    follower = np.roll(index, 3) + 0.1 * random.normal(
        size=150
    )  # goes three months behind
    follower[:3] = random.normal(size=3)
    data = monthly(follower[:, None])
    with pytest.warns(
        RhodoliteWarning, match="30 of 150 times of .* have no counterpart"
    ):
        made = Correlate(
            with_=Subset(time="2003-07..")(monthly(index[:, None])), lag="-6..6"
        )(data)
        assert made["tas_lag"].values().item() == 3
    assert made["tas_correlation"].dimensions == ("lag", "lat", "lon")
    assert "at lag 3, the strongest of -6 to 6" in made.remarks[0].text(Engine())
    common = np.arange(150) * 0.05
    both = Correlate(with_=monthly((index + common)[:, None]))(
        monthly((random.normal(size=150) + common)[:, None])
    )
    honest = Correlate(with_=monthly((index + common)[:, None]), detrend=True)(
        monthly((np.random.default_rng(9).normal(size=150) + common)[:, None])
    )
    assert both["tas_correlation"].values().item() > 0.5
    assert abs(honest["tas_correlation"].values().item()) < 0.3


def test_comparisons_agree_with_numpy():
    """Bias, errors, correlations and ratios of variances by cell, by time and overall; to 10
    digits."""
    random = np.random.default_rng(5)
    first, second = random.normal(280, 3, (36, 4, 5)), random.normal(281, 2, (36, 4, 5))
    axes = {
        "times": np.arange(36) * 30 + 15,
        "lats": [-60, -20, 20, 60],
        "lons": np.arange(5) * 72,
    }
    data, other = (make_dataset(v, calendar="360_day", **axes) for v in (first, second))
    made = Compare(with_=Convert(units="tas=degC")(other))(data)
    difference = first - second
    expected = {
        "difference": difference,
        "bias": difference.mean(0),
        "mean_absolute_error": np.abs(difference).mean(0),
        "root_mean_square_error": np.sqrt((difference**2).mean(0)),
        "variance_ratio": first.var(0) / second.var(0),
    }
    for name, values in expected.items():
        np.testing.assert_allclose(
            made[f"tas_{name}"].values(), values, rtol=1e-9, atol=1e-9
        )
    weights = np.repeat(np.abs(np.diff(np.sin(np.radians([-80, -40, 0, 40, 80])))), 5)
    for step in range(3):
        pair = np.cov(first[step].ravel(), second[step].ravel(), aweights=weights)
        r = pair[0, 1] / np.sqrt(pair[0, 0] * pair[1, 1])
        assert made["tas_pattern_correlation"].values()[step] == pytest.approx(
            r, rel=1e-7
        )
        error = np.sqrt(np.average(difference[step].ravel() ** 2, weights=weights))
        assert made["tas_error_over_area"].values()[step] == pytest.approx(
            error, rel=1e-9
        )
    table = made.remarks[0].text(Engine())
    overall = np.average(difference.reshape(36, -1), axis=1, weights=weights).mean()
    assert float(re.search(r"bias\s+(\S+) K", table).group(1)) == pytest.approx(
        overall, rel=1e-4
    )
    same = Compare(with_=data)(data)
    assert np.abs(same["tas_difference"].values()).max() == 0
    assert re.search(r"correlation\s+1\n", same.remarks[0].text(Engine()))


@pytest.mark.slow
def test_a_series_answers_in_a_sentence(demo, tmp_path):
    series = tmp_path / "cell.csv"
    run_here(
        "subset",
        demo / "garnet_monthly_1981-2020.nc",
        "--at",
        "61N,9E",
        "--variable",
        "tas",
        "-o",
        series,
    )
    answer = run_here("anomaly", series, "then", "trend")
    assert answer.code == 0, answer.err
    pattern = (
        r"tas: \+(\S+) K per decade, 95 % interval (\S+) to (\S+), p < 0.001, Mann-Kendall "
        r"agrees \(p < 0.001\)\n  lag-1 autocorrelation \S+, worth \S+ independent values\n"
    )
    slope, low, high = map(float, re.fullmatch(pattern, answer.out).groups())
    assert low < slope < high
    rest = run_here("detrend", series, "--keep-mean", "-o", tmp_path / "rest.csv")
    assert re.fullmatch(
        r"tas: the largest slope left is \S+e-1\d K per decade\n", rest.out
    )
    ranks = run_here(
        "anomaly",
        series,
        "then",
        "trend",
        "--method",
        "theil-sen",
        "--test",
        "seasonal-mann-kendall",
    )
    assert "the t test agrees" in ranks.out
    (tmp_path / "wrong.csv").write_text(
        "time,rain\n2001,1.0\n2002,x\n2003,4.0\n2004,3.5\n"
    )
    assert (
        "wrong.csv, line 3: 'x' in column 'rain' is not a number"
        in run_here("trend", tmp_path / "wrong.csv").err
    )


@pytest.mark.parametrize(
    ("words", "code", "message"),
    [
        (
            ["trend", "--method", "theil-sen", "--test", "t"],
            2,
            "--test t belongs to --method least-squares",
        ),
        (
            ["trend", "--serial-correlation", "hamed-rao"],
            2,
            "goes with --test mann-kendall, not",
        ),
        (
            ["trend", "--order", "2", "--test", "mann-kendall"],
            2,
            "--order 2 is a fit by least squares",
        ),
        (["trend", "--order", "3"], 2, "'3' is not offered; write 1 for a line"),
        (
            ["trend", "--min-values", "1000"],
            3,
            "a trend needs at least 1000 times, and there are 480",
        ),
        (["correlate"], 2, "correlate: with what? Add --with FILE"),
        (
            ["correlate", "--with", "nordic_daily_2010.nc"],
            3,
            "bring both to the same first, such as aggregate",
        ),
        (
            ["correlate", "--with", "garnet_monthly_1981-2020.nc", "--lag", "6..-6"],
            2,
            "runs backwards",
        ),
        (
            ["correlate", "--with", "garnet_monthly_1981-2020.nc:prr"],
            3,
            "Did you mean pr?",
        ),
        (
            ["compare", "--with", "almandine_historical.nc"],
            3,
            "tas has 72 x 144 cells in garnet_monthly_1981-2020.nc",
        ),
        (
            ["anomaly", "--climatology", "garnet_monthly_1981-2020.nc:tas"],
            2,
            "name the file alone",
        ),
        (["detrend", "--cycle", "day"], 3, "a cycle by day needs at least one per day"),
    ],
)
def test_what_cannot_be_asked_is_said(demo, tmp_path, words, code, message):
    answer = run_here(
        words[0],
        "garnet_monthly_1981-2020.nc",
        *words[1:],
        "-o",
        tmp_path / "x.nc",
        folder=demo,
    )
    assert answer.code == code, answer.err
    assert message in answer.err
    assert not list(tmp_path.iterdir())


def test_different_calendars_and_seasons_that_are_none_are_refused(tmp_path):
    days = [
        make_dataset(np.ones((400, 1, 1)), times=np.arange(400.0), calendar=c)
        for c in ("noleap", "360_day")
    ]
    with pytest.raises(
        DataError, match="whose days do not correspond; aggregate both --to month"
    ):
        Correlate(with_=days[0])(days[1])
    rows = "".join(f"2001-{month:02d}-01,{month}\n" for month in range(1, 13))
    (tmp_path / "index.csv").write_text(f"time,oni\n{rows}2002-01-02,1\n")
    with pytest.raises(
        DataError, match="a column of it: calendar, with noleap in each"
    ):
        Correlate(with_=rhodolite.read(tmp_path / "index.csv"))(days[0])
    months = [
        make_dataset(
            np.ones((24, 1, 1)), times=np.arange(24) * 30 + start, calendar="360_day"
        )
        for start in (15, 900)
    ]
    with pytest.raises(DataError, match="have no time in common"):
        Compare(with_=months[0])(months[1])
    with pytest.raises(
        UsageError, match="needs one value for each month or season of a year"
    ):
        Trend(test="seasonal-mann-kendall")(days[0])


def test_marks_and_lines_of_trends_are_drawn(demo):
    garnet = rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    made = Trend()(Anomaly()(Subset(variable="pr", lat="40S..40N")(garnet)))
    figure = Map(variable="pr_trend")(made)
    dots = figure.axes[0].collections[-1].get_offsets()
    flags = made["pr_trend_significant"].values() == 1
    assert 0 < len(dots) <= flags.sum()
    lats, lons = made.variables["lat"].values(), made.variables["lon"].values()
    for lon, lat in np.asarray(dots)[:50]:
        assert flags[np.abs(lats - lat).argmin(), np.abs(lons - lon).argmin()]
    assert "significant at 0.05" in [
        t.get_text() for t in figure.axes[0].get_legend().get_texts()
    ]
    cell = Subset(variable="tas", at="61N,9E")(garnet)
    lines = Series(trend=True, without_cycle=True)(cell)
    assert any("per decade, 95 % interval" in text.get_text() for text in lines.texts)
    drawn = {line.get_label(): line for line in lines.axes[0].lines}
    assert set(drawn) == {"Near-surface air temperature", "without its cycle", "trend"}
    slope = np.diff(drawn["trend"].get_ydata()[[0, -1]])[0] / np.ptp(
        cell.time.decimal_years
    )
    assert slope == pytest.approx(
        Trend(per="year")(Anomaly()(cell))["tas_trend"].values().item(), rel=1e-3
    )


def test_blocks_of_a_map_are_few_series_as_long_as_all_together_are(monkeypatch):
    monkeypatch.setattr(few_series._Few, "slopes", 0)
    assert [few_series.are_few(500, np.array([100])) for _ in range(5)] == [
        True
    ] * 3 + [False] * 2


@given(
    seed=st.integers(0, 10_000),
    n=st.sampled_from([2, 3, 5, 17, 40, 129, 150, 260]),
    digits=st.sampled_from([0, 1, 12]),
    gaps=st.sampled_from([0.0, 0.2]),
    seasonal=st.booleans(),
)
def test_slopes_of_pairs_are_those_of_the_definition_to_the_bit(
    seed, n, digits, gaps, seasonal
):
    """All slopes computed and sorted, by which few and many, short and long series are judged
    alike."""
    random = np.random.default_rng(seed)
    x = np.cumsum(random.uniform(0.1, 1.0, n))
    y = np.round(random.normal(size=(n, 3)) + 0.1 * x[:, None] * [0, 1, -1], digits)
    y[random.random(y.shape) < gaps] = np.nan
    seasons = np.arange(n) % 4 if seasonal else None
    variance = kendall_variance(y)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(few_series, "_MOST_SLOPES", 1 << 62)
        found = pairwise_trend(x, y, seasons, variance, 0.05)
        patch.setattr(few_series, "_MOST_SLOPES", -1)
        compiled = pairwise_trend(x, y, seasons, variance, 0.05)
        np.testing.assert_array_equal(np.array(compiled), np.array(found))
        if not seasonal:
            np.testing.assert_array_equal(kendall_statistic(y), np.nan_to_num(found[0]))
    i, j = np.triu_indices(n, 1)
    if seasonal:
        i, j = i[seasons[i] == seasons[j]], j[seasons[i] == seasons[j]]
    for cell in range(3):
        changes = (y[j] - y[i])[:, cell]
        held = ~np.isnan(changes)
        slopes = np.sort(changes[held] / (x[j] - x[i])[held])
        if not slopes.size:
            assert all(np.isnan(part[cell]) for part in found)
            continue
        reach = normal_quantile(0.975) * np.sqrt(variance[cell])
        low = max(int(np.rint((slopes.size - reach) / 2)) - 1, 0)
        high = max(min(int(np.rint((slopes.size + reach) / 2)), slopes.size - 1), 0)
        median = (slopes[(slopes.size - 1) // 2] + slopes[slopes.size // 2]) / 2
        expected = [np.sign(changes[held]).sum(), median, slopes[low], slopes[high]]
        assert [float(part[cell]) for part in found] == expected
    if not seasonal:
        np.testing.assert_array_equal(kendall_statistic(y), np.nan_to_num(found[0]))


@pytest.mark.parametrize(
    ("steps", "lag", "said"),
    [
        (2, "0", "has only 2; a"),
        (5, "-9..-4", "has only 1 at lag -9..-4"),
    ],
)
def test_too_few_times_have_no_correlation(rng, steps, lag, said):
    data = monthly(rng.normal(size=steps))
    with pytest.raises(DataError, match=said):
        data.correlate(with_=data, lag=lag)
    longer = monthly(rng.normal(size=5))
    ranks = longer.correlate(with_=longer, lag="-5..5", method="spearman")
    known = np.isfinite(ranks["tas_correlation"].values().ravel())
    assert known.tolist() == [abs(lag) < 3 for lag in range(-5, 6)]
