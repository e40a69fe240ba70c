"""Time: units, calendars and steps."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.checking.finding import Finding, advice, error, warning
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_names import NAMED_IN_CF
from rhodolite.model.time.steps_of_periods import steps_overlap
from rhodolite.model.time.time_units import counts_from_a_date, counts_months

_CALENDARS = (*NAMED_IN_CF, "none")


def readable(dataset: Dataset) -> Iterator[Finding]:
    """Times can be turned into dates (CF 4.4)."""
    coordinate = dataset.coordinate(Role.TIME)
    if coordinate is None:
        return
    name, units = coordinate.name, coordinate.variable.units or ""
    calendar = coordinate.variable.attributes.get("calendar")
    if not counts_from_a_date(units):
        yield error(
            name,
            f"the units '{units}' do not say from when time is counted",
            "CF 4.4",
            advice=f"ask its maker from which date it counts, and write --set '{name}:units=days "
            "since DATE'",
        )
        return
    if calendar is not None and str(calendar).lower() not in _CALENDARS:
        yield error(
            name,
            f"there is no calendar '{calendar}'",
            "CF 4.4.1",
            advice=f"it can be {', '.join(_CALENDARS[:-1])}; the wrong one moves all dates, so ask "
            "its maker",
        )
        return
    try:
        _ = dataset.time
    except DataError as problem:
        yield error(
            name,
            str(problem),
            "CF 4.4",
            advice="ask its maker from which date it counts",
        )
        return
    if calendar is None:
        yield advice(
            name,
            "names no calendar, so the standard one is taken",
            "CF 4.4.1",
            ("--set", f"{name}:calendar=standard"),
        )
    if counts_months(units) and str(calendar) != "360_day":
        counted = units.split()[0]
        taken = "365.2425 days" if counted.lower().startswith("year") else "30.44 days"
        yield warning(
            name,
            f"counts {counted}, which most programs take for {taken} each",
            "CF 4.4",
            advice="rewriting the file counts days: rhodolite join FILE -o NEW.nc",
        )


def overlaps(dataset: Dataset) -> Iterator[Finding]:
    """Steps cover no parts of each other."""
    try:
        axis = dataset.time
    except DataError:
        return
    if axis is not None and axis.bounds is not None and steps_overlap(axis):
        yield advice(
            axis.name,
            "the bounds of steps overlap, as those of running means do; sums over time are refused",
            "CF 7.1",
        )


def gaps(dataset: Dataset) -> Iterator[Finding]:
    """Steps follow each other without a gap."""
    try:
        axis = dataset.time
    except DataError:
        return
    if axis is not None and len(axis) > 2 and axis.step.missing:
        yield advice(
            axis.name,
            f"{axis.step.missing} steps are left out ({axis.step}, {len(axis)} there)",
            "completeness",
            advice="inspect names the gaps; sums and means over them are incomplete",
        )


CHECKS = (readable, gaps, overlaps)
