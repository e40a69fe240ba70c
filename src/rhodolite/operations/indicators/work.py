"""The indicators of one variable, cell by cell from whole series."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn
from rhodolite.operations.indicators.days import Calendar, Days
from rhodolite.operations.indicators.definitions import Indicator, Result

DATE_ENDING = "_day"
"""Of the name of the day of the year beside a date."""


@dataclass(frozen=True)
class Asked:
    """An indicator of a variable, with numbers in its units.

    Attributes
    ----------
    name : str
        Of the result.
    indicator : Indicator
    threshold : float
    factor : float
        That results are multiplied by.
    dtype : {"f4", "f8"}
        Precision of the values.
    wet : float
        The amount that makes a day wet.
    """

    name: str
    indicator: Indicator
    threshold: float
    factor: float
    dtype: str
    wet: float


@dataclass
class IndicatorWork(SeriesKernel):
    """All indicators that are asked of one variable."""

    label: str
    axis: int
    calendar: Calendar
    asked: tuple[Asked, ...]
    missing_days: Array
    """How many days of each period may be missing."""

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        shape = ((len(self.calendar.spans),), np.dtype("f8"))
        names = [asked.name for asked in self.asked]
        dates = [a.name for a in self.asked if a.indicator.result is Result.DATE]
        return dict.fromkeys([*names, *(f"{n}{DATE_ENDING}" for n in dates)], shape)

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = self.calendar.fill(block)
        lacking = np.stack(
            [np.isnan(values[span.days]).sum(axis=0) for span in self.calendar.spans]
        )
        allowed = self.missing_days.reshape(-1, *(1,) * (lacking.ndim - 1))
        incomplete = lacking > allowed
        results: dict[str, Array] = {}
        for asked in self.asked:
            result = self._of(asked, values)
            result[incomplete] = np.nan
            if asked.indicator.result is Result.DATE:
                results[f"{asked.name}{DATE_ENDING}"] = result + 1.0
                result = self._dates(result)
            results[asked.name] = result
        lost = incomplete & ~np.isnan(values).all(axis=0)
        return results, Counter(lost=int(lost.sum()), of=lost.size)

    def _of(self, asked: Asked, values: Array) -> Array:
        indicator = asked.indicator
        days = Days(
            values,
            self.calendar,
            asked.threshold,
            indicator.side,
            asked.dtype,
            asked.wet,
        )
        result = np.array(indicator.measure(days), dtype=np.float64)
        return result if asked.factor == 1.0 else result * asked.factor

    def _dates(self, days: Array) -> Array:
        """Return days of periods as times in the units of the time axis."""
        firsts = np.array([span.first for span in self.calendar.spans])
        places = days + firsts.reshape(-1, *(1,) * (days.ndim - 1))
        known = ~np.isnan(places)
        dates = np.full(days.shape, np.nan)
        dates[known] = self.calendar.dates[places[known].astype(np.intp)]
        return dates

    def report(self, counts: Counter[str]) -> None:
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} values are missing, since "
                "too many of their days are; --missing-days says how many may be"
            )
