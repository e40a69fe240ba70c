"""The mathematics against independent sources; each test names its source and the digits of
agreement."""

from __future__ import annotations

import math
import statistics
import subprocess
import sys
import warnings
from fractions import Fraction
from unittest import mock

import numba.core.caching
import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here, write_plain
from rhodolite.formats.cf.decode import Decoding
from rhodolite.kernels import few_series
from rhodolite.kernels.anomalies import differences, scaled
from rhodolite.kernels.available import can_compile
from rhodolite.kernels.compiling import compiled
from rhodolite.kernels.grouped_statistics import (
    Highest,
    Mean,
    Range,
    Spread,
    Tail,
    tails,
)
from rhodolite.kernels.long_rows import sen_of_long_rows
from rhodolite.kernels.order_statistics import percentile
from rhodolite.kernels.rank_trends import variance_growth
from rhodolite.kernels.sorting_networks import sort_cells
from rhodolite.kernels.sphere import cell_with, widths, zone_areas
from rhodolite.kernels.weighted_sums import weighted_sums


def nist(middle: str, spread: str, pairs: int) -> list[str]:
    """The numbers of the NIST StRD sets NumAcc2 to NumAcc4: one in the middle, the others around
    it."""
    low, high = (str(Fraction(middle) + sign * Fraction(spread)) for sign in (-1, 1))
    return [middle] + [
        str(float(Fraction(v))) for _ in range(pairs) for v in (low, high)
    ]


@pytest.mark.parametrize(
    ("numbers", "mean", "deviation", "digits"),
    [  # certified values of the NIST Statistical Reference Datasets, univariate summary statistics
        (["10000001", "10000003", "10000002"], 10000002, 1, 15),  # NumAcc1
        (nist("1.2", "0.1", 500), 1.2, 0.1, 14),  # NumAcc2
        (
            nist("1000000.2", "0.1", 500),
            1000000.2,
            0.1,
            9,
        ),  # NumAcc3; the numbers themselves hold 9 digits of 0.1
        (nist("10000000.2", "0.1", 500), 10000000.2, 0.1, 8),  # NumAcc4
    ],
)
def test_mean_and_deviation_agree_with_nist(numbers, mean, deviation, digits):
    values = np.array([float(n) for n in numbers]).reshape(-1, 1)
    found = Spread().finish(Spread().gather(values, np.zeros(len(numbers), int), 1))
    assert found["mean"][0, 0] == pytest.approx(mean, rel=2e-14)
    assert found["deviation"][0, 0] == pytest.approx(deviation, rel=10.0**-digits)


def test_kernels_are_compiled_where_nothing_can_be_kept(monkeypatch):
    monkeypatch.setattr(numba.core.caching.CacheImpl, "_locator_classes", [])
    add = compiled(_add)
    assert add(1, 2) == 3
    assert add.signatures


def _add(first, second):
    return first + second


@pytest.mark.parametrize(
    "step", ["trend --method theil-sen", "trend --test mann-kendall"]
)
def test_without_a_compiler_numpy_gives_the_same_and_it_is_said(
    tmp_path, monkeypatch, rng, step
):
    """To the bit, with ties and gaps; the message says what to install."""
    values = rng.integers(0, 60, (400, 6, 7)).astype("f4")
    values[rng.random(values.shape) < 0.1] = np.nan
    write_plain(tmp_path / "a.nc", values, chunksizes=(1, 6, 7))
    verb, *options = step.split()
    monkeypatch.setattr(few_series, "_MOST_SLOPES", 0)
    said = []
    for name, numba_module in (("with", numba), ("without", None)):
        with monkeypatch.context() as patch:
            patch.setitem(sys.modules, "numba", numba_module)
            can_compile.cache_clear()
            answer = run_here(
                verb, "a.nc", *options, "-o", f"{name}.nc", folder=tmp_path
            )
        assert answer.code == 0, answer.err
        said.append("pip install 'rhodolite[compiled]'" in answer.err)
    can_compile.cache_clear()
    assert said == [False, True]
    one, two = (rhodolite.read(tmp_path / f"{name}.nc") for name in ("with", "without"))
    for field in one.fields:
        np.testing.assert_array_equal(two[field.name], field)


@given(
    st.integers(1, 70),
    st.sampled_from(["i2", "f8"]),
    st.integers(0, 999),
    st.booleans(),
)
def test_sorting_by_exchanges_agrees_with_numpy(count, kind, seed, some):
    """To the bit, all values as well as those at a few places."""
    random = np.random.default_rng(seed)
    values = random.integers(0, 1 + count, (count, 5)).astype(kind)
    places = (
        sorted(random.choice(count, min(2, count), replace=False))
        if some
        else range(count)
    )
    found = sort_cells(values, [int(place) for place in places] if some else None)
    np.testing.assert_array_equal(found, np.sort(values, axis=0)[list(places)])


@given(
    st.sampled_from(["i2", "u1", "f4", "f8"]),
    st.integers(1, 40),
    st.sampled_from([0, 5, 10, 50, 90, 99, 100]) | st.floats(0, 100),
    st.integers(0, 9999),
    st.booleans(),
)
def test_percentiles_from_the_outermost_values_are_those_of_all(
    kind, count, share, seed, falls
):
    """To the bit, whatever the blocks and however many values are missing; those of all agree with
    NumPy to 12 digits."""
    random = np.random.default_rng(seed)
    cells = [(3,), (2, 3)][seed % 2]
    groups = random.integers(-1, 2, count)
    numbers = random.integers(0, 9, (count, *cells)).astype(kind)
    unpack = None
    if kind in ("i2", "u1"):
        about = {
            "scale_factor": -0.1 if falls else 0.1,
            "_FillValue": np.dtype(kind).type(4),
        }
        unpack = Decoding.of(np.dtype(kind), about)
    else:
        numbers[random.random(numbers.shape) < 0.2] = np.nan
    values = numbers if unpack is None else unpack(numbers)
    in_order = unpack if unpack is not None and unpack.keeps_order else None
    most = max(int(np.bincount(groups[groups >= 0], minlength=1).max()), 1)
    tail = Tail(
        share / 100, most, (values if in_order is None else numbers).dtype.str, in_order
    )
    gathered = tail.start((2, *cells))
    with mock.patch.object(tails, "can_compile", lambda: seed % 3 > 0):
        for rows in np.array_split(np.arange(count), 1 + seed % 4):
            held = np.unique(groups[rows][groups[rows] >= 0])
            within = np.where(groups[rows] < 0, -1, np.searchsorted(held, groups[rows]))
            part = tail.start((held.size, *cells), steps=max(rows.size, 1))
            tail.take_stored(part, numbers[rows], unpack, within, None)
            tail.merge(gathered, part, held, tuple(slice(0, n) for n in cells))
    found = tail.finish(gathered)["value"]
    for group, result in enumerate(found):
        members = values[groups == group]
        if not len(members):
            assert np.isnan(result).all()
            continue
        expected = percentile(members, share / 100)
        np.testing.assert_array_equal(result, expected)
        with np.errstate(all="ignore"), warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)  # of cells without values
            theirs = np.nanpercentile(members.astype("f8"), share, axis=0)
        np.testing.assert_allclose(expected, theirs, rtol=1e-12, atol=1e-12)


@given(
    st.sampled_from(["i1", "u1", "i2", "u2", "i4"]),
    st.lists(st.integers(0, 255) | st.just(7), min_size=1, max_size=30),
    st.sampled_from([(0.01, 273.15), (2.5, -1e4), (-0.5, 3.0), (1.0, 0.0)]),
    st.integers(0, 100),
    st.booleans(),
)
def test_statistics_of_stored_numbers_are_those_of_their_values(
    kind, drawn, packing, share, gaps
):
    """Percentiles and extremes to the bit; means within 1.2e-15 of the largest value of those in
    exact arithmetic, whether integers are summed or the values that are made of them."""
    low, high = np.iinfo(kind).min, np.iinfo(kind).max
    numbers = np.array([low + n * ((high - low) // 255) for n in drawn], kind)[:, None]
    attributes = {"scale_factor": packing[0], "add_offset": packing[1]}
    if gaps:
        attributes["_FillValue"] = np.dtype(kind).type(numbers[0, 0])
    unpack = Decoding.of(np.dtype(kind), attributes, usual_fill=False)
    values = unpack(numbers)
    missing = unpack.find_missing(numbers)
    np.testing.assert_array_equal(
        np.isnan(values), False if missing is None else missing
    )
    assert unpack.keeps_order == (packing[0] > 0)
    if unpack.keeps_order:
        found = percentile(numbers, share / 100, unpack)
        np.testing.assert_array_equal(found, percentile(values, share / 100))
    groups = np.zeros(len(numbers), int)
    for statistic in (Highest(), Range()):
        direct, stored = (statistic.start((1, 1)) for _ in range(2))
        statistic.take_all(direct, values, groups, None)
        statistic.take_stored(stored, numbers, unpack, groups, None)
        assert (direct.count == stored.count).all()
        for expected, result in zip(
            statistic.finish(direct).values(),
            statistic.finish(stored).values(),
            strict=True,
        ):
            np.testing.assert_array_equal(result, expected)
    there = [Fraction(float(v)) for v in values[:, 0] if v == v]
    parts = Mean().start((1, 1))
    for rows in np.array_split(np.arange(len(numbers)), min(3, len(numbers))):
        Mean().take_stored(parts, numbers[rows], unpack, groups[rows], None)
    means = [Mean().finish(parts)["value"][0, 0]]
    if whole := Mean().of_whole(numbers, unpack):
        means.append(whole["value"][0])
    for mean in means:
        if not there:
            assert math.isnan(mean)
            continue
        exact = float(sum(there) / len(there))
        assert mean == pytest.approx(
            exact, rel=0, abs=1.2e-15 * float(np.nanmax(np.abs(values)))
        )


series = st.lists(st.floats(-1e6, 1e6) | st.just(math.nan), min_size=1, max_size=30)


@given(series, series, st.integers(1, 3))
def test_merged_moments_are_those_of_all_values(first, second, size):
    """Against Python's statistics module, exact in rational arithmetic: 12 digits of the spread."""
    blocks = [np.array(values)[:, None] for values in (first, second)]
    spread, total = Spread(), Spread().start((size, 1))
    for block in blocks:
        groups = np.arange(len(block)) % size
        spread.merge(
            total, spread.gather(block, groups, size), np.arange(size), (slice(0, 1),)
        )
    found = spread.finish(total)
    for group in range(size):
        members = [
            v for block in blocks for v in block[group::size, 0].tolist() if v == v
        ]
        assert total.count[group, 0] == len(members)
        if members:
            scale = max(abs(v) for v in members)
            assert found["mean"][group, 0] == pytest.approx(
                float(statistics.mean(map(Fraction, members))), abs=1e-12 * scale
            )
        if len(members) > 1:
            exact = float(statistics.stdev(map(Fraction, members)))
            assert found["deviation"][group, 0] == pytest.approx(
                exact, rel=1e-9, abs=1e-9 * max(scale, 1e-9)
            )


def test_departures_agree_with_scipy(rng):
    """Against scipy.stats.zscore, to 12 digits in float64 and to the last digit of float32."""
    values = rng.normal(280, 10, (24, 3, 2))
    phases = np.arange(24) % 2
    by_phase = [values[phases == phase] for phase in (0, 1)]
    normals = np.stack([v.mean(0) for v in by_phase])
    deviations = np.stack([v.std(0, ddof=1) for v in by_phase])
    expected = np.empty_like(values)
    for phase, members in enumerate(by_phase):
        expected[phases == phase] = scipy.stats.zscore(members, axis=0, ddof=1)
    np.testing.assert_allclose(
        scaled(values, normals, deviations, 1.0, phases), expected, rtol=1e-12
    )
    np.testing.assert_allclose(
        differences(values, normals, phases), values - normals[phases], rtol=1e-15
    )
    np.testing.assert_allclose(
        scaled(values, normals, normals, 100.0, phases),
        100 * (values / normals[phases] - 1),
        rtol=1e-9,
    )
    single = differences(values.astype("f4"), normals, phases)
    assert single.dtype == np.float32
    np.testing.assert_array_equal(
        single, (values.astype("f4") - normals[phases]).astype("f4")
    )


def test_a_divisor_of_zero_gives_a_missing_value():
    block, phases = np.array([[1.0, 1.0]]), np.array([0])
    zero = np.array([[0.0, 2.0]])
    np.testing.assert_array_equal(
        scaled(block, zero, zero, 100.0, phases), [[np.nan, -50.0]]
    )


@given(st.integers(1, 400), st.integers(1, 800))
def test_cells_of_a_globe_cover_the_sphere(rows, columns):
    """Against the closed form 4 pi, to 13 digits."""
    zones, wide = (
        zone_areas(np.linspace(90, -90, rows + 1)),
        widths(np.linspace(0, 360, columns + 1)),
    )
    assert np.multiply.outer(zones, wide).sum() == pytest.approx(4 * math.pi, rel=1e-13)


@pytest.mark.parametrize("axes", [(0,), (1, 2), (0, 1, 2), (2,)])
@pytest.mark.parametrize("missing", [False, True])
def test_weighted_sums_leave_missing_cells_out(rng, axes, missing):
    """Against numpy.average over the cells that are there, to 13 digits."""
    values = rng.normal(280, 10, size=(4, 5, 6)).astype("f4")
    if missing:
        values[:, 2, 3] = values[1] = np.nan
    along = {
        axis: weights
        for axis, weights in ((1, rng.random(5)), (2, np.full(6, 0.3)))
        if axis in axes
    }
    total, weight = weighted_sums(values, along, axes)
    full = np.ones(values.shape)
    for axis, weights in along.items():
        full = full * weights.reshape(
            [-1 if axis == other else 1 for other in range(3)]
        )
    masked = np.ma.average(
        np.ma.masked_invalid(values.astype("f8")), axis=axes, weights=full
    )
    np.testing.assert_array_equal(weight == 0, np.ma.getmaskarray(masked))
    np.testing.assert_allclose(
        total[weight > 0] / weight[weight > 0], np.ma.compressed(masked), rtol=1e-13
    )


@given(st.integers(2, 50), st.booleans(), st.floats(-90, 90))
def test_the_cell_that_holds_a_value_has_it_between_its_edges(count, falling, value):
    edges = np.linspace(-80, 80, count)[:: -1 if falling else 1]
    at = cell_with(edges, value)
    if at is None:
        assert abs(value) > 80
    else:
        low, high = sorted(edges[at : at + 2])
        assert low <= value <= high


def test_serial_correlation_widens_the_variance_as_its_authors_say():
    """Equation 14 of Hamed and Rao 1998 written out for one series, to twelve digits."""
    found = []
    for seed in range(6):
        noise = np.random.default_rng(seed).normal(size=200)
        values = np.zeros(200)
        for at in range(1, 200):
            values[at] = 0.8 * values[at - 1] + noise[at]
        x = np.arange(200.0)
        slope = 0.01
        ranks = scipy.stats.rankdata(values - slope * x)
        centred, n, total, lags = ranks - ranks.mean(), 200, 0.0, 0
        for lag in range(1, n - 2):
            r = (centred[lag:] * centred[:-lag]).mean() / (centred**2).mean()
            if abs(r) <= 1.96 / math.sqrt(n):
                break
            lags = lag
            total += (n - lag) * (n - lag - 1) * (n - lag - 2) * r
        growth = 1 + 2 * total / (n * (n - 1) * (n - 2))
        made = variance_growth(x, values[:, None], np.array([slope]))[0]
        assert made == pytest.approx(growth, rel=1e-12)
        found.append(lags)
    assert max(found) > 4  # so that a limit of the lags would be noticed


def test_what_differs_by_rounding_alone_has_no_spread():
    """0.1 + 0.2 and 0.3 differ in the last place; 1e-9 apart is a difference."""
    series = np.array([[0.1 + 0.2, 0.3], [0.3, 0.3 + 1e-9], [0.3, 0.3]])
    statistic = Spread()
    gathered = statistic.gather(series, np.zeros(3, dtype=np.intp), 1, None)
    found = statistic.finish(gathered)["deviation"][0]
    assert found[0] == 0.0
    assert found[1] == pytest.approx(1e-9 / math.sqrt(3), rel=1e-5)


@given(
    st.integers(130, 260),
    st.integers(0, 999),
    st.sampled_from(["plain", "rounded", "rain", "lines", "large", "one"]),
    st.sampled_from([1.0, 1 / 12, 365.25]),
)
def test_slopes_of_long_series_are_to_the_bit_those_of_all_pairs(n, seed, kind, step):
    """Against the definition: all slopes, sorted; every bit."""
    random = np.random.default_rng(seed)
    x = np.arange(n) * step
    y = {
        "plain": random.normal(280, 2, n),
        "rounded": np.round(random.normal(280, 2, n), 1),
        "rain": np.maximum(random.normal(-0.5, 1, n), 0),
        "lines": 0.5 * x + (random.random(n) < 0.05) * random.normal(size=n),
        "large": 1e6 + np.cumsum(random.normal(size=n)),
        "one": np.full(n, 3.0),
    }[kind]
    first, second = np.triu_indices(n, 1)
    changes = y[second] - y[first]
    slopes = np.sort(changes / (x[second] - x[first]))
    reach = 1.96 * math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
    low, high = (round((slopes.size + sign * reach) / 2) for sign in (-1, 1))
    middle = (slopes[(slopes.size - 1) // 2] + slopes[slopes.size // 2]) / 2
    found = np.empty((4, 1))
    sen_of_long_rows(x, y[None], np.array([0]), np.array([reach]), found)
    expected = [np.sign(changes).sum(), middle, slopes[low - 1], slopes[high]]
    np.testing.assert_array_equal(found[:, 0], expected)


def test_compiled_kernels_load_no_linear_algebra_and_leave_it_to_others():
    """A third of the time until they run, were it loaded; who compiles `dot` beside them can."""
    script = (
        "import sys, numba, numpy as np\n"
        "from rhodolite.kernels.compiled_sliding import add_windows\n"
        "assert 'scipy.linalg' not in sys.modules\n"
        "dot = numba.njit(lambda first, second: np.dot(first, second))\n"
        "assert dot(np.full((2, 2), 3.0), np.eye(2)).tolist() == [[3, 3], [3, 3]]"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True)
    assert done.returncode == 0, done.stderr.decode()
