"""Pieces of files that several blocks need, decoded once and kept for a while."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from rhodolite.arrays.lazy import Array

A = TypeVar("A")
T = TypeVar("T")
_USUAL_BYTES = 128 << 20


class ChunkCache:
    """Keeps the pieces used last, up to so many bytes, and has each computed by one thread only.

    Parameters
    ----------
    limit : int
        Bytes that the pieces kept may take together.
    """

    def __init__(self, limit: int = _USUAL_BYTES) -> None:
        self.limit = limit
        self._kept: OrderedDict[Hashable, Array] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()
        self._under_way: dict[Hashable, threading.Event] = {}

    def get(self, key: Hashable, decode: Callable[[], Array]) -> Array:
        """Return a piece, decoding it if nobody has; it must not be changed."""
        while True:
            with self._lock:
                if key in self._kept:
                    self._kept.move_to_end(key)
                    return self._kept[key]
                event = self._under_way.get(key)
                if event is None:
                    self._under_way[key] = threading.Event()
                    break
            event.wait()
        try:
            piece = decode()
            with self._lock:
                self._keep(key, piece)
            return piece
        finally:
            with self._lock:
                self._under_way.pop(key).set()

    def _keep(self, key: Hashable, piece: Array) -> None:
        if piece.nbytes > self.limit:
            return
        self._kept[key] = piece
        self._bytes += piece.nbytes
        while self._bytes > self.limit:
            self._bytes -= self._kept.popitem(last=False)[1].nbytes


_process_cache = ChunkCache()
"""For reads that no engine has asked for, and on other machines."""
_current: ContextVar[ChunkCache] = ContextVar(
    "current chunk cache", default=_process_cache
)


def current_cache() -> ChunkCache:
    """Return the cache of the engine whose task this is, or that of the process."""
    return _current.get()


@dataclass
class WithCache(Generic[A, T]):
    """A task that finds the cache of its engine; in another process that of the process."""

    task: Callable[[A], T]
    cache: ChunkCache | None

    def __call__(self, argument: A) -> T:
        if self.cache is None:
            return self.task(argument)
        token = _current.set(self.cache)
        try:
            return self.task(argument)
        finally:
            _current.reset(token)

    def __getstate__(self) -> dict[str, Any]:
        return {"task": self.task, "cache": None}
