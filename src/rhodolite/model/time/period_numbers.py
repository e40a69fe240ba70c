"""Whole numbers for the periods that steps stand for, one more for the next."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.model.time.calendar_days import months_of_days
from rhodolite.model.time.sampling import UNIT_TICKS
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, SECOND_TICKS

_MOST_LEFT_OUT = 16
"""Times as many steps as there are: with more left out, few have a neighbour at all."""


def number_periods(axis: TimeAxis, unit: str, count: int) -> NDArray[np.int64]:
    """Return a whole number for the period that each step stands for, one more for the next.

    Parameters
    ----------
    axis : TimeAxis
    unit : str
        Of its steps.
    count : int
        How many of the unit a step is long.
    """
    if unit == "year":
        return axis.named_years // count
    if unit == "month":
        return _last_months(axis) // count
    if unit == "single":
        return axis.day_numbers
    if unit == "irregular":
        return axis.middle_ticks // SECOND_TICKS
    return axis.middle_ticks // UNIT_TICKS[unit] // count


def _last_months(axis: TimeAxis) -> NDArray[np.int64]:
    """Return the month after each step; steps of several months end with one, wherever they
    begin."""
    if axis.resolution.months > 1 and axis.cell_ticks is not None:
        return months_of_days(axis.cell_ticks[:, 1] // DAY_TICKS, axis.calendar)[0]
    return axis.month_numbers


def find_places(axis: TimeAxis) -> NDArray[np.int64] | None:
    """Return where the steps of an axis, in the order of time, stand among evenly spaced ones; see
    `even_places`. None where they are irregular, too."""
    spacing = axis.spacing
    if spacing.unit in ("irregular", "single"):
        return None
    return even_places(number_periods(axis, spacing.unit, spacing.count)[axis.order])


def even_places(numbers: NDArray[np.int64], apart: int = 1) -> NDArray[np.int64] | None:
    """Return where periods stand among all from the first to the last, from 0; None where none is
    left out, or nearly all are.

    Parameters
    ----------
    numbers : ndarray of int64, shape (n,)
        In their order.
    apart : int
        What the numbers of neighbours differ by.
    """
    if not numbers.size:
        return None
    places = (numbers - numbers[0]) // apart
    count = int(places[-1]) + 1
    is_even = count == numbers.size or (np.diff(places) < 1).any()
    return None if is_even or count > _MOST_LEFT_OUT * numbers.size else places


def chosen_months(
    months: NDArray[np.int64], years: NDArray[np.int64]
) -> tuple[int, ...]:
    """Return the months that data of a part of each year hold; empty where they hold all, or of one
    year alone.

    Parameters
    ----------
    months, years : ndarray of int64, shape (n,)
        Of each step: the month from 1, and the year, or the number of the period for it.
    """
    distinct = np.unique(months)
    if distinct.size == 12:
        return ()
    per_year = np.unique(np.stack([years, months]), axis=1)[0]
    whole = np.bincount(per_year) == distinct.size
    return (
        tuple(int(month) for month in distinct) if np.count_nonzero(whole) > 1 else ()
    )
