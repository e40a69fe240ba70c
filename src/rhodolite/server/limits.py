"""What a request may ask for, and how it is refused."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from rhodolite.errors import RhodoliteError


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

    @contextmanager
    def enter(self) -> Iterator[Deadline]:
        """Wait for a place, and return until when the work has to be done.

        Raises
        ------
        Refused
            If no place gets free in time.
        """
        if not self._free.acquire(timeout=self.limits.seconds):
            raise Refused(503, "the server is busy with other requests; try again in a minute")
        try:
            yield Deadline(time.monotonic() + self.limits.seconds, self.limits.seconds)
        finally:
            self._free.release()


@dataclass(frozen=True)
class Deadline:
    """The moment until which an answer has to be computed."""

    until: float
    seconds: float

    def check(self) -> None:
        """Refuse to go on after it.

        Raises
        ------
        Refused
            If it has passed.
        """
        if time.monotonic() > self.until:
            raise Refused(503, f"this takes longer than {self.seconds:g} s; ask for a smaller part")
