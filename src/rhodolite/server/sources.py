"""The datasets of a server by name, opened when they are first asked for."""

from __future__ import annotations

import contextlib
import hashlib
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from rhodolite.arrays import Engine
from rhodolite.arrays.chunk_cache import ChunkCache
from rhodolite.errors import DataError, RhodoliteError
from rhodolite.formats.netcdf.direct_chunk_reader import identify
from rhodolite.formats.normalise import normalise
from rhodolite.model.dataset import Dataset
from rhodolite.server.gate import Gate
from rhodolite.server.limits import Limits
from rhodolite.server.served import Served

_LOOK_AGAIN = 5.0
"""Seconds between two looks at whether files have changed."""
_TRIES, _PAUSE = 4, 0.05
_GRANULARITY = 0.02
"""Seconds by which clocks of file systems lag behind."""
_FEW = 100
"""Files of a dataset whose state is looked at with each request, which takes no time."""


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
        self._is_stale = False

    def renew(self) -> None:
        """Have all inputs opened anew with the next request; those in flight end with the old."""
        self._is_stale = True

    def __getitem__(self, name: str) -> Served:
        if name not in self._openings:
            raise KeyError(name)
        if self._watch or self._is_stale:
            self._look_again()
        if self._held[name].is_replaced():
            with self._lock:
                self._renew(name)
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
            waits = time.monotonic() - self._looked < _LOOK_AGAIN
            if waits and not self._is_stale:
                return
            self._looked, self._is_stale = time.monotonic(), False
            for name in self._held:
                # A pattern may have more files by now, so that all is opened again.
                with contextlib.suppress(RhodoliteError):
                    self._renew(name)

    def _renew(self, name: str) -> None:
        """Open an input again; where that fails the old is kept, which says what is wrong with it.

        Raises
        ------
        RhodoliteError
            If it cannot be opened.
        """
        for _ in range(_TRIES - 1):
            with contextlib.suppress(DataError):
                fresh = self._open(name)
                break
            # It was replaced, or is being written to, while it was opened.
            time.sleep(_PAUSE)
        else:
            fresh = self._open(name)
        if fresh.version != self._held[name].version:
            self._held[name] = fresh

    def _open(self, name: str) -> Served:
        # What was changed while it was opened may have been opened half before and half after.
        for _ in range(_TRIES):
            began = time.time() - _GRANULARITY
            dataset = normalise(self._openings[name]())
            files = _files(dataset)
            if not any(path.stat().st_ctime >= began for path in files):
                break
        changed = [path.stat().st_mtime for path in files]
        watched = files if len(files) <= _FEW else []
        return Served(
            name,
            dataset,
            self._engine,
            self._gate,
            _version(dataset),
            max(changed, default=0.0),
            tuple((path, identify(path)) for path in watched),
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
