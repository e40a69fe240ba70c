"""Scores of ensembles, quantiles side by side, and the error without the bias."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import Compare
from rhodolite.kernels.ensemble_scores import score_ensemble

NUMBERS = st.lists(st.floats(-20, 20), min_size=1, max_size=6)


@given(st.lists(NUMBERS, min_size=1, max_size=4), st.integers(0, 10**6))
def test_scores_are_those_of_their_definitions(rows, seed):
    """Every pair of members written out; the integral of squared steps is the same number."""
    length = min(map(len, rows))
    members = np.array([row[:length] for row in rows]).T
    observed = np.random.default_rng(seed).normal(0, 5, members.shape[1]).round(1)
    scores = score_ensemble(members, observed)
    m = len(members)
    expected, spreads, ranks = [], [], np.zeros(m + 1)
    for x, y in zip(members.T, observed, strict=True):
        pairs = np.abs(x[:, None] - x[None]).mean()
        expected.append(np.abs(x - y).mean() - pairs / 2)
        spreads.append(x.var(ddof=1) if m > 1 else 0.0)
        places = np.arange((x < y).sum(), (x <= y).sum() + 1)
        ranks[places] += 1 / places.size
    assert scores.crps == pytest.approx(np.mean(expected), rel=1e-9, abs=1e-9)
    assert scores.spread == pytest.approx(np.sqrt(np.mean(spreads)), rel=1e-7, abs=1e-7)
    error = np.sqrt(np.mean((members.mean(axis=0) - observed) ** 2))
    assert scores.error == pytest.approx(error, rel=1e-9, abs=1e-9)
    np.testing.assert_allclose(scores.ranks, ranks, atol=1e-12)
    first = scipy.stats.energy_distance(members[:, 0], observed[:1]) ** 2 / 2
    alone = score_ensemble(members[:, :1], observed[:1]).crps
    # Of a single observation the score is half the squared energy distance.
    assert alone == pytest.approx(first, rel=1e-7, abs=1e-7)


def months(values):
    return make_dataset(
        values, times=np.arange(len(values)) * 30.0 + 15, calendar="360_day"
    )


@settings(max_examples=3)
@given(st.integers(0, 10**6))
def test_members_are_scored_together_from_the_command_line(tmp_path_factory, seed):
    rng = np.random.default_rng(seed)
    folder = tmp_path_factory.mktemp("scores")
    members = 280 + rng.normal(size=(3, 60, 2, 2))
    observed = 280 + rng.normal(size=(60, 2, 2))
    for name, values in zip("abc", members, strict=True):
        months(values).write(folder / f"{name}.nc")
    months(observed - 273.15).write(folder / "o.nc")
    line = "annotate o.nc --set tas:units=degC -o obs.nc"
    assert run_here(*line.split(), folder=folder).code == 0
    line = "compare a.nc b.nc c.nc --members --with obs.nc --kind ensemble -o s.nc"
    answer = run_here(*line.split(), folder=folder)
    assert answer.code == 0, answer.err
    result = rhodolite.read(folder / "s.nc")
    scores = score_ensemble(members, observed)
    for name in ("crps", "spread", "error"):
        values = result[f"tas_{name}"].values()
        np.testing.assert_allclose(values, getattr(scores, name), rtol=1e-6)
    np.testing.assert_allclose(result["tas_ranks"].values().sum(axis=0), 60)
    assert "share of each rank" in answer.out
    answer = run_here(
        "compare", "a.nc", "--with", "obs.nc", "--kind", "ensemble", folder=folder
    )
    assert answer.code != 0
    assert "members" in answer.err


def test_quantiles_and_the_error_without_the_bias():
    rng = np.random.default_rng(2)
    first, second = 280 + rng.normal(size=(2, 90, 2, 3)) * [[[[1]]], [[[2]]]]
    first[3, 0, 0] = np.nan
    data, other = months(first), months(second)
    result = Compare(with_=other, kind="quantiles")(data)
    shares = result["quantile"].values()
    for name, values in (("quantiles", first), ("other_quantiles", second)):
        there = np.where(np.isnan(first), np.nan, values)
        expected = np.nanquantile(there, shares, axis=0)
        np.testing.assert_allclose(result[f"tas_{name}"].values(), expected, rtol=1e-12)
    plain = Compare(with_=other)(data)
    centred = plain["tas_centred_error"].values()
    difference = first - second
    np.testing.assert_allclose(centred, np.nanstd(difference, axis=0), rtol=1e-9)
