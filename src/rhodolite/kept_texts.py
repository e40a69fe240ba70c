"""Texts that are kept from one run to the next, by key, in a small database of the user's.

A database that cannot be read or written costs what it would have saved, and nothing else.
"""

from __future__ import annotations

import contextlib
import os
import time
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import warn
from rhodolite.trusted import is_trusted

if TYPE_CHECKING:
    import sqlite3

_TOGETHER = 500
_LONGEST = 1 << 20
"""Bytes of one text."""


@dataclass(frozen=True)
class KeptTexts:
    """Texts by key, of which the latest are kept.

    Parameters
    ----------
    path : Path
        Of the database; it is made with the first text that is kept.
    most : int
        How many texts are kept.
    private : bool
        Whether only this user may have written it.
    """

    path: Path
    most: int
    private: bool = False

    def find(self, keys: Sequence[str]) -> dict[str, str]:
        """Return the texts that are there, by key."""
        import sqlite3

        known: dict[str, str] = {}
        if not self.path.is_file():
            return known
        if self.private and not is_trusted(self.path):
            warn(
                f"{self.path}: others can write to it, so it is not read; remove it, and what it "
                "lies in should be yours alone (mode 700)"
            )
            return known
        with (
            contextlib.suppress(sqlite3.Error, zlib.error, UnicodeDecodeError),
            self._open() as database,
        ):
            for first in range(0, len(keys), _TOGETHER):
                some = keys[first : first + _TOGETHER]
                marks = ",".join("?" * len(some))
                query = f"SELECT key, text FROM texts WHERE key IN ({marks})"
                for key, packed in database.execute(query, some):
                    known[key] = _unpack(packed)
        return known

    def keep(self, texts: Sequence[tuple[str, str]]) -> None:
        """Keep texts by key, and forget the oldest where there are too many.

        Raises
        ------
        OSError, sqlite3.Error
            If they cannot be kept.
        """
        now = time.time()
        rows = [(key, zlib.compress(text.encode(), 1), now) for key, text in texts]
        if self.private:
            self.path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            if not is_trusted(self.path):
                return
            os.close(os.open(self.path, os.O_CREAT | os.O_RDWR, 0o600))
        with self._open() as database:
            database.execute(
                "CREATE TABLE IF NOT EXISTS texts (key TEXT PRIMARY KEY, text, kept)"
            )
            database.executemany("INSERT OR REPLACE INTO texts VALUES (?, ?, ?)", rows)
            (count,) = database.execute("SELECT count(*) FROM texts").fetchone()
            if count > self.most:
                # A quarter at once, so that not every run has to forget some.
                database.execute(
                    "DELETE FROM texts WHERE key IN "
                    "(SELECT key FROM texts ORDER BY kept LIMIT ?)",
                    (count - self.most * 3 // 4,),
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
    """Return a text, which may not unpack to more than one takes."""
    unpacking = zlib.decompressobj()
    text = unpacking.decompress(packed, _LONGEST)
    if unpacking.unconsumed_tail:
        raise zlib.error("too long")
    return text.decode()
