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
from rhodolite.model.time.steps_of_periods import steps_covering, steps_of
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


def _steps_of(axis: TimeAxis, first: str, last: str) -> NDArray[np.bool_]:
    """Return which steps of an axis lie within two times in ISO 8601, all of both included, or else
    cover all between them; `..` is an open end.

    Raises
    ------
    Refused
        If one cannot be read.
    """
    with _refusing(f"{first}/{last}" if first != last else first):
        ends = [
            None if text in ("", "..") else _instant_of(text) for text in (first, last)
        ]
        return steps_of(axis, Period(*ends))


def texts_of_moments(axis: TimeAxis) -> list[str]:
    """Return the times of an axis in ISO 8601."""
    return [date.strftime("%Y-%m-%dT%H:%M:%SZ") for date in axis.reference_dates]


def nearest_step(axis: TimeAxis, text: str) -> int:
    """Return the step that covers a time that is written in ISO 8601, or else the one whose own is
    nearest to it.

    Raises
    ------
    Refused
        If it cannot be read, or lies before all times or after them.
    """
    first, last = moments_named(axis, text)
    low, high = axis.middles.min(), axis.middles.max()
    covered = (low, high) if axis.cells is None else axis.cells
    if last <= min(low, np.min(covered)) or (first > high and first >= np.max(covered)):
        raise Refused(404, f"there is no time {text[:60]}; {_range_of(axis)}")
    covering = _steps_covering(axis, text)
    if covering.size:
        return int(covering[0])
    # A day, month or year that is named as a whole is its middle.
    number = first if "T" in text else (first + last) / 2
    return int(np.argmin(np.abs(axis.middles - number)))


def steps_named(axis: TimeAxis, text: str, moments: list[str]) -> NDArray[np.intp]:
    """Return the steps that a time or an interval in ISO 8601 names, all of its ends included; of
    what lies within a step that step.

    Parameters
    ----------
    axis : TimeAxis
    text : str
    moments : list of str
        Its times, as `texts_of_moments` writes them.

    Raises
    ------
    Refused
        If it cannot be read, or names no step.
    """
    if text in moments:
        return np.array([moments.index(text)])
    first, _, last = text.partition("/")
    chosen = np.flatnonzero(_steps_of(axis, first, last or first))
    if not chosen.size:
        raise Refused(404, f"there is no time in {text[:60]}; {_range_of(axis)}")
    return chosen


def _steps_covering(axis: TimeAxis, text: str) -> NDArray[np.intp]:
    with _refusing(text):
        instant = _instant_of(text)
        return np.flatnonzero(steps_covering(axis, Period(instant, instant)))


def _range_of(axis: TimeAxis) -> str:
    texts = texts_of_moments(axis)
    return f"times run from {texts[0]} to {texts[-1]}"


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
