"""What a request may ask for, and how it is refused."""

from __future__ import annotations

import time
from dataclasses import dataclass

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
            raise Refused(
                503, f"to compute this takes longer than {self._seconds:g} s; {_HELP}"
            )
