"""The cycles that climate repeats, and their phases."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError, nearest_names
from rhodolite.model.time.period_text import FOUR_SEASONS, MONTH_TITLES
from rhodolite.model.time.sampling import SamplingInterval
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_intervals import date_in_common_year, day_of_common_year
from rhodolite.model.time.time_units import month_start
from rhodolite.model.typed_value import TypedValue

Integers = NDArray[np.int64]
_YEARLY = ("day", "month", "season")
_PARTS = ("hour", *_YEARLY, "year", "none")
_WORDS = {
    "hour": "hourly",
    "day": "daily",
    "month": "monthly",
    "season": "seasonal",
    "year": "annual",
    "none": "overall",
}
_DAYS = {"hour": 1 / 24, "day": 1.0, "month": 31.0, "season": 92.0, "year": 366.0}
_STEP_DAYS = {
    "second": 1 / 86400,
    "minute": 1 / 1440,
    "hour": 1 / 24,
    "day": 1.0,
    "month": 30.0,
    "year": 365.0,
}


@dataclass(frozen=True)
class Cycle(TypedValue):
    """What repeats: the `hour` of the day, the `day` of the year, the `month`, the `season`, the
    `year`
    as a whole, `none`, or two together, such as `month+hour`.

    Days have the same place in every year and calendar; 29 February counts with the 28th.
    """

    parts: tuple[str, ...]

    NONE: ClassVar[Cycle]
    MONTH: ClassVar[Cycle]
    SEASON: ClassVar[Cycle]

    @classmethod
    def parse(cls, text: str) -> Self:
        parts = tuple(part.strip() for part in text.split("+"))
        for part in parts:
            if part not in _PARTS:
                raise ValueError(
                    f"'{part}' is not offered. {nearest_names(part, (*_PARTS, 'month+hour'))}"
                )
        if len(parts) > 1 and (
            len(parts) > 2 or parts[0] not in _YEARLY or parts[1] != "hour"
        ):
            raise ValueError(
                f"'{text}' does not go together; write day+hour, month+hour or season+hour"
            )
        return cls(parts)

    def __str__(self) -> str:
        return "+".join(self.parts)

    @property
    def word(self) -> str:
        """The cycle as an adjective."""
        return " and ".join(_WORDS[part] for part in self.parts)

    @property
    def yearly(self) -> bool:
        """Whether it repeats from year to year."""
        return self.parts[0] not in ("hour", "none")

    @property
    def longer_than(self) -> float:
        """The days of its longest phase; phases of less hold steps of one length."""
        return {"season": 90.0, "year": 360.0, "none": np.inf}.get(self.parts[0], 0.0)

    def size(self, calendar: str) -> int:
        """Return the number of phases in a calendar."""
        sizes = {
            "hour": 24,
            "day": 360 if calendar == "360_day" else 365,
            "month": 12,
            "season": 4,
        }
        return int(np.prod([sizes.get(part, 1) for part in self.parts]))

    def title(self, phase: int, calendar: str) -> str:
        """Return what people call a phase."""
        if self.parts[-1] == "hour":
            before = (
                f"{Cycle(self.parts[:-1]).title(phase // 24, calendar)}, "
                if len(self.parts) > 1
                else ""
            )
            return f"{before}{phase % 24:02d}:00"
        if self.parts == ("day",):
            date = date_in_common_year(phase, 2001, calendar)[0]
            return f"{date.day} {MONTH_TITLES[date.month - 1]}"
        if self.parts == ("month",):
            return MONTH_TITLES[phase]
        return (
            str(FOUR_SEASONS[phase]) if self.parts == ("season",) else "the whole year"
        )

    def phases(self, axis: TimeAxis) -> Integers:
        """Return the phase of each step, counted from 0 (January, or December to February).

        Raises
        ------
        DataError
            If the data are too coarse in time to have the cycle.
        """
        finest = self.parts[-1]
        step = axis.resolution
        if step.unit in _STEP_DAYS and finest != "none" and not _fits(step, finest):
            raise DataError(
                f"the data have one value {step}; a cycle by {finest} needs at least one per "
                f"{finest}"
            )
        codes = np.zeros(len(axis), dtype=np.int64)
        for part in self.parts:
            codes = codes * Cycle((part,)).size(axis.calendar) + _codes(part, axis)
        return codes

    def limits(self, phase: int, year: int, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which a phase begins and has ended, in the year that it belongs
        to."""
        if self.parts[-1] == "hour":
            start, stop = (
                Cycle(self.parts[:-1]).limits(phase // 24, year, calendar)
                if len(self.parts) > 1
                else (month_start(year, 1, calendar), month_start(year, 13, calendar))
            )
            hour, day = datetime.timedelta(hours=phase % 24), datetime.timedelta(days=1)
            return start + hour, stop - day + hour + datetime.timedelta(hours=1)
        if self.parts == ("day",):
            return date_in_common_year(phase, year, calendar)
        if self.parts == ("month",):
            return month_start(year, phase + 1, calendar), month_start(
                year, phase + 2, calendar
            )
        if self.parts == ("season",):
            return month_start(year, 3 * phase, calendar), month_start(
                year, 3 * phase + 3, calendar
            )
        return month_start(year, 1, calendar), month_start(year, 13, calendar)


Cycle.NONE, Cycle.MONTH, Cycle.SEASON = (
    Cycle(("none",)),
    Cycle(("month",)),
    Cycle(("season",)),
)


def _fits(step: SamplingInterval, part: str) -> bool:
    if step.unit == "month" and part in ("month", "season", "year"):
        return step.count <= {"month": 1, "season": 3, "year": 12}[part]
    if step.unit == "year":
        return part == "year" and step.count == 1
    return _STEP_DAYS[step.unit] * step.count <= _DAYS[part] * (
        1 if part != "hour" else 12
    )


def _codes(part: str, axis: TimeAxis) -> Integers:
    if part == "hour":
        return axis.hours
    if part == "day":
        return day_of_common_year(axis)
    if part == "month":
        return axis.months - 1
    return (
        axis.months % 12 // 3
        if part == "season"
        else np.zeros(len(axis), dtype=np.int64)
    )
