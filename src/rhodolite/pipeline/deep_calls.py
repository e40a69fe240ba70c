"""Long chains of steps, each of which calls the one before when it is read."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator

MOST_IN_A_ROW = 500
"""Steps that may follow each other."""
_CALLS_A_STEP = 30
_USUAL = 1000


@contextlib.contextmanager
def deep_calls(steps: int) -> Iterator[None]:
    """Let as many calls be within each other as steps that follow each other need."""
    before = sys.getrecursionlimit()
    sys.setrecursionlimit(
        max(before, _USUAL + _CALLS_A_STEP * min(steps, MOST_IN_A_ROW))
    )
    try:
        yield
    finally:
        sys.setrecursionlimit(before)
