"""Several processes that answer on one socket, and the one that watches over them."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType

from rhodolite.errors import UsageError

_RESTARTS, _WITHIN = 5, 60.0
"""How often processes may end by themselves within so many seconds, before all end."""
_LOOK_AGAIN = 2.0
"""Seconds between two looks at whether the first process is there."""


class Processes:
    """Processes that are alike, each begun anew where it ends by itself.

    Parameters
    ----------
    count : int
    announce : callable
        Is called once the first of them is ready.

    Attributes
    ----------
    folder : Path
        Where they can leave something for each other.

    Raises
    ------
    UsageError
        If the system cannot divide a process.
    """

    def __init__(self, count: int, announce: Callable[[], None]) -> None:
        if not hasattr(os, "fork"):
            raise UsageError(
                "serve: --processes needs a system that can divide a process, such as Linux or "
                "macOS; leave it out"
            )
        self.folder = Path(tempfile.mkdtemp(prefix="rhodolite-"))
        self._count, self._announce = count, announce
        self._children: set[int] = set()
        self._ended: list[float] = []
        self._ready: int | None = None
        self._is_announced = False

    def divide(self) -> int | None:
        """Return None in each new process; in this one, when all have ended, the exit code."""
        try:
            with _passing_on(self._children):
                self._watch()
            return None
        except KeyboardInterrupt:
            self._end()
            return 0
        except _CannotServe as error:
            self._end()
            return error.code

    def _watch(self) -> None:
        """Keep as many processes as are asked for; comes back in each new one."""
        while True:
            if len(self._children) == self._count:
                self._wait()
            self._begin()
            if self._ready is not None:
                return
            if not self._is_announced:
                self._is_announced = True
                self._announce()

    def say_ready(self) -> None:
        """Say, in a new process, that it is about to serve; it ends when the first one does."""
        assert self._ready is not None
        os.write(self._ready, b".")
        os.close(self._ready)
        threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()

    def _begin(self) -> None:
        """Begin a process, and wait until it is ready."""
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            # Until it serves there is nothing that it could open anew.
            signal.signal(signal.SIGHUP, signal.SIG_IGN)
            os.close(reading)
            self._ready = writing
            return
        os.close(writing)
        self._children.add(child)
        with os.fdopen(reading, "rb") as pipe:
            is_ready = bool(pipe.read(1))
        if not is_ready:
            # It has said why itself.
            self._children.discard(child)
            _, status = os.waitpid(child, 0)
            raise _CannotServe(os.waitstatus_to_exitcode(status) or 1)

    def _wait(self) -> None:
        """Wait until a process ends, which it should not."""
        child, status = os.waitpid(-1, 0)
        self._children.discard(child)
        now = time.monotonic()
        self._ended = [moment for moment in self._ended if now - moment < _WITHIN]
        self._ended.append(now)
        if len(self._ended) > _RESTARTS:
            raise _CannotServe(os.waitstatus_to_exitcode(status) or 1)

    def _end(self) -> None:
        """End all processes when they have answered what is in flight."""
        for child in self._children:
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGTERM)
        for child in self._children:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(child, 0)
        shutil.rmtree(self.folder, ignore_errors=True)


class _CannotServe(Exception):
    """A process ended before it could serve, or too many did."""

    def __init__(self, code: int) -> None:
        self.code = code
        super().__init__()


def _end_with(parent: int) -> None:
    """End this process, as on request, when another is its parent, since its own has gone."""
    while os.getppid() == parent:
        time.sleep(_LOOK_AGAIN)
    os.kill(os.getpid(), signal.SIGTERM)


@contextlib.contextmanager
def _passing_on(children: set[int]) -> Iterator[None]:
    """Have SIGHUP, by which inputs are opened anew, reach all processes."""

    def pass_on(number: int, _: FrameType | None) -> None:
        for child in list(children):
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, number)

    watching = os.getpid()
    before = signal.signal(signal.SIGHUP, pass_on)
    try:
        yield
    finally:
        # A new process has a way of its own.
        if os.getpid() == watching:
            signal.signal(signal.SIGHUP, before)
