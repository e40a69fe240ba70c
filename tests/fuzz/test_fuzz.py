"""Mutants of files of every format end in a result or a clear refusal, within limits."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))

runner = pytest.importorskip("runner", reason="needs fork and limits of resources")


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(os, "fork"), reason="children are forked")
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_mutants_end_in_a_result_or_a_clear_refusal(tmp_path, seed):
    """As many more as wanted: python tests/fuzz/runner.py --count 10000."""
    failures = runner.run_mutants(tmp_path, 100, seed)
    assert not failures, "\n".join(map(str, failures))
