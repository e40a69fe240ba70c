"""What a request may ask for, and how it is refused."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from rhodolite.arrays.progress import Silent
from rhodolite.errors import RhodoliteError

_HELP = "ask for a smaller part, or have the server started with --prepare or more --limit seconds"


class Refused(RhodoliteError):
    """A request that is not answered.

    Parameters
    ----------
    status : int
        Of HTTP.
    message : str
    """

    def __init__(self, status: int, message: str) -> None:
        self.status = status
        super().__init__(message)


@dataclass(frozen=True)
class Limits:
    """Bounds of a single request, and of all at once.

    Parameters
    ----------
    cells : int
        Values of an answer that has to be held as a whole.
    pixels : int
        Of a map.
    seconds : float
        For waiting, and for computing an answer.
    at_once : int
        Requests that compute at the same time.
    """

    cells: int = 5_000_000
    pixels: int = 4096 * 4096
    seconds: float = 60.0
    at_once: int = 4


@dataclass
class Gate:
    """Lets so many requests compute at once; others wait for a while, and are then refused.

    Parameters
    ----------
    limits : Limits
    """

    limits: Limits
    _free: threading.BoundedSemaphore = field(init=False, repr=False)

    def __post_init__(self) -> None:
        self._free = threading.BoundedSemaphore(self.limits.at_once)

    def clock(self) -> Clock:
        """Return what measures the work on one answer."""
        return Clock(self)

    @contextmanager
    def enter(self) -> Iterator[None]:
        """Wait for a place.

        Raises
        ------
        Refused
            If none gets free in time.
        """
        if not self._free.acquire(timeout=self.limits.seconds):
            raise Refused(503, "the server is busy with other requests; try again in a minute")
        try:
            yield
        finally:
            self._free.release()


class Deadline(Silent):
    """Ends a piece of work that takes longer than an answer may.

    Parameters
    ----------
    seconds : float
    """

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._end = time.monotonic() + seconds

    def advance(self) -> None:
        """Look at the time.

        Raises
        ------
        Refused
            If it is up.
        """
        if time.monotonic() > self._end:
            raise Refused(503, f"to compute this takes longer than {self._seconds:g} s; {_HELP}")


@dataclass
class Clock:
    """The time that has been worked on one answer, without that of sending it.

    Parameters
    ----------
    gate : Gate
    """

    gate: Gate
    _spent: float = 0.0

    @contextmanager
    def working(self) -> Iterator[None]:
        """Work on a part of the answer, when there is a place.

        Raises
        ------
        Refused
            If no place gets free in time, or all the time for the answer has been spent.
        """
        most = self.gate.limits.seconds
        if self._spent > most:
            raise Refused(503, f"this takes longer than {most:g} s; ask for a smaller part")
        with self.gate.enter():
            began = time.monotonic()
            yield
            self._spent += time.monotonic() - began
