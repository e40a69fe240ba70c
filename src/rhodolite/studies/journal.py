"""Which study made an output, known on this machine by the content of the output.

Tables and text grids have no place for a study, and what has one may lose it on its way through
other programs. So the study of each output that is written is kept in the user's state folder, and
found again wherever the output went, as long as it was not changed.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import NamedTuple

from rhodolite.kept_texts import KeptTexts
from rhodolite.studies.fingerprints import fingerprint

_MOST = 20_000
"""Entries, of which each output has two."""
_VARIABLE = "RHODOLITE_JOURNAL"

_in_use: ContextVar[bool] = ContextVar("outputs are noted", default=True)


class Entry(NamedTuple):
    """A study, and where the output lay that it made."""

    study: str
    place: Path


@contextlib.contextmanager
def without_journal() -> Iterator[None]:
    """Note nothing as long as this lasts."""
    token = _in_use.set(False)
    try:
        yield
    finally:
        _in_use.reset(token)


def note(places: Sequence[Path], study: str) -> None:
    """Note which study made files; not where the user wants none noted.

    Parameters
    ----------
    places : sequence of Path
        Files or folders that were written.
    study : str
    """
    if not _in_use.get() or os.environ.get(_VARIABLE, "").strip().lower() == "off":
        return
    # A journal that cannot be written must not spoil an output that is there.
    with contextlib.suppress(OSError, sqlite3.Error):
        entries = []
        for place in places:
            text = json.dumps([study, str(place.resolve())])
            entries += [(key, text) for key in _keys(place)]
        _journal().keep(entries)


def find(place: Path) -> Entry | None:
    """Return the study that made a file of this content; None where none is known.

    Parameters
    ----------
    place : Path
    """
    try:
        keys = _keys(place)
    except OSError:
        return None
    known = _journal().find(keys)
    for key in keys:
        if key in known:
            study, there = json.loads(known[key])
            return Entry(study, Path(there))
    return None


def _journal() -> KeptTexts:
    from platformdirs import user_state_path

    return KeptTexts(user_state_path("rhodolite") / "journal.sqlite", _MOST, True)


def _keys(place: Path) -> list[str]:
    """Return under what an output is known: its content at its place first, since two studies can
    make the same, and then its content wherever it is."""
    about = fingerprint(place)
    content = f"{about['bytes']} {about['checksum']}"
    return [f"{content} {place.resolve()}", content]
