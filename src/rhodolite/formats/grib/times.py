"""From the times of fields to coordinates: of what time they are, over which interval, and since
when they are forecast."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.formats.grib.keys import Keys
from rhodolite.model.variable import Variable

_UNITS = {"hours": 3600, "minutes": 60, "seconds": 1}
"""In which times are counted, and their seconds: the first of which all are whole numbers."""
_LAST_YEAR_OF_JULIAN_DATES = 1582
CELL_METHODS = {
    "accum": "sum",
    "avg": "mean",
    "max": "maximum",
    "min": "minimum",
    "sd": "standard_deviation",
    "instant": "point",
}
"""By the kind of step; means of means and others like them begin alike."""


@dataclass(frozen=True, order=True)
class Moment:
    """Of what time a field is.

    Parameters
    ----------
    valid : datetime
        When its interval ends.
    reference : datetime
        Start of its forecast.
    """

    valid: datetime
    reference: datetime

    @classmethod
    def of(cls, keys: Keys) -> Moment:
        reference = datetime.fromisoformat(keys.reference)
        return cls(reference + timedelta(seconds=keys.end), reference)

    @property
    def lead(self) -> timedelta:
        return self.valid - self.reference


def start_of(keys: Keys) -> datetime | None:
    """Return when the interval of a field begins; None where it is of an instant."""
    if keys.start == keys.end or keys.step_kind == "instant":
        return None
    return datetime.fromisoformat(keys.reference) + timedelta(seconds=keys.start)


def cell_method(step_kind: str, comment: str = "") -> str | None:
    """Return how the values of a kind of step stand for their interval, as CF says it."""
    words = (word for kind, word in CELL_METHODS.items() if step_kind.startswith(kind))
    word = next(words, None)
    if word is None:
        return None
    return f"time: {word} (comment: {comment})" if comment else f"time: {word}"


@dataclass(frozen=True)
class TimeAxis:
    """The axis of time of fields, of which no two are of one time.

    Parameters
    ----------
    moments : list of Moment
        In order.
    coordinates : tuple of Variable
    beside : str
        Names of the coordinates that are no dimensions.
    """

    moments: list[Moment]
    coordinates: tuple[Variable, ...]
    beside: str = "forecast_reference_time lead_time"


@dataclass(frozen=True)
class _Count:
    """Times counted in units in which all of them are whole numbers.

    Parameters
    ----------
    day : datetime
        From where is counted.
    unit : str
    """

    day: datetime
    unit: str

    @classmethod
    def of(cls, times: Sequence[datetime]) -> _Count:
        day = min(times).replace(hour=0, minute=0, second=0)
        seconds = {int((time - day).total_seconds()) for time in times}
        unit = next(
            u for u, size in _UNITS.items() if all(s % size == 0 for s in seconds)
        )
        return cls(day, unit)

    def numbers(self, times: Sequence[datetime]) -> Array:
        seconds = [(time - self.day).total_seconds() for time in times]
        return np.array(seconds) / _UNITS[self.unit]

    @property
    def attributes(self) -> dict[str, str]:
        proleptic = self.day.year <= _LAST_YEAR_OF_JULIAN_DATES
        calendar = "proleptic_gregorian" if proleptic else "standard"
        return {"units": f"{self.unit} since {self.day}", "calendar": calendar}


def make_time_axis(
    times: Iterable[Moment], starts: dict[datetime, datetime]
) -> TimeAxis:
    """Return the axis of fields, with the start of their forecasts beside it.

    Parameters
    ----------
    times : iterable of Moment
    starts : dict
        When the interval begins that ends at a time; empty for instants.
    """
    moments = sorted(set(times))
    valid = [moment.valid for moment in moments]
    begins = [starts.get(time, time) for time in valid]
    count = _Count.of([*valid, *begins])
    about = {"standard_name": "time", "long_name": "time", "axis": "T"}
    about |= count.attributes
    coordinates = []
    if starts:
        about["bounds"] = "time_bnds"
        cells = np.stack([count.numbers(begins), count.numbers(valid)], axis=1)
        coordinates.append(Variable("time_bnds", ("time", "bnds"), InMemory(cells)))
    numbers = InMemory(count.numbers(valid))
    coordinates.append(Variable("time", ("time",), numbers, about))
    coordinates.append(_reference_axis([moment.reference for moment in moments]))
    coordinates.append(_lead_axis([moment.lead for moment in moments]))
    return TimeAxis(moments, tuple(coordinates))


def _reference_axis(times: Sequence[datetime]) -> Variable:
    """Return when forecasts start; a single number where it is one."""
    count = _Count.of(times)
    about = {
        "standard_name": "forecast_reference_time",
        "long_name": "start of the forecast",
        **count.attributes,
    }
    numbers, several = count.numbers(times), len(set(times)) > 1
    values = InMemory(numbers if several else numbers[0])
    dimensions = ("time",) if several else ()
    return Variable("forecast_reference_time", dimensions, values, about)


def _lead_axis(leads: Sequence[timedelta]) -> Variable:
    hours = np.array([lead.total_seconds() for lead in leads]) / _UNITS["hours"]
    about = {
        "standard_name": "forecast_period",
        "long_name": "time since the start of the forecast",
        "units": "hours",
    }
    return Variable("lead_time", ("time",), InMemory(hours), about)
