"""Mutants of files of every format end in a result or a clear refusal, within limits."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

sys.path.insert(0, str(Path(__file__).parent))

import minimise
import parsers

from conftest import PATIENCE

_MORE = [pytest.param(seed, marks=pytest.mark.long) for seed in (2, 3)]


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(os, "fork"), reason="children are forked")
@pytest.mark.parametrize("seed", [1, *_MORE])
def test_mutants_end_in_a_result_or_a_clear_refusal(seed):
    """As many more as wanted: python tests/fuzz/runner.py --count 10000.

    In a process of its own, since children inherit all that this one has grown to.
    """
    command = [sys.executable, str(Path(__file__).with_name("runner.py"))]
    command += ["--count", "30" if seed > 1 else "16", "--seed", str(seed)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=PATIENCE)
    assert done.returncode == 0, done.stdout + done.stderr


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
