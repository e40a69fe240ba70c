"""Datasets made of NumPy arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import permutations
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, nearest_names
from rhodolite.exchange.coordinates import check_coordinate, make_coordinate
from rhodolite.model.cf.given_attributes import check_given
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.aliases import repair_units
from rhodolite.model.units.known_units import with_known_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.model.variable import Storage, Variable

Names = Sequence[str]
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
        name: make_coordinate(
            name, values, units.get(name), attributes.get(name, {}), calendar
        )
        for name, values in coordinates.items()
    }
    axes = {name: with_known_units(variable) for name, variable in axes.items()}
    for variable in axes.values():
        check_coordinate(variable)
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
