"""Times that requests name, in ISO 8601."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError
from rhodolite.formats.text.date_forms import parse_fields
from rhodolite.model.time.dates import first_moment, moment_after
from rhodolite.model.time.period_text import Instant, Period
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.server.limits import Refused

_OFFSET = re.compile(r"T.*[+-]\d\d(:?\d\d)?$")
"""Of local time to universal time, as in 2018-01-01T00:00+02:00."""


def moments_named(axis: TimeAxis, text: str) -> tuple[float, float]:
    """Return the beginning and the end of what a time in ISO 8601 names, such as a day, as numbers
    of an axis.

    Raises
    ------
    Refused
        If it cannot be read.
    """
    with _refusing(text):
        instant = _instant_of(text)
        ends = (
            first_moment(instant, axis.calendar),
            moment_after(instant, axis.calendar),
        )
        first, last = (float(axis.to_number(end)) for end in ends)
    return first, last


def lie_within(axis: TimeAxis, first: str, last: str) -> NDArray[np.bool_]:
    """Return which steps of an axis lie within two times in ISO 8601, all of both included; `..` is
    an open end.

    Raises
    ------
    Refused
        If one cannot be read.
    """
    with _refusing(f"{first}/{last}" if first != last else first):
        ends = [
            None if text in ("", "..") else _instant_of(text) for text in (first, last)
        ]
        return axis.within(Period(*ends))


@contextmanager
def _refusing(text: str) -> Iterator[None]:
    """Refuse a time that is none, or none of the calendar of the data."""
    try:
        yield
    except (ValueError, OverflowError, DataError) as error:
        raise Refused(400, f"'{text[:60]}' is not a time: {error}") from None


def _instant_of(text: str) -> Instant:
    plain = re.sub(r"(?<=:\d\d)\.\d+", "", text.strip())
    if _OFFSET.search(plain) and (fields := parse_fields(plain)) is not None:
        return Instant(fields)
    return Instant.parse(plain.removesuffix("Z"))
