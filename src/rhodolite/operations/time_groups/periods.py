"""The periods that a time axis is divided into, and how complete each of them is."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.left_out_steps import find_breaks
from rhodolite.model.time.period_numbers import chosen_months
from rhodolite.model.time.period_text import MONTH_TITLES
from rhodolite.model.time.step_bounds import Stamp
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_intervals import Divided, Interval
from rhodolite.model.time.time_units import DAY_TICKS, dates_of_ticks
from rhodolite.model.variable import Storage, Variable
from rhodolite.plain_text import percent_there

FEW_STEPS = 12
"""Of a period of so few steps, such as the months of a year, none may be missing."""
_LONGEST_MONTH = 31
"""Days."""


class Periods:
    """The periods of a time axis, the steps in them, and how complete they can be.

    Parameters
    ----------
    axis : TimeAxis
    divided : Divided
    steps : ndarray of int
    interval : Interval
    added_up : bool
        Whether values are added up, so that all that steps do not cover is missing.

    Attributes
    ----------
    axis : TimeAxis
    steps : ndarray of int
        Indices of the steps that lie in a period, in the order of time.
    groups : ndarray of int
        The period of each of these.
    weights : ndarray of float64 or None
        Days of each of these, where they differ.
    full : ndarray of float64
        For each period its days, or the number of steps that fit into it.
    share : ndarray of float64
        For each period the part of it that the steps cover.
    by_parts_of_days : bool
        Whether steps are of some hours of each day, and stand for it.
    chosen : tuple of int
        The months that the data hold of every year, where others were left out of all; else empty.
    """

    def __init__(
        self,
        axis: TimeAxis,
        divided: Divided,
        steps: Array,
        interval: Interval,
        *,
        added_up: bool = False,
    ) -> None:
        self.axis, self.divided, self.steps = axis, divided, steps
        self.groups = divided.groups[steps]
        self.count = divided.count
        # The warmest hours stand for their day; what fell in some of its hours does not.
        self.by_parts_of_days = axis.is_part_of_each_day and not added_up
        lengths = self._lengths()
        equal = lengths is None or np.ptp(lengths) < 1e-6 * lengths[0]
        self.days = None if lengths is None else float(lengths[0])
        self.weights = None if equal else lengths
        present = np.bincount(self.groups, self.weights, minlength=self.count)
        self.chosen = self._chosen(lengths, interval)
        days = _days_of_months(divided, self.chosen) if self.chosen else divided.days
        self.full = days
        if equal:
            self.full = present if self.days is None else days / self.days
        self.share = present / self.full

    def _lengths(self) -> Array | None:
        """Return the days that steps stand for; None where they are not known."""
        if self.axis.lengths is None:
            return None
        if self.by_parts_of_days:
            return np.ones(self.steps.size)
        return self.axis.lengths[self.steps]

    def _chosen(self, lengths: Array | None, interval: Interval) -> tuple[int, ...]:
        if lengths is None or interval.unit not in ("year", "decade"):
            return ()
        if lengths.max() > _LONGEST_MONTH:
            return ()
        return chosen_months(self.axis.months[self.steps], self.groups)

    @property
    def breaks(self) -> NDArray[np.bool_]:
        """Whether others are left out before a step, shape (n,)."""
        left_out = np.zeros(self.steps.size, dtype=bool)
        left_out[find_breaks(self.axis.middle_ticks[self.steps])] = True
        return left_out

    @property
    def most_steps(self) -> float:
        """How many steps the period with the most of them would have if none were missing."""
        counts = np.bincount(self.groups, minlength=self.count)
        return float(np.max(np.rint(counts / np.minimum(self.share, 1.0))))

    def weighing(self, weights: Array | None) -> tuple[Array | None, Array]:
        """Return the weights of the steps in periods, and of whole periods, given those of all
        steps of the axis; None, given or returned, where all weigh the same."""
        if weights is not None and weights is self.axis.lengths:
            return self.weights, self.full
        counts = np.bincount(self.groups, minlength=self.count)
        if weights is None or np.ptp(weights[self.steps]) < 1e-9 * abs(
            weights[self.steps[0]]
        ):
            return (
                (None, counts / self.share)
                if self.weights is not None
                else (None, self.full)
            )
        sums_of_weights = np.bincount(
            self.groups, weights[self.steps], minlength=self.count
        )
        return weights[self.steps], sums_of_weights / self.share

    @property
    def step_text(self) -> str:
        """The distance between steps, as cell methods have it; empty where it varies."""
        return self.axis.spacing.as_interval

    def variables(self, coordinate: Coordinate) -> tuple[Variable, Variable]:
        """Return the times, in the middle of the periods, and their bounds."""
        name = f"{coordinate.name}_bnds"
        if coordinate.bounds_variable is not None:
            name = coordinate.bounds_variable.name
        ends = (
            coordinate.bounds_variable.dimensions[-1]
            if coordinate.bounds_variable
            else "bnds"
        )
        time = coordinate.variable.edit(
            "climatology",
            "actual_range",
            "valid_range",
            "valid_min",
            "valid_max",
            bounds=name,
        )
        time = time.replace(
            data=InMemory(self.divided.middles), storage=Storage(), missing=None
        )
        return time, Variable(
            name, (*time.dimensions, ends), InMemory(self.divided.bounds)
        )


def with_ends(dataset: Dataset, stamp: Stamp | None) -> TimeAxis:
    """Return the time axis, with the ends of its steps worked out anew where it is known how they
    are stamped.

    Parameters
    ----------
    dataset : Dataset
    stamp : Stamp, optional
        Where each time lies within its step.
    """
    if stamp is not None:
        dataset.need(Role.TIME)
        return dataset.time.stamped(stamp) if dataset.time else dataset.need_time()
    return dataset.need_time()


def need_finer(axis: TimeAxis, interval: Interval) -> None:
    """Refuse periods that are shorter than the steps."""
    lengths = axis.lengths
    if (
        lengths is not None
        and interval.days < float(np.min(lengths)) * 0.9
        and len(axis) > 1
    ):
        raise DataError(
            f"the data have one value {axis.resolution}, so there is nothing to aggregate to "
            f"{interval}; choose a longer interval"
        )


def _days_of_months(divided: Divided, months: tuple[int, ...]) -> Array:
    """Return the days that some months of the year have in each period."""
    calendar = divided.axis.calendar
    ends = months_of_days(divided.limits // DAY_TICKS, calendar)[0]
    every = np.arange(ends.min(), ends.max())
    lengths = np.diff(first_days(np.append(every, ends.max()), calendar))
    counted = np.where(np.isin(every % 12 + 1, months), lengths, 0)
    upto = np.concatenate([[0], np.cumsum(counted)])
    return np.asarray(np.diff(upto[ends - ends.min()], axis=1)[:, 0], dtype=np.float64)


def warn_of_ends(
    periods: Periods, share: float, interval: Interval, *, counted: bool
) -> None:
    """Name the periods that cannot be complete, since the data do not cover them.

    Parameters
    ----------
    periods : Periods
    share : float
        Of each period, that has to be there.
    interval : Interval
    counted : bool
        Whether the statistic is a count.
    """
    short = np.flatnonzero(periods.share < share - 1e-9)
    if short.size:
        warn(
            f"{short.size:,} of {periods.count:,} {interval.adjective} values are missing "
            "everywhere, since the data hold too little of their periods: from "
            f"{_name_periods(periods, short, interval)}; --min-coverage changes how much is needed"
            + _hint_of_months(periods)
        )
    lengths = periods.axis.lengths
    if lengths is not None and periods.by_parts_of_days and not counted:
        hours = 24 * float(np.mean(lengths))
        warn(f"the data are of {hours:.3g} hours of each day, which stand for it")
    if periods.chosen:
        names = ", ".join(MONTH_TITLES[month - 1] for month in periods.chosen)
        warn(
            f"the data hold {names} alone, so the {interval.adjective} values are of these months"
        )
    incomplete = np.flatnonzero(
        (periods.share >= share - 1e-9) & (periods.share < 1 - 1e-9)
    )
    if incomplete.size and not counted:
        warn(
            f"{incomplete.size:,} of {periods.count:,} {interval.adjective} values are of periods "
            f"that the data hold in part: from {_name_periods(periods, incomplete, interval)}"
        )


def _hint_of_months(periods: Periods) -> str:
    """Say what to do where the data hold some months of a single year."""
    months = np.unique(periods.axis.months)
    if periods.count > 1 or months.size == 12 or periods.axis.lengths is None:
        return ""
    names = ", ".join(MONTH_TITLES[month - 1] for month in months)
    return f". The data hold {names} alone; summarise --over time takes these together"


def _name_periods(periods: Periods, which: Array, interval: Interval) -> str:
    dates = dates_of_ticks(periods.divided.limits[which[:4], 0], periods.axis.calendar)
    named = ", ".join(
        f"{_name_date(date, interval)} ({percent_there(part)} there)"
        for date, part in zip(dates, periods.share[which[:4]], strict=True)
    )
    return named + (f" and {which.size - 4:,} more" if which.size > 4 else "")


def _name_date(date: Any, interval: Interval) -> str:
    if (date.day, date.hour) == (1, 0) and interval.unit in (
        "month",
        "season",
        "year",
        "decade",
    ):
        return f"{date.year:04d}-{date.month:02d}"
    return format_date(date)
