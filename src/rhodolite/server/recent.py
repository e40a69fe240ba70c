"""What was computed last, kept within a number of bytes."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class Recent(Generic[T]):
    """Results by key, of which the latest are kept.

    Parameters
    ----------
    limit : int
        Bytes that are kept.
    size : callable
        Returns the bytes of a result.
    """

    def __init__(self, limit: int, size: Callable[[T], int]) -> None:
        self._limit, self._size = limit, size
        self._results: OrderedDict[Hashable, T] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: Hashable, compute: Callable[[], T]) -> T:
        """Return the result of a key, computed unless it is kept.

        Parameters
        ----------
        key : hashable
        compute : callable
        """
        with self._lock:
            if key in self._results:
                self._results.move_to_end(key)
                return self._results[key]
        result = compute()
        with self._lock:
            # Another request may have computed it meanwhile.
            if key not in self._results:
                self._results[key] = result
                self._bytes += self._size(result)
            while self._bytes > self._limit:
                _, oldest = self._results.popitem(last=False)
                self._bytes -= self._size(oldest)
        return result
