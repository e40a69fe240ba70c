"""The engine that a command runs on, from its run options."""

from __future__ import annotations

import atexit
import logging
import os
import sys
import tempfile
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path
from types import MappingProxyType
from typing import Any

from rhodolite.arrays import Engine, default_engine
from rhodolite.arrays.cluster import Cluster
from rhodolite.arrays.progress import Progress
from rhodolite.arrays.sizes import parse_memory, parse_workers
from rhodolite.cli.console import LineProgress, TerminalProgress, say
from rhodolite.cli.settings import Setting, find_setting
from rhodolite.errors import UsageError, nearest_names
from rhodolite.kernels import notices


class Watching(StrEnum):
    """How progress is shown."""

    AUTO = "auto"
    BAR = "bar"
    LINES = "lines"
    NONE = "none"


def make_engine(
    quiet: bool, options: Mapping[str, Any] = MappingProxyType({})
) -> Engine:
    """Return an engine that shows how far it has come.

    Parameters
    ----------
    quiet : bool
        Whether no progress is shown.
    options : mapping
        Run options by name, as typed; the user's own defaults, or those of the machine, where they
        are not given.

    Raises
    ------
    UsageError
        If one of them cannot be read, or the cluster cannot be reached.
    """
    memory, workers = options.get("memory"), options.get("workers")
    cluster = options.get("cluster")
    # Where it keeps its list of fonts is nothing that the user of a command can act on.
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    notices.listeners[:] = [] if quiet else [say]
    _use_scratch_folder(options.get("scratch"))
    executor = Cluster(cluster) if cluster else None
    asked_memory = Setting(memory, "--memory") if memory else find_setting("memory")
    asked_workers = (
        Setting(workers, "--workers") if workers else find_setting("workers")
    )
    at_once = None if asked_workers is None else parse_workers(*asked_workers)
    if executor is not None:
        at_once = at_once or executor.threads
        atexit.register(executor.shutdown)
    return default_engine(
        memory=None if asked_memory is None else parse_memory(*asked_memory),
        workers=at_once,
        executor=executor,
        progress=None if quiet else _progress(options.get("progress")),
    )


def _progress(asked: str | None) -> Progress | None:
    if asked is not None and asked not in list(Watching):
        raise UsageError(
            f"--progress: '{asked}' is not offered. {nearest_names(asked, Watching)}"
        )
    chosen = Watching(asked or Watching.AUTO)
    if chosen is Watching.AUTO:
        chosen = Watching.BAR if sys.stderr.isatty() else Watching.LINES
    if chosen is Watching.NONE:
        return None
    return TerminalProgress() if chosen is Watching.BAR else LineProgress()


def _use_scratch_folder(asked: str | None) -> None:
    """Have scratch files lie in a folder: as typed, or as the user's own default says."""
    setting = Setting(asked, "--scratch") if asked else find_setting("scratch")
    if setting is None:
        return
    folder = Path(setting.text).expanduser()
    if not folder.is_dir() or not os.access(folder, os.W_OK):
        raise UsageError(
            f"{setting.origin}: {folder} is no folder that can be written to; scratch files need "
            "one on a disk with room"
        )
    tempfile.tempdir = str(folder.resolve())
