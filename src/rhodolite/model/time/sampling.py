"""How far the steps of a time axis are apart, as a whole number of months, days, hours or less."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from rhodolite.model.time.calendar_days import months_of_days
from rhodolite.model.time.time_units import DAY_TICKS, HOUR_TICKS, SECOND_TICKS, Ticks

UNIT_TICKS = {
    "day": DAY_TICKS,
    "hour": HOUR_TICKS,
    "minute": 60 * SECOND_TICKS,
    "second": SECOND_TICKS,
    "millisecond": SECOND_TICKS // 1000,
    "microsecond": 1,
}
"""Microseconds of the units that steps are counted in, longest first."""
_SHORTEST_MONTH = 27.5 * DAY_TICKS
_MONTH_DAYS = 30.436875
"""Mean length of a month of 400 Gregorian years."""
_OFF_A_MONTH = 0.1
"""Days by which a twelfth of a year of any calendar but that of 360 days may differ from it."""
_NEAR_WHOLE = 0.02
"""Times kept as fractions of a day in single precision are a few seconds off."""


@dataclass(frozen=True)
class SamplingInterval:
    """The sampling interval of a time axis.

    Attributes
    ----------
    unit : str
        ``year``, ``month``, one of `UNIT_TICKS`, ``irregular``, or ``single`` for one time.
    count : int
        How many of the unit lie between two steps.
    missing : int
        How many steps are left out.
    """

    unit: str
    count: int = 1
    missing: int = 0

    def __str__(self) -> str:
        if self.unit in ("irregular", "single"):
            return {"irregular": "irregular steps", "single": "one time"}[self.unit]
        return (
            f"every {self.unit}"
            if self.count == 1
            else f"every {self.count} {self.unit}s"
        )

    @property
    def months(self) -> int:
        """Calendar months of one interval; 0 where it is not of whole months."""
        return self.count * {"month": 1, "year": 12}.get(self.unit, 0)

    @property
    def as_interval(self) -> str:
        """The distance between steps, as cell methods have it (CF 7.3.2); empty where it varies."""
        return (
            "" if self.unit in ("irregular", "single") else f"{self.count} {self.unit}"
        )

    @property
    def ticks(self) -> int | None:
        """Microseconds of one interval; None where it is of months, or irregular."""
        length = UNIT_TICKS.get(self.unit)
        return None if length is None else length * self.count


IRREGULAR, SINGLE = SamplingInterval("irregular"), SamplingInterval("single")


def sampling_of(ticks: Ticks, calendar: str) -> SamplingInterval:
    """Return the sampling interval of times, found from the distances between them.

    Parameters
    ----------
    ticks : ndarray of int64, shape (n,)
    calendar : str
        CF calendar.
    """
    if len(ticks) < 2:
        return SINGLE
    ordered = in_order(ticks)
    distances = np.diff(ordered)
    shortest, longest = int(distances.min()), int(distances.max())
    if 0 < shortest == longest < _SHORTEST_MONTH:
        return of_ticks(shortest)
    typical = float(np.median(distances))
    if typical <= 0:
        return IRREGULAR
    if typical >= _SHORTEST_MONTH:
        months = np.diff(months_of_days(ordered // DAY_TICKS, calendar)[0])
        unit = int(np.median(months))
        if unit >= 1 and np.all(months % unit == 0) and np.all(months > 0):
            return replace(of_months(unit), missing=int((months // unit - 1).sum()))
    ratio = distances / typical
    steps = np.rint(ratio)
    if np.any(np.abs(ratio - steps) > _NEAR_WHOLE) or np.any(steps < 1):
        return IRREGULAR
    return replace(of_ticks(typical), missing=int((steps - 1).sum()))


def months_covered(cells: Ticks, step: SamplingInterval, calendar: str) -> int:
    """Return how many calendar months each step covers, where it is the same number; else 0.

    Parameters
    ----------
    cells : ndarray of int64, shape (n, 2)
        The ends of each step in microseconds, earlier first.
    step : SamplingInterval
        How far the steps are apart.
    calendar : str
        CF calendar.
    """
    days, clocks = np.divmod(cells, DAY_TICKS)
    month, day = months_of_days(days, calendar)
    if (day == 1).all() and (clocks == 0).all():
        counts = np.diff(month, axis=1)
        return int(counts[0, 0]) if np.ptp(counts) == 0 else 0
    # Months from the middle of one to the middle of the next, or but for an hour.
    lengths = np.diff(cells, axis=1)[:, 0] / DAY_TICKS
    length = 30.0 if calendar == "360_day" else _MONTH_DAYS
    count = int(np.rint(np.median(lengths) / length))
    if not 1 <= count <= 12:
        return 0
    if step.ticks is not None:
        # At even distances: 30 days again and again are no months, twelfths of a year may be.
        fits = np.abs(lengths - count * length) <= count * _OFF_A_MONTH
    else:
        fits = (lengths >= 28 * count) & (lengths <= 31 * count)
    return count if fits.all() else 0


def of_months(months: int) -> SamplingInterval:
    """Return an interval of whole calendar months."""
    return (
        SamplingInterval("month", months)
        if months % 12
        else SamplingInterval("year", months // 12)
    )


def of_ticks(ticks: float) -> SamplingInterval:
    """Return a length of time as a whole number of days, hours or less; irregular where it is
    none."""
    for unit, length in UNIT_TICKS.items():
        count = ticks / length
        if round(count) >= 1 and abs(count - round(count)) < 1e-3:
            return SamplingInterval(unit, round(count))
    return IRREGULAR


def in_order(ticks: Ticks) -> Ticks:
    """Return times in their order; themselves where they are in it already."""
    return ticks if bool((ticks[1:] >= ticks[:-1]).all()) else np.sort(ticks)
