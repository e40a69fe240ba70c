"""Opening many files: what is known of them from before is not read again."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Collection, Mapping, Sequence
from functools import partial
from typing import TypeVar

from rhodolite.errors import DataError, warn
from rhodolite.formats.header_cache import (
    MANY,
    HeaderCache,
    Place,
    cache_in_use,
    user_cache,
)
from rhodolite.formats.headers.described import read_described, read_place
from rhodolite.formats.headers.processes import FEWEST, HeaderReaders
from rhodolite.formats.reading_rules import rules_in_force
from rhodolite.model.dataset import Dataset

T = TypeVar("T")
_TOGETHER = 500
"""Files whose headers are looked up and kept at once."""
_MOST_NAMED = 20
"""Files that cannot be read, of which more are counted alone."""


def read_files(
    places: Sequence[Place], carried: HeaderCache | None = None
) -> list[Dataset]:
    """Read files.

    Parameters
    ----------
    places : sequence of (Path, str or None)
        Each with the group that is asked for.
    carried : HeaderCache, optional
        Headers that were brought along with the files.

    Raises
    ------
    DataError
        If some cannot be read; all of them are named, up to twenty. Where such files are to be
        skipped, only if no other is left.
    """
    refused: list[DataError] = []
    # What is known of tables from before was read by the usual rules.
    if len(places) < MANY or not cache_in_use() or rules_in_force().of_tables:
        opened = _read_each(places, read_place, refused)
        _answer_for(refused, len(places))
        return [opened[place] for place in places if place in opened]
    own = user_cache()
    caches = [own] if carried is None else [carried, own]
    datasets = []
    with HeaderReaders() as readers:
        for first in range(0, len(places), _TOGETHER):
            some = places[first : first + _TOGETHER]
            known = _find(caches, some)
            known |= _read_unknown(own, readers, set(known), some, refused)
            datasets += [known[place] for place in some if place in known]
    _answer_for(refused, len(places))
    return datasets


def _read_unknown(
    own: HeaderCache,
    readers: HeaderReaders,
    known: set[Place],
    places: Sequence[Place],
    refused: list[DataError],
) -> dict[Place, Dataset]:
    """Read files that the caches do not know, and keep what their headers say."""
    keys = {place: own.key(place) for place in places if place not in known}
    texts = _describe(readers, list(keys))
    read = _read_each(keys, partial(_opened, texts), refused)
    headers = [(keys[p], text) for p, (_, text) in read.items() if text is not None]
    # A folder that cannot be written to costs time and nothing else.
    with contextlib.suppress(OSError, sqlite3.Error):
        own.keep(headers)
    return {place: dataset for place, (dataset, _) in read.items()}


def _read_each(
    places: Collection[Place], read: Callable[[Place], T], refused: list[DataError]
) -> dict[Place, T]:
    """Read files one after another, and gather why some of them cannot be read."""
    opened = {}
    for place in places:
        try:
            opened[place] = read(place)
        except DataError as error:
            refused.append(error)
    return opened


def _answer_for(refused: Sequence[DataError], count: int) -> None:
    """Name all files that cannot be read at once, so that they need not be found one by one."""
    if not refused:
        return
    lines = [str(error) for error in refused[:_MOST_NAMED]]
    if len(refused) > _MOST_NAMED:
        lines.append(f"and {len(refused) - _MOST_NAMED:,} more")
    named = "\n  ".join(lines)
    if rules_in_force().skip_unreadable and len(refused) < count:
        warn(
            f"left out, since they cannot be read: {len(refused):,} of {count:,} files\n  {named}"
        )
    elif len(refused) == 1:
        raise refused[0]
    else:
        raise DataError(
            f"{len(refused):,} files cannot be read (--skip-unreadable leaves such out):\n  {named}"
        )


def carry_headers(cache: HeaderCache, places: Sequence[Place]) -> None:
    """Keep the headers of files, of those that can be described, in a cache of their own."""
    with HeaderReaders() as readers:
        for first in range(0, len(places), _TOGETHER):
            some = [
                (cache.key(place), place) for place in places[first : first + _TOGETHER]
            ]
            texts = _describe(readers, [place for _, place in some])
            described = [
                (key, texts.get(place) or read_described(place)[1])
                for key, place in some
            ]
            cache.keep([(key, text) for key, text in described if text is not None])


def _describe(readers: HeaderReaders, places: Sequence[Place]) -> dict[Place, str]:
    """Return the headers of files as text, as far as it pays to have several processes read
    them."""
    return readers.describe(places) if len(places) >= FEWEST else {}


def _opened(texts: Mapping[Place, str], place: Place) -> tuple[Dataset, str | None]:
    """Return a file opened from the text of its header, or else read, and the text."""
    from rhodolite.formats.netcdf.header_text import NotDescribed, open_header

    text = texts.get(place)
    if text is not None:
        with contextlib.suppress(NotDescribed):
            return open_header(text, place[0]), text
    return read_described(place)


def _find(
    caches: Sequence[HeaderCache], places: Sequence[Place]
) -> dict[Place, Dataset]:
    """Return the datasets of those files whose headers are known."""
    from rhodolite.formats.netcdf.header_text import NotDescribed, open_header

    known: dict[Place, Dataset] = {}
    for cache in caches:
        left = [place for place in places if place not in known]
        for place, text in cache.find(left).items():
            try:
                known[place] = open_header(text, place[0])
            except NotDescribed:
                continue  # is read instead
    return known
