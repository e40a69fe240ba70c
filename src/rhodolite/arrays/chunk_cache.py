"""Pieces of files that several blocks need, decoded once and kept for a while."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable

from rhodolite.arrays.lazy import Array

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


decoded_pieces = ChunkCache()
"""Shared by all arrays of a process; the engine sets its limit."""
