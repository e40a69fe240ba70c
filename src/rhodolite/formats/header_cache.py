"""Headers of files that were read before, kept in the user's cache folder, or beside a collection.

Opening thousands of files is reading thousands of headers. What a header said is kept as text under
the path, size and time of its file; a file of which any of these has changed is read again. A cache
that cannot be read or written costs time and nothing else.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from pathlib import Path

from rhodolite.kept_texts import KeptTexts
from rhodolite.version import __version__

Place = tuple[Path, str | None]
"""A file, and the group of it that is asked for."""

MANY = 20
"""Files from which on their headers are kept."""
_MOST = 100_000

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
        self._texts = KeptTexts(path, _MOST, private)

    def find(self, places: Sequence[Place]) -> dict[Place, str]:
        """Return the headers that are there, by file and group."""
        if not self.path.is_file():
            return {}
        keys = {self.key(place): place for place in places}
        return {keys[key]: text for key, text in self._texts.find(list(keys)).items()}

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
        self._texts.keep(headers)
