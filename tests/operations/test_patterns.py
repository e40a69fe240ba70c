"""Patterns of fields, against the singular values of the whole field in memory."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.optimize
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import Patterns
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.principal_components import varimax

LATS, LONS = np.linspace(-60, 60, 7), np.linspace(0, 300, 6)


def field(seed, n=40, noise=0.3, name="tas", units="K"):
    rng = np.random.default_rng(seed)
    shapes = rng.normal(size=(3, 7, 6))
    series = rng.normal(size=(n, 3)) * [3, 2, 1]
    values = 280 + np.tensordot(series, shapes, 1) + noise * rng.normal(size=(n, 7, 6))
    data = make_dataset(
        values,
        times=np.arange(n) * 30.0 + 15,
        lats=LATS,
        lons=LONS,
        calendar="360_day",
        name=name,
        attributes={"units": units},
    )
    return data, values


def weights():
    edges = np.radians(np.linspace(-70, 70, 8))
    by_row = np.diff(np.sin(edges))
    return np.repeat(by_row[:, None], 6, axis=1).ravel()


def values_of(dataset, *names):
    return [Engine().compute(dataset[name].data) for name in names]


def plain_components(values, count, standardised):
    """By the singular values of the whole weighted field."""
    flat = values.reshape(len(values), -1)
    departures = flat - flat.mean(axis=0)
    counted = (
        departures / departures.std(axis=0, ddof=1) if standardised else departures
    )
    root = np.sqrt(weights())
    left, sizes, _ = np.linalg.svd(counted * root, full_matrices=False)
    series = left[:, :count] * np.sqrt(len(values) - 1)
    largest = np.abs(series).argmax(axis=0)
    series = series * np.sign(series[largest, np.arange(count)])
    maps = series.T @ departures / (len(values) - 1)
    return series, maps, 100 * sizes[:count] ** 2 / (sizes**2).sum()


@settings(max_examples=8)
@given(st.integers(0, 10**6), st.sampled_from(["covariance", "correlation"]))
def test_components_are_the_singular_vectors_of_the_weighted_field(seed, matrix):
    """To 9 digits; series are uncorrelated and of unit spread, and shares have North's error."""
    data, values = field(seed)
    result = Patterns(count=3, matrix=matrix)(data)
    series, maps, share, error = values_of(
        result, "tas_series", "tas_pattern", "tas_share", "tas_share_error"
    )
    expected = plain_components(values, 3, matrix == "correlation")
    np.testing.assert_allclose(series, expected[0], rtol=1e-7, atol=1e-9)
    np.testing.assert_allclose(maps.reshape(3, -1), expected[1], rtol=1e-7, atol=1e-9)
    np.testing.assert_allclose(share, expected[2], rtol=1e-9)
    np.testing.assert_allclose(np.cov(series.T), np.eye(3), atol=1e-10)
    np.testing.assert_allclose(error, share * np.sqrt(2 / 40), rtol=1e-12)


def test_all_components_give_the_field_back():
    data, values = field(3, n=12)
    result = Patterns(count=11)(data)
    series, maps, share = values_of(result, "tas_series", "tas_pattern", "tas_share")
    back = np.tensordot(series, maps, 1)
    np.testing.assert_allclose(back, values - values.mean(axis=0), atol=1e-9)
    assert share.sum() == pytest.approx(100, rel=1e-12)


@settings(max_examples=10)
@given(st.integers(0, 10**6), st.integers(2, 4))
def test_varimax_is_the_best_rotation_that_a_search_finds(seed, count):
    """No angle between any two columns makes the criterion larger."""
    rng = np.random.default_rng(seed)
    loadings = rng.normal(size=(30, count)) * (rng.random((30, count)) < 0.5)
    rotation = varimax(loadings)
    np.testing.assert_allclose(rotation.T @ rotation, np.eye(count), atol=1e-12)
    lengths = np.sqrt((loadings**2).sum(axis=1, keepdims=True))
    rows = np.divide(loadings, lengths, out=np.zeros_like(loadings), where=lengths > 0)

    def criterion(turned):
        return (turned**2).var(axis=0).sum()

    best = criterion(rows @ rotation)
    for i in range(count):
        for j in range(i + 1, count):

            def turned(angle, i=i, j=j):
                plane = np.eye(count)
                plane[[i, i, j, j], [i, j, i, j]] = (
                    np.cos(angle),
                    -np.sin(angle),
                    np.sin(angle),
                    np.cos(angle),
                )
                return -criterion(rows @ rotation @ plane)

            other = scipy.optimize.minimize_scalar(turned, bounds=(-0.8, 0.8))
            assert -other.fun <= best + 1e-9


def test_a_rotation_divides_the_same_variance_and_keeps_what_the_patterns_say():
    data, _ = field(5)
    plain, turned = Patterns(count=3)(data), Patterns(count=3, rotate=True)(data)
    names = ("tas_series", "tas_pattern", "tas_share")
    before, after = values_of(plain, *names), values_of(turned, *names)
    assert after[2].sum() == pytest.approx(before[2].sum(), rel=1e-10)
    assert (np.diff(after[2]) <= 0).all()
    np.testing.assert_allclose(np.cov(after[0].T), np.eye(3), atol=1e-10)
    sums = [np.tensordot(series, maps, 1) for series, maps, _ in (before, after)]
    np.testing.assert_allclose(sums[0], sums[1], atol=1e-9)
    shares = [
        100 * (weights() * m.ravel() ** 2).sum() / _variance(data) for m in after[1]
    ]
    np.testing.assert_allclose(after[2], shares, rtol=1e-9)


def _variance(data):
    values = Engine().compute(data["tas"].data).reshape(40, -1)
    return (weights() * values.var(axis=0, ddof=1)).sum()


def test_two_fields_have_the_singular_vectors_of_their_covariance():
    first, a = field(7)
    _, b = field(8)
    b = b + 0.8 * a[:, ::-1]
    second = make_dataset(
        b,
        times=np.arange(40) * 30.0 + 15,
        lats=LATS,
        lons=LONS,
        calendar="360_day",
        name="pr",
        attributes={"units": "mm day-1"},
    )
    result = Patterns(count=2, with_=second)(first)
    names = ("tas_series", "tas_other_series", "tas_share", "tas_series_correlation")
    ours, theirs, share, correlation = values_of(result, *names)
    root = np.sqrt(weights())
    x, y = ((v.reshape(40, -1) - v.reshape(40, -1).mean(0)) * root for v in (a, b))
    left, sizes, right = np.linalg.svd(x.T @ y, full_matrices=False)
    np.testing.assert_allclose(
        share, 100 * sizes[:2] ** 2 / (sizes**2).sum(), rtol=1e-8
    )
    for series, parts, vectors in ((ours, x, left[:, :2]), (theirs, y, right[:2].T)):
        expected = parts @ vectors
        expected /= expected.std(axis=0, ddof=1)
        np.testing.assert_allclose(
            np.abs(series), np.abs(expected), rtol=1e-6, atol=1e-8
        )
    together = [np.corrcoef(ours[:, k], theirs[:, k])[0, 1] for k in range(2)]
    np.testing.assert_allclose(correlation, together, rtol=1e-9)
    assert (correlation > 0).all()
    own = Patterns(count=2, with_=first)(first)
    alone = Patterns(count=2)(first)
    np.testing.assert_allclose(
        values_of(own, "tas_other_pattern")[0],
        values_of(alone, "tas_pattern")[0],
        rtol=1e-6,
        atol=1e-8,
    )


def test_two_fields_on_other_grids_have_their_maps_each_in_its_own_file():
    first, a = field(7)
    _, b = field(8)
    b = (b + 0.8 * a[:, ::-1])[:, :4, :5]
    second = make_dataset(
        b,
        times=np.arange(40) * 30.0 + 15,
        lats=LATS[:4],
        lons=LONS[:5],
        calendar="360_day",
        name="pr",
    )
    with pytest.warns(UserWarning, match="lies on another grid"):
        ours = Patterns(count=2, with_=second)(first)
        theirs = Patterns(count=2, with_=first)(second)
        names = ("tas_series", "tas_other_series", "tas_share")
        one = values_of(ours, *names)
        two = values_of(theirs, *(name.replace("tas", "pr") for name in names))
    assert "tas_other_pattern" not in ours.variables
    assert theirs["pr_pattern"].shape == (2, 4, 5)
    np.testing.assert_allclose(np.abs(one[0]), np.abs(two[1]), rtol=1e-6, atol=1e-8)
    np.testing.assert_allclose(np.abs(one[1]), np.abs(two[0]), rtol=1e-6, atol=1e-8)
    np.testing.assert_allclose(one[2], two[2], rtol=1e-9)


def test_cells_with_gaps_are_left_out_and_order_and_units_change_nothing(tmp_path):
    data, values = field(9)
    gappy = values.copy()
    gappy[3, 0, 0] = np.nan
    gappy[:, 1, 1] = np.nan
    gappy[7, 2, 2] = np.inf
    holes = _hold(gappy)
    with pytest.warns(UserWarning, match="2 of 41 cells are left out"):
        result = Patterns(count=2)(holes)
        maps = values_of(result, "tas_pattern")[0]
    assert np.isnan(maps[:, 0, 0]).all()
    assert np.isnan(maps[:, 1, 1]).all()
    assert np.isfinite(maps).sum() == 2 * 39
    kept = Patterns(count=2, min_coverage=0.9)(holes)
    assert np.isfinite(values_of(kept, "tas_pattern")[0]).sum() == 2 * 41
    plain = values_of(Patterns(count=2)(data), "tas_pattern", "tas_share")
    data.write(tmp_path / "a.nc")
    steps = (
        "convert a.nc --units tas=degF --latitude descending then patterns --count 2"
    )
    answer = run_here(*steps.split(), "-o", "p.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    turned = rhodolite.read(tmp_path / "p.nc")
    assert turned["tas_pattern"].units == "K"
    np.testing.assert_allclose(turned["tas_share"].values(), plain[1], rtol=1e-5)
    np.testing.assert_allclose(
        turned["tas_pattern"].values()[:, ::-1], plain[0], rtol=1e-3, atol=1e-3
    )


def _hold(values):
    return make_dataset(
        values,
        times=np.arange(len(values)) * 30.0 + 15,
        lats=LATS,
        lons=LONS,
        calendar="360_day",
    )


def test_a_user_chooses_and_draws_patterns(tmp_path):
    field(2)[0].write(tmp_path / "a.nc")
    for line in (
        "patterns a.nc --count 3 -o p.nc",
        "draw panels p.nc --variable tas_pattern -o maps.png",
        "draw series p.nc --variable tas_series -o series.png",
        "subset p.nc --choose pattern=2 then draw map --variable tas_pattern -o two.png",
        "subset p.nc --choose pattern=2..,pattern=1 -o all.nc",
    ):
        answer = run_here(*line.split(), folder=tmp_path)
        assert answer.code == 0, answer.err
    assert rhodolite.read(tmp_path / "all.nc")["tas_pattern"].shape[0] == 3
    for line, words in (
        ("draw map p.nc --variable tas_pattern -o a.png", "--choose pattern=1"),
        ("subset p.nc --choose pattern=7 -o b.nc", "there are 1, 2, 3"),
        ("subset p.nc --choose patern=1 -o b.nc", "pattern"),
    ):
        answer = run_here(*line.split(), folder=tmp_path)
        assert answer.code != 0
        assert words in answer.err


def test_small_memory_gives_the_same_patterns():
    data, _ = field(11, n=60)
    step = Patterns(count=3)(data)
    whole = Engine().compute(step["tas_pattern"].data)
    small = Engine(memory=20_000_000, workers=1)
    again = small.compute(Patterns(count=3)(data)["tas_pattern"].data)
    np.testing.assert_allclose(whole, again, rtol=1e-9, atol=1e-11)


def test_what_has_no_patterns_is_refused():
    data, _ = field(1, n=4)
    with pytest.raises(DataError, match="ask for fewer"):
        Patterns(count=4)(data)
    line = make_dataset(np.zeros((9, 1, 1)))
    with pytest.raises(DataError, match="single series"):
        Patterns(count=2)(line)
    for options in ({"count": 0}, {"count": 1, "rotate": True}, {"min_coverage": 2}):
        with pytest.raises(UsageError):
            Patterns(**options)
