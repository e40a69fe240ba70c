"""Distributions of samples: probabilities as linear interpolation has them between Hazen's places,
quantiles as NumPy's method of that name, compiled as without, to the bit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rhodolite.kernels import empirical
from rhodolite.kernels.empirical import Empirical

VALUES = st.one_of(st.sampled_from([0.0, 1.0, np.nan]), st.floats(-9, 9, width=32))


def tables(rows):
    shape = st.tuples(rows, st.just(3))
    return arrays(np.float64, shape, elements=VALUES)


def asked(sample, values, shares):
    known = Empirical(sample)
    return (*known.count_below(values), known.below(values), known.quantile(shares))


@given(tables(st.integers(0, 9)), tables(st.integers(1, 6)), st.integers(0, 10**6))
def test_places_are_those_of_numpy_with_and_without_a_compiler(sample, values, seed):
    random = np.random.default_rng(seed)
    shares = random.choice([0.0, 0.25, 0.5, 1.0, np.nan, random.random()], (4, 3))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(empirical, "_WORTH_COMPILING", 0)
        compiled = asked(sample, values, shares)
        patch.setattr(empirical, "can_compile", lambda: False)
        plain = asked(sample, values, shares)
    # What lies below a missing value is not asked for.
    there = ~np.isnan(values)
    for ours, theirs in zip(compiled[:2], plain[:2], strict=True):
        np.testing.assert_array_equal(ours[there], theirs[there])
    for ours, theirs in zip(compiled[2:], plain[2:], strict=True):
        np.testing.assert_array_equal(ours, theirs)
    for cell, column in enumerate(sample.T):
        known = np.sort(column[~np.isnan(column)])
        ours = [answer[:, cell] for answer in compiled]
        if not known.size:
            assert np.isnan(ours[2]).all() and np.isnan(ours[3]).all()
            continue
        own, first, count = np.unique(known, return_index=True, return_counts=True)
        middles = (first + count / 2) / known.size
        wanted = np.where(
            there[:, cell], np.interp(values[:, cell], own, middles), np.nan
        )
        np.testing.assert_allclose(ours[2], wanted, rtol=1e-12, atol=1e-12)
        shares_there = ~np.isnan(shares[:, cell])
        wanted = np.quantile(known, shares[shares_there, cell], method="hazen")
        np.testing.assert_allclose(ours[3][shares_there], wanted, rtol=0, atol=1e-8)
        assert np.isnan(ours[3][~shares_there]).all()
