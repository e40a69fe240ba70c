"""Headers of files that were read before, kept in the user's cache folder, or beside a collection.

Opening thousands of files is reading thousands of headers. What a header said is kept as text under
the path, size and time of its file; a file of which any of these has changed is read again. A cache
that cannot be read or written costs time and nothing else.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import time
import zlib
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import warn
from rhodolite.trusted import is_trusted
from rhodolite.version import __version__

if TYPE_CHECKING:
    import sqlite3

Place = tuple[Path, str | None]
"""A file, and the group of it that is asked for."""

MANY = 20
"""Files from which on their headers are kept."""
_MOST = 100_000
_TOGETHER = 500
_LONGEST = 1 << 20
"""Bytes of one header as text."""

_in_use: ContextVar[bool] = ContextVar("headers of files are kept", default=True)


@contextlib.contextmanager
def without_cache() -> Iterator[None]:
    """Read every file, and keep nothing, as long as this lasts."""
    token = _in_use.set(False)
    try:
        yield
    finally:
        _in_use.reset(token)


def cache_in_use() -> bool:
    """Whether headers are kept."""
    return _in_use.get()


def user_cache() -> HeaderCache:
    """The headers that are kept for this user."""
    from platformdirs import user_cache_path

    return HeaderCache(user_cache_path("rhodolite") / "headers.sqlite", private=True)


class HeaderCache:
    """Texts of headers by file and group, in one file.

    Parameters
    ----------
    path : Path
        Of the cache; it is made with the first header that is kept.
    folder : Path, optional
        From where files are named, if the cache is moved together with them.
    private : bool
        Whether only this user may have written it.
    """

    def __init__(
        self, path: Path, *, folder: Path | None = None, private: bool = False
    ) -> None:
        self.path = path
        self._folder = folder
        self._private = private

    def find(self, places: Sequence[Place]) -> dict[Place, str]:
        """Return the headers that are there, by file and group."""
        import sqlite3

        known: dict[Place, str] = {}
        if not self.path.is_file():
            return known
        if self._private and not is_trusted(self.path):
            warn(
                f"{self.path}: others can write to it, so it is not read; remove it, and what it "
                "lies in should be yours alone (mode 700)"
            )
            return known
        keys = {self.key(place): place for place in places}
        asked = list(keys)
        with (
            contextlib.suppress(sqlite3.Error, zlib.error, UnicodeDecodeError),
            self._open() as db,
        ):
            for first in range(0, len(asked), _TOGETHER):
                some = asked[first : first + _TOGETHER]
                marks = ",".join("?" * len(some))
                query = f"SELECT key, text FROM headers WHERE key IN ({marks})"
                for key, packed in db.execute(query, some):
                    known[keys[key]] = _unpack(packed)
        return known

    def key(self, place: Place) -> str:
        """Return under which key the header of a file, as it is now, is kept."""
        path, group = place
        status = path.stat()
        full = path.resolve()
        where = os.path.relpath(full, self._folder) if self._folder else str(full)
        known = (__version__, where, group or "", status.st_size, status.st_mtime_ns)
        return hashlib.sha256(repr(known).encode()).hexdigest()

    def keep(self, headers: Sequence[tuple[str, str]]) -> None:
        """Keep headers by the keys that their files had before they were read, and forget the
        oldest where there are too many.

        Raises
        ------
        OSError, sqlite3.Error
            If they cannot be kept.
        """
        now = time.time()
        rows = [(key, zlib.compress(text.encode(), 1), now) for key, text in headers]
        if self._private:
            self.path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            if not is_trusted(self.path):
                return
            os.close(os.open(self.path, os.O_CREAT | os.O_RDWR, 0o600))
        with self._open() as db:
            db.execute(
                "CREATE TABLE IF NOT EXISTS headers (key TEXT PRIMARY KEY, text, kept)"
            )
            db.executemany("INSERT OR REPLACE INTO headers VALUES (?, ?, ?)", rows)
            (count,) = db.execute("SELECT count(*) FROM headers").fetchone()
            if count > _MOST:
                db.execute(
                    "DELETE FROM headers WHERE key IN "
                    "(SELECT key FROM headers ORDER BY kept LIMIT ?)",
                    (count - _MOST * 3 // 4,),
                )

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """Yield the database; what was changed is kept if nothing is raised."""
        import sqlite3

        database = sqlite3.connect(self.path, timeout=2.0)
        try:
            with database:
                yield database
        finally:
            database.close()


def _unpack(packed: bytes) -> str:
    """Return the text of a header, which may not unpack to more than a header takes."""
    unpacking = zlib.decompressobj()
    text = unpacking.decompress(packed, _LONGEST)
    if unpacking.unconsumed_tail:
        raise zlib.error("too long")
    return text.decode()
