"""Work that Python asks for, put on the log and shown in notebooks."""

from __future__ import annotations

import logging
import time

from rhodolite.api.notebook import ReplacedText
from rhodolite.arrays import Engine, default_engine, parse_memory
from rhodolite.plain_text import file_size

LOGGER = logging.getLogger("rhodolite")
LOGGER.addHandler(logging.NullHandler())
_DELAY, _BETWEEN = 1.0, 0.5
"""Seconds before progress is shown, and between two times that it is shown."""


class LoggedProgress:
    """Says at the level INFO what was done and how long it took, and shows it meanwhile."""

    def __init__(self) -> None:
        self._what, self._total, self._bytes, self._done = "", 0, 0, 0
        self._began = self._said = 0.0
        self._text = ReplacedText()

    def begin(self, what: str, total: int, nbytes: int) -> None:
        self._what, self._total, self._bytes, self._done = what, total, nbytes, 0
        self._began = time.monotonic()
        self._said = self._began + _DELAY - _BETWEEN
        LOGGER.debug("%s: %s in %d blocks", what, file_size(nbytes), total)

    def advance(self) -> None:
        self._done += 1
        now = time.monotonic()
        if now - self._said < _BETWEEN or not self._total:
            return
        self._said = now
        share = self._done / self._total
        left = (now - self._began) * (1 - share) / share
        self._text.show(f"{self._what}: {share:.0%}, about {left:.0f} s left")

    def end(self) -> None:
        self._text.clear()
        seconds = time.monotonic() - self._began
        LOGGER.info("%s: %s in %.2f s", self._what, file_size(self._bytes), seconds)


def make_engine(workers: int | None = None, memory: int | str | None = None) -> Engine:
    """Return an engine whose work is logged.

    Parameters
    ----------
    workers : int, optional
        Blocks to work on at once.
    memory : int or str, optional
        Bytes that they may take together, or a size such as ``"512MiB"``.
    """
    allowed = parse_memory(memory) if isinstance(memory, str) else memory
    return default_engine(workers=workers, memory=allowed, progress=LoggedProgress())
