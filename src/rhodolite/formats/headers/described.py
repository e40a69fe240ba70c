"""Files read once, together with the text that stands for what was read."""

from __future__ import annotations

import warnings

from rhodolite.formats.header_cache import Place
from rhodolite.formats.registry import COMPRESSED, format_of
from rhodolite.model.dataset import Dataset


def read_place(place: Place) -> Dataset:
    """Read a file, or a group of it.

    Raises
    ------
    DataError
        If it cannot be read.
    """
    path, group = place
    return format_of(path).read(path, group)


def read_described(place: Place) -> tuple[Dataset, str | None]:
    """Read a file, and return its header as text; none where there is more to say than that.

    Raises
    ------
    DataError
        If it cannot be read.
    """
    from rhodolite.formats.netcdf.header_text import (
        NotDescribed,
        describe_header,
        open_header,
    )

    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        dataset = read_place(place)
    for warning in said:
        warnings.warn_explicit(
            warning.message, warning.category, warning.filename, warning.lineno
        )
    if said or format_of(place[0]) is COMPRESSED:
        return dataset, None
    try:
        text = describe_header(dataset)
    except NotDescribed:
        return dataset, None
    # Opened from its text, it shares what is the same in other files.
    return open_header(text, place[0]), text
