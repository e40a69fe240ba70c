"""Numbers that count time from a date, in any CF calendar: to microseconds and dates, and back."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.model.time.time_units import (
    Ticks,
    TimeUnits,
    dates_of_ticks,
    read_time_units,
    ticks_of_date,
)

Dates = NDArray[Any]


class CountedTimes:
    """What turns numbers into times, of an axis that has units and a calendar.

    Attributes
    ----------
    units : str
        Such as ``days since 1990-01-01``.
    calendar : str
        A CF calendar.
    stored : dtype
        Type that the numbers were kept in, which says how finely they tell times apart.
    """

    units: str
    calendar: str
    stored: np.dtype[Any]

    @property
    def time_units(self) -> TimeUnits:
        return read_time_units(self.units, self.calendar)

    def to_ticks(self, numbers: Array) -> Ticks:
        """Return microseconds (see `time_units`) for numbers in the axis's units."""
        return self.time_units.to_ticks(numbers, self.stored)

    def from_ticks(self, ticks: Ticks) -> Array:
        """Return numbers in the axis's units, float64, for microseconds."""
        return self.time_units.from_ticks(ticks)

    def to_dates(self, numbers: Array) -> Dates:
        """Return dates (cftime objects) for numbers in the axis's units."""
        return dates_of_ticks(self.to_ticks(numbers), self.calendar)

    def to_number(self, date: Any) -> float:
        """Return the number, in the axis's units, of a date."""
        return float(self.from_ticks(np.array([ticks_of_date(date, self.calendar)]))[0])

    def to_numbers(self, dates: Dates) -> Array:
        """Return the numbers, in the axis's units, of dates; of their shape, float64."""
        ticks = [ticks_of_date(date, self.calendar) for date in dates.reshape(-1)]
        return self.from_ticks(np.array(ticks, dtype=np.int64)).reshape(dates.shape)

    def numbers_of(self, other: CountedTimes, numbers: Array) -> Array:
        """Return numbers in this axis's units for numbers in those of another axis of the same
        calendar."""
        return self.from_ticks(other.to_ticks(numbers))
