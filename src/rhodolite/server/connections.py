"""Connections that nobody uses, ended so that others find a place."""

from __future__ import annotations

import asyncio
from collections import Counter

from uvicorn.protocols.http.h11_impl import H11Protocol

MOST_OPEN = 200
"""Connections at once; for a new one the one that has been idle longest is ended."""
_MOST_OF_AN_ADDRESS = MOST_OPEN // 2
IDLE_SECONDS = 10.0
"""In which a request has to be complete, from its first byte or the beginning of the connection."""
STALLED_SECONDS = 60.0
"""For which a caller may take nothing of an answer."""


class BoundedConnection(H11Protocol):
    """A connection that ends when no request comes, or no answer is taken."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._timer: asyncio.TimerHandle | None = None
        self.last_heard = self.loop.time()
        self._wait_for_request()
        make_room(self)

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_waiting()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        self.last_heard = self.loop.time()
        super().data_received(data)
        if self.is_idle:
            self._wait_for_request()
        else:
            self._stop_waiting()

    def pause_writing(self) -> None:
        super().pause_writing()
        self._stop_waiting()
        self._timer = self.loop.call_later(STALLED_SECONDS, self.transport.abort)

    def resume_writing(self) -> None:
        self._stop_waiting()
        super().resume_writing()

    @property
    def is_idle(self) -> bool:
        """Whether no request is being answered."""
        return self.cycle is None or bool(self.cycle.response_complete)

    @property
    def address(self) -> str:
        """The caller's, without the port."""
        return self.client[0] if self.client else ""

    def end_if_idle(self) -> None:
        """Close the connection unless a request is being answered."""
        if self.is_idle and not self.transport.is_closing():
            self.transport.close()

    def _wait_for_request(self) -> None:
        """Give a request its time, of which further bytes of it get no more."""
        if self._timer is None:
            self._timer = self.loop.call_later(IDLE_SECONDS, self.end_if_idle)

    def _stop_waiting(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None


def make_room(new: BoundedConnection) -> None:
    """End an idle connection of the caller that has most, where there are too many; the new one
    itself where its caller has half of all and none of them is idle.
    """
    open_now = [
        other
        for other in new.connections
        if isinstance(other, BoundedConnection) and not other.transport.is_closing()
    ]
    callers = Counter(other.address for other in open_now)
    own = callers[new.address]
    if len(open_now) <= MOST_OPEN and own <= _MOST_OF_AN_ADDRESS:
        return
    fullest = (
        callers.most_common(1)[0][0] if own <= _MOST_OF_AN_ADDRESS else new.address
    )
    idle = [other for other in open_now if other.address == fullest and other.is_idle]
    oldest = min(idle, key=lambda other: other.last_heard, default=new)
    oldest.transport.close()
