"""The engine that a command runs on, from its run options."""

from __future__ import annotations

import atexit
import sys

from rhodolite.arrays import Engine, default_engine
from rhodolite.arrays.cluster import Cluster
from rhodolite.arrays.sizes import parse_memory, parse_workers
from rhodolite.cli.console import TerminalProgress


def make_engine(
    quiet: bool, memory: str | None = None, workers: str | None = None, cluster: str | None = None
) -> Engine:
    """Return an engine that shows progress on a terminal.

    Raises
    ------
    UsageError
        If the memory or the number of workers cannot be read, or the cluster cannot be reached.
    """
    executor = Cluster(cluster) if cluster else None
    at_once = parse_workers(workers) if workers else None
    if executor is not None:
        at_once = at_once or executor.threads
        atexit.register(executor.shutdown)
    return default_engine(
        memory=parse_memory(memory) if memory else None,
        workers=at_once,
        executor=executor,
        progress=TerminalProgress() if sys.stderr.isatty() and not quiet else None,
    )
