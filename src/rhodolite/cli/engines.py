"""The engine that a command runs on, from its run options."""

from __future__ import annotations

import sys

from rhodolite.arrays import Engine, default_engine
from rhodolite.cli.console import TerminalProgress
from rhodolite.cli.options import parse_memory, parse_workers


def make_engine(quiet: bool, memory: str | None = None, workers: str | None = None) -> Engine:
    """Return an engine that shows progress on a terminal.

    Raises
    ------
    UsageError
        If the memory or the number of workers cannot be read.
    """
    return default_engine(
        memory=parse_memory(memory) if memory else None,
        workers=parse_workers(workers) if workers else None,
        progress=TerminalProgress() if sys.stderr.isatty() and not quiet else None,
    )
