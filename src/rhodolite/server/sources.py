"""The datasets of a server by name, opened when they are first asked for."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from rhodolite.arrays import Engine
from rhodolite.arrays.chunk_cache import ChunkCache
from rhodolite.formats.normalise import normalise
from rhodolite.model.dataset import Dataset
from rhodolite.server.gate import Gate
from rhodolite.server.limits import Limits
from rhodolite.server.served import Served

_LOOK_AGAIN = 5.0
"""Seconds between two looks at whether files have changed."""


class Sources(Mapping[str, Served]):
    """What a server serves.

    Parameters
    ----------
    openings : mapping of str to callable
        By name, what opens each dataset.
    engine : Engine
        Shared by all.
    limits : Limits
    watch : bool
        Whether files that have changed are read anew.
    """

    def __init__(
        self,
        openings: Mapping[str, Callable[[], Dataset]],
        engine: Engine,
        limits: Limits,
        *,
        watch: bool = False,
    ) -> None:
        self._openings = openings
        self._engine = engine
        # Others ask for the same chunks and fields again and again.
        engine.cache = ChunkCache(engine.memory // 2)
        self._gate = Gate(limits)
        self._watch = watch
        self._lock = threading.Lock()
        self._held = {name: self._open(name) for name in openings}
        self._looked = time.monotonic()

    def __getitem__(self, name: str) -> Served:
        if name not in self._openings:
            raise KeyError(name)
        if self._watch:
            self._look_again()
        return self._held[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._openings)

    def __len__(self) -> int:
        return len(self._openings)

    @property
    def memory(self) -> int:
        """Bytes that decoded fields may take."""
        return self._engine.memory // 4

    def prepare(self) -> None:
        """Compute what the datasets reduce."""
        for served in self._held.values():
            served.prepare()

    def _look_again(self) -> None:
        with self._lock:
            if time.monotonic() - self._looked < _LOOK_AGAIN:
                return
            self._looked = time.monotonic()
            for name, served in self._held.items():
                # A pattern may have more files by now, so that all is opened again.
                fresh = self._open(name)
                if fresh.version != served.version:
                    self._held[name] = fresh

    def _open(self, name: str) -> Served:
        dataset = normalise(self._openings[name]())
        changed = [path.stat().st_mtime for path in _files(dataset)]
        return Served(
            name,
            dataset,
            self._engine,
            self._gate,
            _version(dataset),
            max(changed, default=0.0),
        )


def _files(dataset: Dataset) -> list[Path]:
    return [
        Path(str(file.path)) for file in dataset.files if Path(str(file.path)).exists()
    ]


def _version(dataset: Dataset) -> str:
    """Return a text that changes with the files of a dataset."""
    digest = hashlib.blake2b(digest_size=12)
    for path in _files(dataset):
        status = path.stat()
        digest.update(f"{path}|{status.st_size}|{status.st_mtime_ns}\n".encode())
    digest.update(repr(dataset.record).encode())
    return digest.hexdigest()
