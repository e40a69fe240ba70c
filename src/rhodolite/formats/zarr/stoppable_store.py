"""A store to write to, of which nothing goes on being written after an error."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from zarr.storage import LocalStore


class StoppableStore(LocalStore):
    """A folder on disk.

    The library writes several chunks at once, and where one of them fails it returns while the
    others are still under way; these would come after the folder was removed.

    Parameters
    ----------
    path : Path
    """

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self._stopped = False
        self._busy = 0
        self._change = threading.Condition()

    def __getstate__(self) -> dict[str, Any]:
        return {
            name: value for name, value in self.__dict__.items() if name != "_change"
        }

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _change=threading.Condition(), _busy=0)

    async def set(self, key: str, value: Any) -> None:
        with self._counted():
            await super().set(key, value)

    async def set_if_not_exists(self, key: str, value: Any) -> None:
        with self._counted():
            await super().set_if_not_exists(key, value)

    @contextmanager
    def _counted(self) -> Iterator[None]:
        with self._change:
            if self._stopped:
                raise OSError(f"{self.root}: writing has been stopped")
            self._busy += 1
        try:
            yield
        finally:
            with self._change:
                self._busy -= 1
                self._change.notify_all()

    def stop(self) -> None:
        """Let nothing more begin, and wait for what is being written."""
        with self._change:
            self._stopped = True
            self._change.wait_for(lambda: self._busy == 0)
