"""Which steps of a time axis lie in a period, which cover one, and whether they cover parts of each
other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.model.space.precision import slack
from rhodolite.model.time.dates import first_moment, moment_after
from rhodolite.model.time.period_text import Period
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import ticks_of_date

_OVERLAP = 0.01
"""Parts of a step that it has to share with another, since times may be rounded."""
_EVER = 10**9
"""Years before and after all others."""


def steps_within(axis: TimeAxis, period: Period) -> NDArray[np.bool_]:
    """Return which steps lie in a period, all of its last part included; shape (n,).

    Where a period is of whole years and steps are of several months, they count to the year that
    they are called after.
    """
    first, last = period.first, period.last
    ends = [end for end in (first, last) if end is not None]
    if axis.resolution.months > 1 and all(len(end.fields) == 1 for end in ends):
        years = axis.named_years
        earliest = first.fields[0] if first else -_EVER
        latest = last.fields[0] if last else _EVER
        return np.asarray((years >= earliest) & (years <= latest))
    chosen = np.ones(len(axis), dtype=bool)
    middles, near = axis.middles, slack(axis.numbers, axis.stored)
    if first is not None:
        begin = axis.to_number(first_moment(first, axis.calendar))
        chosen &= middles >= begin - near
    if last is not None:
        begin = axis.to_number(first_moment(last, axis.calendar))
        end = axis.to_number(moment_after(last, axis.calendar))
        # A second may be shorter than what times may be off by, and holds its own moment.
        chosen &= middles < max(end - near, (begin + end) / 2)
    return chosen


def steps_covering(axis: TimeAxis, period: Period) -> NDArray[np.bool_]:
    """Return which steps cover all of a period, such as the week that a day lies in; shape (n,)."""
    nothing = np.zeros(len(axis), dtype=bool)
    if axis.cell_ticks is None or axis.instants or axis.climatological:
        return nothing
    if period.first is None or period.last is None:
        return nothing
    first = first_moment(period.first, axis.calendar)
    after = moment_after(period.last, axis.calendar)
    begins, ends = axis.cell_ticks.T
    return np.asarray(
        (begins <= ticks_of_date(first, axis.calendar))
        & (ticks_of_date(after, axis.calendar) <= ends)
    )


def steps_of(axis: TimeAxis, period: Period) -> NDArray[np.bool_]:
    """Return which steps lie in a period, or else, where there is none, which cover all of it;
    shape (n,)."""
    within = steps_within(axis, period)
    return within if within.any() else steps_covering(axis, period)


def steps_overlap(axis: TimeAxis) -> bool:
    """Return whether steps cover parts of each other, as running means do."""
    if axis.cell_ticks is None or axis.instants or axis.climatological:
        return False
    begins, ends = axis.cell_ticks[np.argsort(axis.cell_ticks[:, 0], kind="stable")].T
    shared = ends[:-1] - begins[1:]
    return bool((shared > _OVERLAP * (ends - begins)[:-1]).any())
