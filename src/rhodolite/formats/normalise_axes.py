"""Axes that are not clean: times that are missing or text, years 0, odd calendars, positions
repeated at every time."""

from __future__ import annotations

import re

import numpy as np

from rhodolite.arrays import InMemory, read_small
from rhodolite.errors import warn
from rhodolite.formats.text.dates import parse_date, time_variables
from rhodolite.model.axes import Role, find_role
from rhodolite.model.cf.cell_bounds import why_no_bounds
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.time.calendar_names import NAMED_IN_CF, plain_calendar
from rhodolite.model.time.period_text import Instant
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.variable import Variable

_YEAR_ZERO = re.compile(r"\bsince\s+0{1,4}-", re.IGNORECASE)
_GREGORIAN = ("standard", "gregorian", "none", "")
_REPLACED = {
    "none": "the calendar 'none'",
    "utc": "the calendar 'utc', whose leap seconds are not counted here",
}


def settle_calendar(dataset: Dataset) -> Dataset:
    """Return a dataset whose times are in a calendar that has their reference year, and that there
    is.
    """
    return dataset.with_variables(
        _with_settled_calendar(variable, dataset.label)
        for variable in dataset.variables.values()
    )


def _with_settled_calendar(variable: Variable, label: str) -> Variable:
    units = variable.units or ""
    if not counts_from_a_date(units):
        return variable
    written = str(variable.attributes.get("calendar", ""))
    calendar = written.strip().lower()
    if calendar in _GREGORIAN and _YEAR_ZERO.search(units):
        warn(
            f"{label}: {variable.name} counts from a year 0, which the calendar "
            f"'{calendar or 'standard'}' does not have; the proleptic Gregorian one is taken"
        )
        return variable.edit(calendar="proleptic_gregorian")
    if calendar in _REPLACED:
        warn(
            f"{label}: {variable.name} has {_REPLACED[calendar]}; the standard one is taken"
        )
        return variable.edit(calendar="standard")
    if written and written not in NAMED_IN_CF:
        return variable.edit(calendar=plain_calendar(written))
    return variable


def drop_missing_times(dataset: Dataset) -> Dataset:
    """Return a dataset without the steps whose time is missing."""
    coordinate = dataset.coordinate(Role.TIME)
    if coordinate is None or coordinate.dimension is None:
        return dataset
    known = np.isfinite(coordinate.values)
    if known.all() or not known.any():
        return dataset
    lost = int(np.count_nonzero(~known))
    warn(
        f"{dataset.label}: {lost:,} of {known.size:,} steps have no time ({coordinate.name}) and "
        "are left out"
    )
    return take(dataset, {coordinate.dimension: np.flatnonzero(known)})


def drop_impossible_bounds(dataset: Dataset) -> Dataset:
    """Return a dataset without bounds that do not say where the cells of their coordinate end.

    What is named as bounds and is a coordinate or has units of its own stays, as a variable.
    """
    variables, is_changed = dict(dataset.variables), False
    for variable in dataset.variables.values():
        for key in CELL_BOUNDS:
            bounds = dataset.variables.get(str(variable.attributes.get(key, "")))
            if bounds is None or (why := why_no_bounds(variable, bounds)) is None:
                continue
            warn(
                f"{dataset.label}: {bounds.name} is not taken as the {key} of {variable.name}: "
                f"{why}"
            )
            is_changed = True
            variables[variable.name] = variables[variable.name].edit(key)
            if not bounds.units and bounds.name not in dataset.lengths:
                variables.pop(bounds.name, None)
    return dataset.with_variables(variables.values()) if is_changed else dataset


def read_text_dates(dataset: Dataset) -> Dataset:
    """Return a dataset whose dates in words, such as 2000-01-31_06:00:00, are a time axis, where it
    has no other.
    """
    if dataset.coordinate(Role.TIME) is not None:
        return dataset
    for variable in dataset.variables.values():
        dates = _dates_in(variable, dataset)
        taken = {date.name for date in dates} & (
            dataset.variables.keys() - {variable.name}
        )
        if dates and not taken:
            warn(f"{dataset.label}: the words in {variable.name} are taken as times")
            others = [v for v in dataset.variables.values() if v.name != variable.name]
            return dataset.with_variables([*dates, *others])
    return dataset


def _dates_in(variable: Variable, dataset: Dataset) -> list[Variable]:
    """Return the time axis that a variable of words gives; nothing where one of them is no date."""
    words = variable.data.ndim == 1 and variable.data.dtype.kind in "OUS"
    if not words or not variable.shape[0]:
        return []
    texts = [str(text).strip().replace("_", " ") for text in read_small(variable.data)]
    instants = [date for text in texts if isinstance(date := parse_date(text), Instant)]
    if len(instants) < len(texts):
        return []
    along = variable.dimensions[0]
    time, *bounds = (
        v.replace(dimensions=(along, *v.dimensions[1:]))
        for v in time_variables(instants)
    )
    name = "time" if along in dataset.variables else along
    return [time.replace(name=name), *bounds]


def drop_repeated_positions(dataset: Dataset) -> Dataset:
    """Return a dataset whose latitude and longitude, if repeated at every time, have two dimensions
    only.
    """
    positions: list[Variable] = []
    for variable in dataset.variables.values():
        if (
            variable.data.ndim == 3
            and variable.data.dtype.kind == "f"
            and _is_position(variable)
        ):
            values = read_small(variable.data)
            if values.shape[0] and np.array_equal(
                values, np.broadcast_to(values[:1], values.shape), equal_nan=True
            ):
                variable = variable.replace(
                    dimensions=variable.dimensions[1:], data=InMemory(values[0])
                )
        positions.append(variable)
    return dataset.with_variables(positions)


def _is_position(variable: Variable) -> bool:
    if find_role(variable) in (Role.LATITUDE, Role.LONGITUDE):
        return True
    return variable.name.lower() in ("xlat", "xlong", "xlon")
