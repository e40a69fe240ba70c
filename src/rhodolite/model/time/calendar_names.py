"""Calendars: the names that CF has for them, and what files call them besides."""

from __future__ import annotations

import re

from rhodolite.model.cf.vocabulary import CALENDAR_ALIASES, CALENDARS

NAMED_IN_CF = (*CALENDARS, *CALENDAR_ALIASES, "utc", "tai")
_ALSO = {
    **CALENDAR_ALIASES,
    "": "standard",
    "none": "standard",
    "utc": "standard",
    "360": "360_day",
    "365": "noleap",
    "366": "all_leap",
    "no_leap": "noleap",
    "360day": "360_day",
    "365day": "noleap",
    "thirty_day": "360_day",
}


def plain_calendar(written: object) -> str:
    """Return the name that is used here for a calendar; one that is not known as it is.

    Examples
    --------
    >>> plain_calendar("Proleptic Gregorian"), plain_calendar("365 days"), plain_calendar("Mayan")
    ('proleptic_gregorian', 'noleap', 'mayan')
    """
    words = re.sub(r"[\s-]+", "_", str(written).strip().lower())
    name = re.sub(r"days$", "day", words)
    return _ALSO.get(name, name)
