"""What people see: messages on standard error, results on standard output, progress on a
terminal."""

from __future__ import annotations

import contextlib
import json
import re
import sys
import tempfile
import time
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhodolite.errors import UsageError, nearest_names
from rhodolite.plain_text import (
    align_columns,
    file_size,
    make_json_visible,
    make_visible,
)
from rhodolite.version import __version__

if TYPE_CHECKING:
    from rhodolite.arrays import Engine
    from rhodolite.pipeline.plan import Plan

_DELAY = 1.0
"""Seconds that work may take before its progress is shown."""
_BETWEEN_LINES = 10.0
"""Seconds between two lines of a log."""
_ROOMY = 70
"""Columns of a terminal that a bar and a rate need beside the rest."""


class LogFormat(StrEnum):
    """How messages are written."""

    TEXT = "text"
    JSON = "json"


class Level(StrEnum):
    """How grave a message is."""

    INFO = "info"
    WARNING = "warning"
    ERROR = "error"


class _Log:
    """How messages are written in this process."""

    format = LogFormat.TEXT


def use_log_format(asked: str) -> None:
    """Have all messages written in a format.

    Raises
    ------
    UsageError
        If there is no such format.
    """
    if asked not in list(LogFormat):
        raise UsageError(
            f"--log-format: '{asked}' is not offered. {nearest_names(asked, LogFormat)}"
        )
    _Log.format = LogFormat(asked)


def say(message: str, level: Level = Level.INFO) -> None:
    """Print a message on standard error: as text, or as an object of JSON with its time and level
    in a line of its own."""
    if _Log.format is LogFormat.TEXT:
        before = "warning: " if level is Level.WARNING else ""
        print(make_visible(before + message), file=sys.stderr)
        return
    at = datetime.now(UTC).isoformat(timespec="milliseconds")
    line = {"time": at, "level": level.value, "message": message}
    print(json.dumps(line, ensure_ascii=True), file=sys.stderr)


def show(text: str) -> None:
    """Print a result, with what would steer a terminal written out."""
    print(make_visible(text))


def show_json(value: object) -> None:
    """Print plain values as JSON."""
    print(make_json_visible(json.dumps(value, indent=2, ensure_ascii=False)))


def say_warnings(messages: Iterable[str]) -> None:
    """Print each warning once."""
    for message in dict.fromkeys(messages):
        say(message, Level.WARNING)


def list_words(summaries: Mapping[str, str]) -> str:
    """Return words with their summaries, one per line.

    Parameters
    ----------
    summaries : mapping of str to str
        Words and what they mean.
    """
    return "".join(f"  {word:<12} {text}\n" for word, text in summaries.items())


def print_version(*, debug: bool) -> None:
    """Print the version, with those of the libraries where they are wanted.

    Parameters
    ----------
    debug : bool
        Whether versions of libraries are printed as well.
    """
    for line in list_versions() if debug else [f"rhodolite {__version__}"]:
        print(line)


def list_versions() -> list[str]:
    """Return a line for each of the program, Python and the libraries."""
    import platform
    from importlib.metadata import PackageNotFoundError, requires, version

    lines = [
        f"rhodolite {__version__}",
        f"Python {platform.python_version()} on {platform.system()} {platform.machine()}",
    ]
    for name in requires("rhodolite") or ():
        library = re.split(r"[^\w.-]", name, maxsplit=1)[0]
        with contextlib.suppress(PackageNotFoundError):
            lines.append(f"{library} {version(library)}")
    return lines


def written_line(
    output: Path, written: tuple[int, int], seconds: float, source: str = ""
) -> str:
    """Say what was written; `written` is the number of files and of bytes.

    Parameters
    ----------
    output : Path
    written : tuple[int, int]
        Number of files and of bytes.
    seconds : float
        Time that it took.
    source : str
        What else to say, such as from how many files.
    """
    from rhodolite.formats.stores.object_stores import address_of

    files, size = written
    count = f"{files} files, " if files > 1 else ""
    place = address_of(output) or output
    return f"wrote {place} ({count}{file_size(size)}{source}) in {seconds:.1f} s"


def say_plan(plan: Plan, output: Path, engine: Engine, *, is_taken: bool) -> None:
    """Print what would be done.

    Parameters
    ----------
    plan : Plan
    output : Path
    engine : Engine
    is_taken : bool
        Whether something is there that may not be replaced.
    """
    rows = []
    for number, each_pass in enumerate(plan.passes, start=1):
        shape = " x ".join(map(str, each_pass.block))
        blocks = f"{each_pass.blocks:,} block{'s' * (each_pass.blocks != 1)} of {shape}"
        written = (
            f"{file_size(each_pass.written)} before compression"
            if each_pass.written
            else ""
        )
        rows.append(
            (
                f"{number}",
                each_pass.what,
                file_size(each_pass.decoded) if each_pass.decoded else "",
                blocks,
                written,
            )
        )
    headings = ("", "pass", "decodes", "in", "writes")
    for line in align_columns([headings, *rows]):
        print(line)
    memory = (
        f"{file_size(plan.peak)} of memory at most ({file_size(engine.memory)} for data are "
        "allowed)"
    )
    if any("scratch" in work.what for work in plan.passes):
        print(
            f"Scratch files lie in {tempfile.gettempdir()}; --scratch FOLDER moves them."
        )
    from rhodolite.formats.stores.object_stores import address_of

    place = address_of(output) or output
    print(
        f"About {memory}, {engine.workers} blocks at a time. {place} was not written."
    )
    if is_taken:
        print(f"{output} exists already; add --overwrite to have it replaced.")


class LineProgress:
    """A line with the time of day every ten seconds, for logs and other streams without a
    terminal."""

    def __init__(self) -> None:
        self._what, self._total, self._done = "", 0, 0
        self._began = self._said = 0.0

    def begin(self, what: str, total: int, nbytes: int) -> None:  # noqa: ARG002
        self._what, self._total, self._done = what, total, 0
        self._began = self._said = time.monotonic()

    def advance(self) -> None:
        self._done += 1
        now = time.monotonic()
        if now - self._said < _BETWEEN_LINES or not self._total:
            return
        self._said = now
        share = self._done / self._total
        left = (now - self._began) * (1 - share) / share
        clock = time.strftime("%H:%M:%S")
        say(f"{clock} {self._what}: {share:.0%}, about {left:.0f} s left")

    def end(self) -> None:
        """What is done is said by the line about the output."""


class TerminalProgress:
    """What is being done, its share, rate and time left, for work that takes longer than a
    second."""

    def __init__(self) -> None:
        self._bar: Any = None
        self._began = 0.0
        self._what = ""
        self._total = 0
        self._bytes = 0
        self._done = 0

    def begin(self, what: str, total: int, nbytes: int) -> None:
        self._what, self._total, self._bytes, self._done, self._began = (
            what,
            total,
            nbytes,
            0,
            time.monotonic(),
        )

    def advance(self) -> None:
        self._done += 1
        spent = time.monotonic() - self._began
        if self._bar is None and spent > _DELAY:
            self._open()
        if self._bar is not None:
            rate = self._bytes * self._done / max(self._total, 1) / spent
            self._bar.update(
                self._task,
                completed=self._done,
                rate=f"{file_size(round(rate))}/s" if rate else "",
            )

    def end(self) -> None:
        if self._bar is not None:
            self._bar.stop()
            self._bar = None

    def _open(self) -> None:
        from rich.console import Console
        from rich.progress import (
            BarColumn,
            Progress,
            ProgressColumn,
            TaskProgressColumn,
            TextColumn,
            TimeRemainingColumn,
        )

        console = Console(stderr=True)
        columns: list[ProgressColumn] = [
            TextColumn("{task.description}"),
            TaskProgressColumn(),
            TimeRemainingColumn(),
            TextColumn("left"),
        ]
        if console.width >= _ROOMY:
            columns[1:1] = [BarColumn(complete_style="blue", finished_style="blue")]
            columns.insert(3, TextColumn("{task.fields[rate]}"))
        self._bar = Progress(*columns, console=console, transient=True)
        self._task = self._bar.add_task(self._what, total=self._total, rate="")
        self._bar.start()
