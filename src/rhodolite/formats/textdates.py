"""Dates as people write them into tables and names of files."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import cftime
import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.model.periods import Instant
from rhodolite.model.time import first_moment, moment_after
from rhodolite.model.variable import Variable

_FORMS = re.compile(
    r"(\d{4})(?:-?(\d{2})(?:-?(\d{2})(?:[T ](\d{2})(?::?(\d{2})(?::?(\d{2})(?:\.0+)?)?)?(?:Z|\+00:?00)?)?)?)?"
)


def parse_date(text: str) -> Instant | None:
    """Return the year, month, day or moment that a text names in ISO 8601; None where it names none.

    Examples
    --------
    >>> str(parse_date("1999-02")), str(parse_date("19990214")), parse_date("14.2.1999")
    ('1999-02', '1999-02-14', None)
    """
    found = _FORMS.fullmatch(text.strip())
    if found is None:
        return None
    fields = tuple(int(part) for part in found.groups() if part is not None)
    limits = ((1, 12), (1, 31), (0, 23), (0, 59), (0, 59))
    if any(not low <= value <= high for value, (low, high) in zip(fields[1:], limits, strict=False)):
        return None
    return Instant(fields)


def time_variables(instants: Sequence[Instant], calendar: str = "standard") -> list[Variable]:
    """Return the time coordinate for what instants name, with bounds where they are days, months or years.

    Raises
    ------
    DataError
        If the calendar has no such day, or the dates are of different kinds.
    """
    depths = {len(instant.fields) for instant in instants}
    if len(depths) > 1:
        shown = [str(next(i for i in instants if len(i.fields) == depth)) for depth in sorted(depths)]
        raise DataError(f"the dates are of different kinds: {' and '.join(shown)}")
    units = f"days since {min(instant.fields[0] for instant in instants):04d}-01-01"
    starts = _numbers([first_moment(instant, calendar) for instant in instants], units, calendar)
    about: dict[str, Any] = {"standard_name": "time", "long_name": "time", "units": units, "calendar": calendar,
                             "axis": "T"}  # fmt: skip
    if depths and max(depths) > 3:
        return [Variable("time", ("time",), InMemory(starts), about)]
    ends = _numbers([moment_after(instant, calendar) for instant in instants], units, calendar)
    about["bounds"] = "time_bnds"
    bounds = np.stack([starts, ends], axis=-1)
    return [
        Variable("time", ("time",), InMemory(bounds.mean(axis=1)), about),
        Variable("time_bnds", ("time", "bnds"), InMemory(bounds)),
    ]


def _numbers(dates: list[Any], units: str, calendar: str) -> Array:
    return np.asarray(cftime.date2num(dates, units, calendar), dtype=np.float64)
