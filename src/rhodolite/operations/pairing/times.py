"""Times of two datasets, matched by the period that they stand for and not by their number."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError, warn
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_numbers import even_places, number_periods
from rhodolite.model.time.time_axis import TimeAxis

Indices = NDArray[np.intp]
_TABLES = ("CSV", "Parquet", "workbook")
"""Formats whose dates are in the standard calendar where nothing else is said."""


@dataclass(frozen=True, eq=False)
class MatchedTimes:
    """The periods of two time axes.

    Attributes
    ----------
    ours, theirs : ndarray of int
        A whole number for each step; those of the same period are the same, those of the next one
        more.
    apart : int
        What numbers of neighbouring steps differ by: 12 for the Januaries of months.
    """

    ours: NDArray[np.int64]
    theirs: NDArray[np.int64]
    apart: int = 1

    @classmethod
    def of(cls, dataset: Dataset, other: Dataset) -> MatchedTimes:
        """Match the times of two datasets.

        Raises
        ------
        DataError
            If their steps or calendars do not go together, or they have no period in common.
        """
        first, second = dataset.need_time(), other.need_time()
        unit, count = _step_in_common(dataset, other)
        numbers = [number_periods(axis, unit, count) for axis in (first, second)]
        if unit == "irregular":
            # Their order is all that steps of many lengths have in common.
            known = np.union1d(*numbers)
            numbers = [np.searchsorted(known, each) for each in numbers]
        matched = cls.among(*numbers)
        ours, _ = matched.pairs(0)
        if not ours.size:
            raise DataError(
                f"{dataset.label} ({first.span}) and {other.label} ({second.span}) have no time in "
                "common"
            )
        for label, n in ((dataset.label, len(first)), (other.label, len(second))):
            if n > ours.size:
                warn(
                    f"{n - ours.size:,} of {n:,} times of {label} have no counterpart and are left "
                    "out"
                )
        return matched

    @classmethod
    def among(cls, ours: NDArray[np.int64], theirs: NDArray[np.int64]) -> MatchedTimes:
        """Match periods by their numbers, of which those of all steps tell how far these are
        apart."""
        distances = np.diff(np.union1d(ours, theirs))
        apart = int(np.gcd.reduce(distances)) if distances.size else 1
        return cls(ours, theirs, apart)

    def pairs(self, lag: int) -> tuple[Indices, Indices]:
        """Return steps of both, in the order of time, the other's `lag` steps before ours."""
        before = self.theirs + lag * self.apart
        _, ours, theirs = np.intersect1d(self.ours, before, return_indices=True)
        return ours, theirs

    def places(self, lag: int) -> NDArray[np.int64] | None:
        """Return where the pairs of a lag stand among all steps, where some are left out."""
        ours, _ = self.pairs(lag)
        return even_places(self.ours[ours], self.apart)


def _step_in_common(dataset: Dataset, other: Dataset) -> tuple[str, int]:
    """Return the unit by which steps of two datasets are numbered, and how many of it they are
    long.

    Raises
    ------
    DataError
        If they are of different lengths, or of calendars whose days do not correspond.
    """
    first, second = dataset.need_time(), other.need_time()
    steps = [(axis.resolution.unit, axis.resolution.count) for axis in (first, second)]
    if steps[0] != steps[1]:
        raise DataError(
            f"{dataset.label} has one value {first.resolution} and {other.label} "
            f"{second.resolution}; bring both to the same first, such as aggregate --to month"
        )
    unit, count = steps[0]
    if first.calendar == second.calendar or unit in ("month", "year"):
        return unit, count
    if unit == "single":
        return "month", 1
    raise DataError(
        f"{dataset.label} has the calendar {first.calendar} and {other.label} {second.calendar}, "
        "whose days do not correspond; aggregate both --to month first"
        f"{_advise_table(dataset, other)}{_advise_table(other, dataset)}"
    )


def _advise_table(table: Dataset, other: Dataset) -> str:
    """Return what to do about a table in the standard calendar, since few tables name theirs."""
    tables = [source.format in _TABLES for source in table.files]
    if not tables or not all(tables) or table.need_time().calendar != "standard":
        return ""
    calendar = other.need_time().calendar
    return (
        f". If the dates of {table.label} are in the calendar {calendar} as well, say so in a "
        f"column of it: calendar, with {calendar} in each row"
    )


def place_evenly(axis: TimeAxis) -> NDArray[np.int64]:
    """Return where each step stands among evenly spaced ones, from 0.

    Raises
    ------
    DataError
        If steps are irregular, or two are of the same time.
    """
    spacing = axis.spacing
    if spacing.unit in ("irregular", "single"):
        raise DataError(
            f"the data have {spacing}, and a filter needs times that are evenly apart"
        )
    numbers = number_periods(axis, spacing.unit, spacing.count)
    if np.unique(numbers).size < len(axis):
        raise DataError(
            "two steps are of the same time; aggregate or choose one of them first"
        )
    return np.asarray(numbers - numbers.min())
