"""Places for requests that compute, shared out among callers."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field

from rhodolite.server.limits import Limits, Refused

CALLER: ContextVar[str] = ContextVar("CALLER", default="")
"""The address that the request comes from which is being answered."""


@dataclass
class Gate:
    """Lets so many requests compute at once; others wait for a while, and are then refused.

    A place that gets free goes to the caller who has fewest, and among these to the one who got
    one longest ago, so that one who asks for much waits for others and they not for him.

    Parameters
    ----------
    limits : Limits
    """

    limits: Limits
    _changed: threading.Condition = field(
        init=False, repr=False, default_factory=threading.Condition
    )
    _at_work: Counter[str] = field(init=False, repr=False, default_factory=Counter)
    _waiting: list[tuple[str, object]] = field(
        init=False, repr=False, default_factory=list
    )
    _entered: int = field(init=False, repr=False, default=0)
    _last: dict[str, int] = field(init=False, repr=False, default_factory=dict)

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
        caller = CALLER.get()
        self._wait_for_turn(caller)
        try:
            yield
        finally:
            with self._changed:
                self._at_work[caller] -= 1
                self._forget_the_absent()
                self._changed.notify_all()

    def requests(self) -> int:
        """Return how many requests compute or wait."""
        with self._changed:
            return self._at_work.total() + len(self._waiting)

    def _wait_for_turn(self, caller: str) -> None:
        ticket = caller, object()
        with self._changed:
            self._waiting.append(ticket)
            try:
                if not self._changed.wait_for(
                    lambda: self._is_next(ticket), self.limits.seconds
                ):
                    raise Refused(
                        503,
                        "the server is busy with other requests; try again in a minute",
                    )
                self._at_work[caller] += 1
                self._entered += 1
                self._last[caller] = self._entered
            finally:
                self._waiting.remove(ticket)
                self._forget_the_absent()
                self._changed.notify_all()

    def _is_next(self, ticket: tuple[str, object]) -> bool:
        """Return whether there is a place, and nobody waits whose turn comes before."""
        if self._at_work.total() >= self.limits.at_once:
            return False
        return min(self._waiting, key=self._standing) is ticket

    def _standing(self, ticket: tuple[str, object]) -> tuple[int, int]:
        caller = ticket[0]
        return self._at_work[caller], self._last.get(caller, 0)

    def _forget_the_absent(self) -> None:
        self._at_work += Counter()  # which keeps those alone who have a place
        present = {caller for caller, _ in self._waiting} | set(self._at_work)
        self._last = {
            caller: at for caller, at in self._last.items() if caller in present
        }


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
            raise Refused(
                503, f"this takes longer than {most:g} s; ask for a smaller part"
            )
        with self.gate.enter():
            began = time.monotonic()
            yield
            self._spent += time.monotonic() - began
