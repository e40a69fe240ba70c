"""Times that are counted otherwise than by length: as figures of the calendar, or by months."""

from __future__ import annotations

from collections.abc import Mapping

import cftime
import numpy as np

from rhodolite.arrays import Array, InMemory, read_small
from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import (
    counts_months,
    read_time_units,
)
from rhodolite.model.variable import Storage, Variable

_FIGURES = "day as %y%m%d.%f"
_EVEN_MONTHS = "360_day"


def count_days(dataset: Dataset) -> Dataset:
    """Return a dataset whose times count days: figures such as 20010131.5, and calendar months,
    which UDUNITS and other readers take for a twelfth of 365.2425 days."""
    limits = _coordinates_of_limits(dataset)
    changed = [
        _with_days(dataset, variable, limits.get(variable.name))
        for variable in dataset.variables.values()
    ]
    unchanged = zip(changed, dataset.variables.values(), strict=True)
    if all(new is old for new, old in unchanged):
        return dataset
    return dataset.with_variables(changed)


def _coordinates_of_limits(dataset: Dataset) -> Mapping[str, Variable]:
    """Return the coordinate of each variable of bounds, whose units are those of the bounds, too
    (CF 7.1)."""
    return {
        str(variable.attributes[key]): variable
        for variable in dataset.variables.values()
        for key in ("bounds", "climatology")
        if key in variable.attributes
    }


def _with_days(
    dataset: Dataset, variable: Variable, coordinate: Variable | None
) -> Variable:
    """Return a variable in days where it counts otherwise; limits since the date from which their
    coordinate is counted."""
    about = variable if variable.units or coordinate is None else coordinate
    units = about.units or ""
    calendar = str(about.attributes.get("calendar", "standard")).lower()
    if units.lower() == _FIGURES:
        since = f"days since {int(_numbers(about).min() // 10000):04d}-01-01"
        days: Array | None = _days_of_figures(dataset, variable, since, calendar)
    elif counts_months(units) and calendar != _EVEN_MONTHS:
        since = f"days since {units.lower().partition(' since ')[2].strip()}"
        days = _days_of_months(variable, units, since, calendar)
    else:
        return variable
    if days is None:
        return variable
    counted = variable.replace(data=InMemory(days), missing=None, storage=Storage())
    return counted.edit(units=since, calendar=calendar) if variable.units else counted


def _numbers(variable: Variable) -> Array:
    return read_small(variable.floats()).astype(np.float64)


def _days_of_figures(
    dataset: Dataset, variable: Variable, since: str, calendar: str
) -> Array:
    stamps = _numbers(variable)
    days = np.floor(stamps).astype(np.int64)
    try:
        dates = [
            cftime.datetime(
                day // 10000, day // 100 % 100, day % 100, calendar=calendar
            )
            for day in days.flat
        ]
    except ValueError as error:
        raise DataError(
            f"{dataset.label}: {variable.name} holds a number that is not a date: {error}"
        ) from None
    whole = np.asarray(cftime.date2num(dates, since, calendar)).reshape(days.shape)
    return np.asarray(whole + (stamps - days))


def _days_of_months(
    variable: Variable, units: str, since: str, calendar: str
) -> Array | None:
    """Return times in days; None where they cannot be read, which is said where they are needed."""
    numbers = _numbers(variable)
    if not np.isfinite(numbers).all():
        return None
    try:
        ticks = read_time_units(units, calendar).to_ticks(numbers)
        return read_time_units(since, calendar).from_ticks(ticks)
    except (ValueError, DataError):
        return None
