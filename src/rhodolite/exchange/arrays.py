"""Datasets made of NumPy arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import permutations
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.cf.given_attributes import check_given
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import is_member_dimension
from rhodolite.model.space.axis_cells import check_degrees
from rhodolite.model.time.time_units import counts_from_a_date, plain_time_units
from rhodolite.model.units.aliases import repair_units
from rhodolite.model.units.known_units import with_known_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.model.variable import Storage, Variable

Names = Sequence[str]
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
_BOOL_CLASSES: dict[str, Any] = {
    "flag_values": np.array([0, 1], dtype=np.int8),
    "flag_meanings": "false true",
}
_NO_CLASS = np.int8(-1)


def from_arrays(
    fields: Mapping[str, ArrayLike],
    coordinates: Mapping[str, ArrayLike],
    *,
    dimensions: Names | Mapping[str, Names] | None = None,
    units: Mapping[str, str] | None = None,
    attributes: Mapping[str, Mapping[str, Any]] | None = None,
    title: str | None = None,
    calendar: str = "standard",
) -> Dataset:
    """Return a dataset of arrays in memory.

    Parameters
    ----------
    fields : mapping of str to array_like
        The data by name. Masked values and NaN are missing; truth values become classes.
    coordinates : mapping of str to array_like, shape (n,)
        Values along each dimension, in the order of the dimensions. Times are datetime64 or dates
        of cftime, or numbers with units such as ``days since 2000-01-01``.
    dimensions : sequence of str, or mapping of str to sequence of str, optional
        Names of the dimensions of all fields, or of each; by default those of `coordinates`.
    units : mapping of str to str, optional
        UDUNITS units by name of field or coordinate; every field of numbers needs them, ``"1"`` for
        a plain number. Known of latitudes, longitudes and dates.
    attributes : mapping of str to mapping, optional
        More attributes, by name of field or coordinate; those of the dataset by ``""``.
    title : str, optional
    calendar : str
        CF calendar of times that are given as numbers.

    Returns
    -------
    Dataset

    Raises
    ------
    DataError
        If lengths, names or units do not fit together; the message says what would.
    """
    units = dict(units or {})
    attributes = {
        name: check_given(f"attributes of {name or 'the dataset'}", given)
        for name, given in (attributes or {}).items()
    }
    _check_names(fields, coordinates, units, attributes)
    axes = {
        name: with_known_units(
            _make_coordinate(
                name, values, units.get(name), attributes.get(name, {}), calendar
            )
        )
        for name, values in coordinates.items()
    }
    for name, variable in axes.items():
        _check_coordinate(name, variable)
    arrays = [
        _make_field(
            name,
            values,
            _names_for(name, values, axes, dimensions),
            axes,
            units.get(name),
            attributes.get(name, {}),
        )
        for name, values in fields.items()
    ]
    about = {**({"title": title} if title else {}), **attributes.get("", {})}
    described = map(with_known_units, arrays)
    return Dataset({v.name: v for v in (*axes.values(), *described)}, about)


def _check_names(
    fields: Mapping[str, Any],
    coordinates: Mapping[str, Any],
    units: Mapping[str, str],
    attributes: Mapping[str, Any],
) -> None:
    """Refuse names that are taken twice, and units or attributes of what is not there."""
    if not fields:
        raise DataError(
            "no field is given; write from_arrays({'tas': values}, {'time': ...})"
        )
    twice = sorted(set(fields) & set(coordinates))
    if twice:
        raise DataError(
            f"{twice[0]} is given as a field and as a coordinate; rename one of them"
        )
    known = [*fields, *coordinates]
    for what, given in (("units", units), ("attributes", attributes)):
        for name in given:
            if name and name not in known:
                raise DataError(
                    f"{what} are given for '{name}', which is neither a field nor a coordinate. "
                    f"{nearest_names(name, known)}"
                )
    for name, text in units.items():
        meant = repair_units(text, name) or text
        if not (counts_from_a_date(text) or is_unit(meant)):
            raise DataError(f"{name}: UDUNITS does not know the units '{text}'")


def _names_for(
    name: str,
    values: Any,
    axes: Mapping[str, Variable],
    dimensions: Names | Mapping[str, Names] | None,
) -> tuple[str, ...]:
    """Return the names of a field's dimensions."""
    if isinstance(dimensions, Mapping):
        if name in dimensions:
            return tuple(dimensions[name])
    elif dimensions is not None:
        return (dimensions,) if isinstance(dimensions, str) else tuple(dimensions)
    if np.ndim(values) in (0, len(axes)):
        return tuple(axes)[: np.ndim(values)]
    raise DataError(
        f"{name}: the array has {np.ndim(values)} dimensions, and there are {len(axes)} "
        f"coordinates ({', '.join(axes)}); name its own with dimensions={{'{name}': (...)}}"
    )


def _make_field(
    name: str,
    values: ArrayLike,
    dimensions: tuple[str, ...],
    axes: Mapping[str, Variable],
    units: str | None,
    attributes: Mapping[str, Any],
) -> Variable:
    array = np.ma.asarray(values) if np.ma.isMaskedArray(values) else np.asarray(values)
    _check_shape(name, array.shape, dimensions, axes)
    about = dict(attributes)
    if array.dtype.kind == "b":
        return _make_classes(name, array, dimensions, about)
    if array.dtype.kind not in "fiu":
        raise DataError(
            f"{name}: values are of type {array.dtype}; a field holds numbers"
        )
    units = units or about.pop("units", None)
    if units is None and "flag_values" not in about:
        raise DataError(
            f"{name}: no units are given; write units={{'{name}': 'K'}}, or '1' for a plain number"
        )
    about = {**({"units": units} if units else {}), **about}
    if array.dtype.kind == "f":
        floats = array if array.dtype.itemsize >= 4 else array.astype(np.float32)
        data = np.ma.filled(floats, np.nan).astype(floats.dtype.newbyteorder("="))
        return Variable(name, dimensions, InMemory(data), about)
    mark = _free_number(array) if np.ma.is_masked(array) else None
    whole = np.ma.filled(array, mark) if mark is not None else np.ma.getdata(array)
    data = whole.astype(whole.dtype.newbyteorder("="))
    return Variable(
        name, dimensions, InMemory(data), about, Storage(fill_value=mark), mark
    )


def _make_classes(
    name: str, array: Array, dimensions: tuple[str, ...], about: dict[str, Any]
) -> Variable:
    """Return truth values as classes, which CF has no other way to hold."""
    masked = np.ma.is_masked(array)
    data = np.ma.getdata(array).astype(np.int8)
    if masked:
        data = np.where(np.ma.getmaskarray(array), _NO_CLASS, data)
    mark = int(_NO_CLASS) if masked else None
    classes = {**_BOOL_CLASSES, **about}
    return Variable(
        name, dimensions, InMemory(data), classes, Storage(fill_value=mark), mark
    )


def _free_number(array: Array) -> int:
    """Return an integer that no value has, to stand for missing ones."""
    limits = np.iinfo(array.dtype)
    numbers = np.ma.compressed(array)
    for mark in (limits.min, limits.max):
        if not (numbers == mark).any():
            return int(mark)
    present = set(numbers.tolist())
    return next(mark for mark in range(limits.min, limits.max) if mark not in present)


def _check_shape(
    name: str,
    shape: tuple[int, ...],
    dimensions: tuple[str, ...],
    axes: Mapping[str, Variable],
) -> None:
    """Refuse a shape that does not fit the coordinates, and say which order would."""
    unknown = [dimension for dimension in dimensions if dimension not in axes]
    if unknown:
        raise DataError(
            f"{name}: there is no coordinate '{unknown[0]}'. {nearest_names(unknown[0], axes)}"
        )
    if len(shape) != len(dimensions):
        raise DataError(
            f"{name}: the array has {len(shape)} dimensions, and {len(dimensions)} are named "
            f"({', '.join(dimensions)})"
        )
    lengths = tuple(axes[dimension].shape[0] for dimension in dimensions)
    if shape == lengths:
        return
    for order in permutations(range(len(shape))):
        if tuple(lengths[at] for at in order) == shape:
            fits = ", ".join(dimensions[at] for at in order)
            raise DataError(
                f"{name}: the array has the shape {shape}, which fits ({fits}) and not "
                f"({', '.join(dimensions)}); name its dimensions in that order"
            )
    at = next(
        at
        for at, pair in enumerate(zip(shape, lengths, strict=True))
        if pair[0] != pair[1]
    )
    raise DataError(
        f"{name}: {shape[at]} values along {dimensions[at]}, and the coordinate has {lengths[at]}"
    )


def _make_coordinate(
    name: str,
    values: ArrayLike,
    units: str | None,
    attributes: Mapping[str, Any],
    calendar: str,
) -> Variable:
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
    about = dict(_POSITIONS.get(_ALIASES.get(name.lower(), name.lower()), {}))
    if is_member_dimension(name):
        about = {"standard_name": "realization", "units": "1"}
    about |= attributes
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
    return Variable(
        name, (name,), InMemory(array.astype(array.dtype.newbyteorder("="))), about
    )


def _check_coordinate(name: str, variable: Variable) -> None:
    """Refuse numbers of a coordinate that no operation could use."""
    values = variable.values()
    if values.dtype.kind not in "fiu" or not values.size:
        return
    if not np.isfinite(values).all():
        raise DataError(f"{name}: a value is missing; leave the cells without one out")
    standard_name = str(variable.attributes.get("standard_name", ""))
    positions = standard_name in (Role.LATITUDE, Role.LONGITUDE)
    if not positions and not counts_from_a_date(variable.units or ""):
        return
    numbers = values.astype(np.float64)
    if positions:
        check_degrees(numbers, Role(standard_name), name)
        numbers = (
            np.unwrap(numbers, period=360.0)
            if standard_name == Role.LONGITUDE
            else numbers
        )
    distinct, counts = np.unique(numbers, return_counts=True)
    if (counts > 1).any():
        twice = distinct[np.argmax(counts > 1)]
        raise DataError(
            f"{name}: {twice:g} stands twice; a coordinate names each cell once"
        )
    steps = np.diff(numbers)
    if positions and not ((steps > 0).all() or (steps < 0).all()):
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
