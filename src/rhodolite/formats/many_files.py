"""Opening many files: what is known of them from before is not read again."""

from __future__ import annotations

import contextlib
import sqlite3
import warnings
from collections.abc import Sequence

from rhodolite.formats.header_cache import MANY, HeaderCache, Place, cache_in_use, user_cache
from rhodolite.formats.registry import format_of
from rhodolite.model.dataset import Dataset

_TOGETHER = 500
"""Files whose headers are looked up and kept at once."""


def read_files(places: Sequence[Place], carried: HeaderCache | None = None) -> list[Dataset]:
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
        If one cannot be read.
    """
    if len(places) < MANY or not cache_in_use():
        return [_read(place) for place in places]
    own = user_cache()
    datasets = []
    for first in range(0, len(places), _TOGETHER):
        some = places[first : first + _TOGETHER]
        known = _find([own] if carried is None else [carried, own], some)
        keys = {place: own.key(place) for place in some if place not in known}
        read = {place: _read_described(place) for place in keys}
        new = [(keys[place], text) for place, (_, text) in read.items() if text is not None]
        # A folder that cannot be written to costs time and nothing else.
        with contextlib.suppress(OSError, sqlite3.Error):
            own.keep(new)
        datasets += [known[place] if place in known else read[place][0] for place in some]
    return datasets


def carry_headers(cache: HeaderCache, places: Sequence[Place]) -> None:
    """Keep the headers of files, of those that can be described, in a cache of their own.

    Parameters
    ----------
    cache : HeaderCache
    places : sequence of (Path, str or None)
    """
    for first in range(0, len(places), _TOGETHER):
        some = [(cache.key(place), place) for place in places[first : first + _TOGETHER]]
        described = [(key, _read_described(place)[1]) for key, place in some]
        cache.keep([(key, text) for key, text in described if text is not None])


def _find(caches: Sequence[HeaderCache], places: Sequence[Place]) -> dict[Place, Dataset]:
    """Return the datasets of those files whose headers are known."""
    from rhodolite.formats.netcdf.header_text import NotDescribed, open_header

    found: dict[Place, Dataset] = {}
    for cache in caches:
        left = [place for place in places if place not in found]
        for place, text in cache.find(left).items():
            try:
                found[place] = open_header(text, place[0])
            except NotDescribed:
                continue  # is read instead
    return found


def _read_described(place: Place) -> tuple[Dataset, str | None]:
    """Read a file, and return its header as text; none where there is more to say than that."""
    from rhodolite.formats.netcdf.header_text import NotDescribed, describe_header, open_header

    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        dataset = _read(place)
    for warning in said:
        warnings.warn_explicit(warning.message, warning.category, warning.filename, warning.lineno)
    if said:
        return dataset, None
    try:
        text = describe_header(dataset)
    except NotDescribed:
        return dataset, None
    # Opened from its text, it shares what is the same in other files.
    return open_header(text, place[0]), text


def _read(place: Place) -> Dataset:
    path, group = place
    return format_of(path).read(path, group)
