"""Calls of the NetCDF library that end, whatever a damaged file makes it do.

Where bytes are damaged that say where others lie, the HDF5 library may follow them round in a
circle and never come back. Opening a file is done by a thread of its own, whose processor time is
watched; waiting for a slow disk costs none.
"""

from __future__ import annotations

import atexit
import contextvars
import os
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Generic, TypeVar

from rhodolite.errors import DataError

T = TypeVar("T")

_SECONDS = 5.0
_BYTES_A_SECOND = 1e6
"""Of the file; a header that is really long takes less than a tenth of the time."""
_LOOKS = 0.25
_INTERRUPTED = 130
"""The exit code of the command line, where it was interrupted."""


class _Call(Generic[T]):
    """A function in a thread of its own, and what came of it."""

    def __init__(self, function: Callable[[], T]) -> None:
        self._function = function
        self._context = contextvars.copy_context()
        self._result: T | None = None
        self._error: BaseException | None = None
        self._clock: int | None = None
        # Not by joining the thread, which some versions of Python take for ended once that has
        # been interrupted.
        self._ended = threading.Event()
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        _running.add(self._ended)
        try:
            self._work()
        finally:
            self._ended.set()
            _running.discard(self._ended)

    def _work(self) -> None:
        if hasattr(time, "pthread_getcpuclockid"):
            self._clock = time.pthread_getcpuclockid(threading.get_ident())
        try:
            self._result = self._context.run(self._function)
        except BaseException as error:  # is raised where it is waited for
            self._error = error

    def ends_within(self, seconds: float) -> bool:
        """Whether it ends before it has used so much of the processor; only asked while it runs."""
        while True:
            if self._ended.wait(_LOOKS):
                return True
            if self._used() > seconds:
                return False

    def _used(self) -> float:
        try:
            return 0.0 if self._clock is None else time.clock_gettime(self._clock)
        except OSError:
            return 0.0  # it has just ended

    def result(self) -> T:
        """Return what the function returned, or raise what it raised."""
        if self._error is not None:
            raise self._error
        return self._result  # type: ignore[return-value]


_stuck_on: list[Path] = []
_running: set[threading.Event] = set()
"""What calls that have not ended are going to say at their end."""


@atexit.register
def _let_calls_end() -> None:
    """Wait for calls that an interruption has left: a thread that is ended with the process would
    never give back the lock of the library, which needs it for its own end."""
    try:
        for ended in list(_running):
            ended.wait(_SECONDS)
    finally:
        if not all(ended.is_set() for ended in list(_running)):
            _leave(_INTERRUPTED)


def call_watched(function: Callable[[], T], path: Path) -> T:
    """Return what a function makes of a file.

    Raises
    ------
    DataError
        If it takes longer than any undamaged file of that size could need, or if the library
        never came back from an earlier one.
    """
    if _stuck_on:
        raise DataError(
            f"{path}: the NetCDF library is held up by {_stuck_on[0]}, which is damaged; "
            "leave that file out and start again"
        )
    call = _Call(function)
    if not call.ends_within(_SECONDS + path.stat().st_size / _BYTES_A_SECOND):
        _stuck_on.append(path)
        # The library would wait for itself, or crash, when the process ends as usual.
        atexit.register(_leave, DataError.exit_code)
        raise DataError(
            f"{path}: the NetCDF library does not come to an end with it, so it is damaged; copy "
            "or download it again"
        )
    return call.result()


def _leave(code: int) -> None:
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)
