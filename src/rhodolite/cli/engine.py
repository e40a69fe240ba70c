"""The engine that a command runs on, from its run options."""

from __future__ import annotations

import atexit
import logging
import sys

from rhodolite.arrays import Engine, default_engine
from rhodolite.arrays.cluster import Cluster
from rhodolite.arrays.sizes import parse_memory, parse_workers
from rhodolite.cli.console import TerminalProgress, say
from rhodolite.cli.settings import Setting, find_setting
from rhodolite.kernels import notices


def make_engine(
    quiet: bool, memory: str | None = None, workers: str | None = None, cluster: str | None = None
) -> Engine:
    """Return an engine that shows progress on a terminal.

    Parameters
    ----------
    quiet : bool
        Whether no progress is shown.
    memory, workers : str, optional
        As typed; the user's own defaults, or those of the machine, where they are not given.
    cluster : str, optional
        Address of a Dask scheduler.

    Raises
    ------
    UsageError
        If the memory or the number of workers cannot be read, or the cluster cannot be reached.
    """
    # Where it keeps its list of fonts is nothing that the user of a command can act on.
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    notices.listeners[:] = [] if quiet else [say]
    executor = Cluster(cluster) if cluster else None
    asked_memory = Setting(memory, "--memory") if memory else find_setting("memory")
    asked_workers = Setting(workers, "--workers") if workers else find_setting("workers")
    at_once = None if asked_workers is None else parse_workers(*asked_workers)
    if executor is not None:
        at_once = at_once or executor.threads
        atexit.register(executor.shutdown)
    return default_engine(
        memory=None if asked_memory is None else parse_memory(*asked_memory),
        workers=at_once,
        executor=executor,
        progress=TerminalProgress() if sys.stderr.isatty() and not quiet else None,
    )
