"""Coordinates made of NumPy arrays: numbers with units, dates, and names of places."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.model.axes import Role, is_in_order
from rhodolite.model.ensemble import is_member_dimension
from rhodolite.model.space.axis_cells import check_degrees
from rhodolite.model.time.time_units import counts_from_a_date, plain_time_units
from rhodolite.model.variable import Variable

_POSITIONS: Mapping[str, dict[str, str]] = {
    "lat": {"standard_name": "latitude", "units": "degrees_north", "axis": "Y"},
    "lon": {"standard_name": "longitude", "units": "degrees_east", "axis": "X"},
}
_ALIASES = {"latitude": "lat", "longitude": "lon"}
_STEPS = {
    "days": np.timedelta64(1, "D"),
    "hours": np.timedelta64(1, "h"),
    "seconds": np.timedelta64(1, "s"),
    "milliseconds": np.timedelta64(1, "ms"),
}
"""Units of time, of which the longest that holds all dates exactly is taken."""
_FIRST_GREGORIAN = np.datetime64("1582-10-15")


def make_coordinate(
    name: str,
    values: ArrayLike,
    units: str | None,
    attributes: Mapping[str, Any],
    calendar: str,
) -> Variable:
    """Return a coordinate along a dimension of its own name.

    Parameters
    ----------
    name : str
    values : array_like, shape (n,)
        Numbers, datetime64, dates of cftime, or text.
    units : str, optional
    attributes : mapping of str
    calendar : str
        Of times that are given as numbers.

    Raises
    ------
    DataError
        If it has no units, or no values of a coordinate.
    """
    array = (
        np.ma.filled(values, np.nan) if np.ma.is_masked(values) else np.asarray(values)
    )
    if array.ndim != 1:
        raise DataError(
            f"{name}: a coordinate has one dimension, and this array has {array.ndim}"
        )
    if array.dtype.kind == "M":
        return _make_dates(name, array, attributes)
    if array.dtype.kind == "O" and array.size and hasattr(array[0], "calendar"):
        return _make_calendar_dates(name, array, attributes)
    about = _known_of(name) | dict(attributes)
    if array.dtype.kind in "OUS":
        return Variable(name, (name,), InMemory(array.astype(object)), about)
    if array.dtype.kind not in "fiu":
        raise DataError(
            f"{name}: values are of type {array.dtype}; a coordinate holds numbers"
        )
    if units is not None:
        about["units"] = units
    if "units" not in about:
        raise DataError(
            f"{name}: no units are given; write units={{'{name}': 'hPa'}}, or '1' for a plain "
            "number"
        )
    about["units"] = plain_time_units(str(about["units"]))
    if counts_from_a_date(about["units"]):
        about.setdefault("calendar", calendar)
        about.setdefault("axis", "T")
    data = array.astype(array.dtype.newbyteorder("="))
    return Variable(name, (name,), InMemory(data), about)


def _known_of(name: str) -> dict[str, Any]:
    """Return the attributes of a coordinate that its name tells."""
    if is_member_dimension(name):
        return {"standard_name": "realization", "units": "1"}
    plain = name.lower()
    return dict(_POSITIONS.get(_ALIASES.get(plain, plain), {}))


def check_coordinate(variable: Variable) -> None:
    """Refuse numbers of a coordinate that no operation could use.

    Raises
    ------
    DataError
        If some are missing, stand twice or go up and down.
    """
    name = variable.name
    values = variable.values()
    if values.dtype.kind not in "fiu" or not values.size:
        return
    if not np.isfinite(values).all():
        raise DataError(f"{name}: a value is missing; leave the cells without one out")
    standard_name = str(variable.attributes.get("standard_name", ""))
    numbers = values.astype(np.float64)
    if standard_name in (Role.LATITUDE, Role.LONGITUDE):
        check_degrees(numbers, Role(standard_name), name)
        if standard_name == Role.LONGITUDE:
            numbers = np.unwrap(numbers, period=360.0)
        _refuse_repeated(name, numbers)
        _refuse_unordered(name, numbers)
    elif counts_from_a_date(variable.units or ""):
        _refuse_repeated(name, numbers)


def _refuse_repeated(name: str, numbers: Array) -> None:
    distinct, counts = np.unique(numbers, return_counts=True)
    if (counts > 1).any():
        twice = distinct[np.argmax(counts > 1)]
        raise DataError(
            f"{name}: {twice:g} stands twice; a coordinate names each cell once"
        )


def _refuse_unordered(name: str, numbers: Array) -> None:
    if not is_in_order(numbers):
        raise DataError(
            f"{name}: the values go up and down; put them and the fields in order first, as "
            "numpy.argsort does"
        )


def _make_dates(name: str, dates: Array, attributes: Mapping[str, Any]) -> Variable:
    """Return times of datetime64 as whole numbers of the longest unit that holds them exactly."""
    if np.isnat(dates).any():
        raise DataError(f"{name}: a date is missing (NaT); leave its values out")
    origin = np.datetime64("1970-01-01")
    word, numbers = "milliseconds", (dates - origin) / _STEPS["milliseconds"]
    for longer, step in _STEPS.items():
        counted = (dates - origin) / step
        if np.array_equal(counted, np.round(counted)):
            word, numbers = longer, counted
            break
    early = dates.size and dates.min() < _FIRST_GREGORIAN
    about = {
        "standard_name": "time",
        "units": f"{word} since 1970-01-01",
        "calendar": "proleptic_gregorian" if early else "standard",
        "axis": "T",
        **attributes,
    }
    return Variable(name, (name,), InMemory(numbers.astype(np.float64)), about)


def _make_calendar_dates(
    name: str, dates: Array, attributes: Mapping[str, Any]
) -> Variable:
    """Return times given as dates of any calendar, as the cftime library has them."""
    import cftime

    calendar = dates[0].calendar
    numbers = cftime.date2num(dates, "days since 1970-01-01", calendar=calendar)
    about = {
        "standard_name": "time",
        "units": "days since 1970-01-01",
        "calendar": calendar,
        "axis": "T",
        **attributes,
    }
    return Variable(
        name, (name,), InMemory(np.asarray(numbers, dtype=np.float64)), about
    )
