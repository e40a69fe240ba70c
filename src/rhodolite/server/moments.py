"""Times that requests name, in ISO 8601."""

from __future__ import annotations

import re

from rhodolite.formats.text.date_forms import parse_fields
from rhodolite.model.time.dates import first_moment, moment_after
from rhodolite.model.time.period_text import Instant
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
    instant = instant_of(text)
    try:
        ends = (
            first_moment(instant, axis.calendar),
            moment_after(instant, axis.calendar),
        )
        first, last = (float(axis.to_number(end)) for end in ends)
    except (ValueError, OverflowError) as error:
        raise Refused(400, f"'{text[:60]}' is not a time: {error}") from None
    return first, last


def instant_of(text: str) -> Instant:
    plain = re.sub(r"(?<=:\d\d)\.\d+", "", text.strip())
    if _OFFSET.search(plain) and (fields := parse_fields(plain)) is not None:
        return Instant(fields)
    try:
        return Instant.parse(plain.removesuffix("Z"))
    except ValueError as error:
        raise Refused(400, f"'{text[:60]}' is not a time: {error}") from None
