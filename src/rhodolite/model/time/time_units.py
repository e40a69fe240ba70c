"""Units of time as numbers of seconds."""

from __future__ import annotations

from rhodolite.model.units.udunits import convert

DAY = 86400.0
"""Seconds of a day."""


def seconds_per(units: str) -> float:
    """Return how many seconds units of time count; of months and years the usual length.

    Parameters
    ----------
    units : str
        UDUNITS units.
    """
    if not units.strip():
        raise ValueError("the units of time are empty")
    word = units.split()[0].lower()
    usual = {"month": 30 * DAY, "year": 365 * DAY}.get(word.rstrip("s"))
    if usual is not None:
        return usual
    word = {
        "hr": "hour",
        "hrs": "hour",
        "mins": "minute",
        "secs": "second",
        "msec": "ms",
        "msecs": "ms",
        "millisec": "ms",
        "millisecs": "ms",
        "microsec": "us",
        "microsecs": "us",
    }.get(word, word)
    return float(convert(1.0, word, "s"))
