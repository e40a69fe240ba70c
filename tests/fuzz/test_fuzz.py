"""Mutants of files of every format end in a result or a clear refusal, within limits."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

sys.path.insert(0, str(Path(__file__).parent))

import minimise
import parsers

runner = pytest.importorskip("runner", reason="needs fork and limits of resources")


_MORE = [pytest.param(seed, marks=pytest.mark.long) for seed in (2, 3)]


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(os, "fork"), reason="children are forked")
@pytest.mark.parametrize("seed", [1, *_MORE])
def test_mutants_end_in_a_result_or_a_clear_refusal(tmp_path, seed):
    """As many more as wanted: python tests/fuzz/runner.py --count 10000."""
    failures = runner.run_mutants(tmp_path, 30, seed)
    assert not failures, "\n".join(map(str, failures))


_LIKELY = "0123456789.:-+ ,;()[]{}<>=^*/%eNSEWTabcdfhjmnpuy²١\n\t\x00"


@pytest.mark.parametrize("name", parsers.PARSERS)
def test_parsers_return_or_say_what_is_wrong(name):
    """Guided by coverage, on demand: python tests/fuzz/parsers.py NAME."""
    seeds = [seed.encode() for seed in parsers.SEEDS.get(name, ())]
    texts = st.text(_LIKELY, max_size=60).map(str.encode)

    @settings(max_examples=100)
    @given(
        data=st.one_of(st.binary(max_size=120), texts, st.sampled_from(seeds or [b""]))
    )
    def feed(data):
        parsers.feed(name, data)

    feed()


def test_a_mutant_is_made_smaller_as_long_as_it_fails(tmp_path):
    seed, mutant = tmp_path / "s.csv", tmp_path / "m.csv"
    for changed in (b"abXdefYhZj", b"abdefXXYgh"):
        seed.write_bytes(b"abcdefghij")
        mutant.write_bytes(changed)
        left = minimise.minimise(seed, mutant, lambda: b"Y" in mutant.read_bytes())
        assert b"Y" in mutant.read_bytes()
        assert b"X" not in mutant.read_bytes()
        assert left.count("->") == 1
