"""Whether files can be parts of one dataset, and their stored numbers in one form."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import cftime
import numpy as np

from rhodolite.arrays import Array, Mapped, read_small
from rhodolite.errors import DataError, warn
from rhodolite.formats.conform import same_calendars
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.places import order_all_places
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.variable import Variable


def with_one_mark(parts: list[Variable]) -> list[Variable]:
    """Return integers of several files with one number for what is missing, that none of them holds
    as a value.

    Parameters
    ----------
    parts : list of Variable
        The same variable of several files.
    """
    first = parts[0]
    kinds = {(v.data.dtype, v.missing) for v in parts}
    if len(kinds) == 1:
        return parts
    if any(v.data.dtype.kind not in "iu" for v in parts):
        return [_as_floats_beside(v) for v in parts]
    # A mark of one file may be a value of another, so the mark of all lies beyond their types.
    widest = max(v.data.dtype.itemsize for v in parts)
    if widest == 8:
        return [_as_floats(v) for v in parts]
    dtype = np.dtype(f"i{2 * widest}")
    mark = int(np.iinfo(dtype).min)
    storage = replace(first.storage, dtype=None, fill_value=mark, limits={})
    about = {
        key: dtype.type(value) if key in ("flag_values", "flag_masks") else value
        for key, value in first.attributes.items()
    }
    return [
        v.replace(
            data=Mapped(v.data, _Marked(v.missing, mark, dtype), dtype),
            missing=mark,
            storage=storage,
            attributes=about,
        )
        for v in parts
    ]


def _as_floats_beside(variable: Variable) -> Variable:
    """Return integers as floats, for others that are; they keep how they are stored."""
    if variable.data.dtype.kind not in "iu":
        return variable
    return variable.replace(data=variable.floats(), missing=None)


def _as_floats(variable: Variable) -> Variable:
    """Return the widest integers, beyond which no number is left for a mark, as floats."""
    storage = replace(variable.storage, fill_value=None)
    return variable.replace(data=variable.floats(), missing=None, storage=storage)


@dataclass(frozen=True)
class _Marked:
    """Integers of a wider type, with another number for what is missing."""

    missing: int | None
    mark: int
    dtype: np.dtype[Any]

    def __call__(self, block: Array) -> Array:
        wide = np.array(block, dtype=self.dtype)
        if self.missing is not None:
            wide[np.asarray(block == self.missing)] = self.mark
        return wide


def check_alike(first: Dataset, other: Dataset, along_time: bool) -> None:
    """Refuse datasets whose grids, calendars, units or (unless joined along time) times differ.

    Parameters
    ----------
    first : Dataset
        The first file, whose words count.
    other : Dataset
    along_time : bool
        Whether files follow each other in time.
    """
    pair = f"{first.label} and {other.label} do not fit together:"
    for role in Role:
        ours, theirs = first.coordinate(role), other.coordinate(role)
        if along_time and (ours is None) != (theirs is None):
            raise DataError(
                f"{pair} only {(first if ours else other).label} has a {role} axis"
            )
        if ours is None or theirs is None:
            continue
        there = theirs.values
        if role == Role.TIME:
            _check_calendars(pair, first, other)
            if along_time:
                continue
            there = in_units_of(first.need_time(), other.need_time(), there)
        _need_whole(pair, first, ours)
        _need_whole(pair, other, theirs)
        _check_coordinates(pair, ours, theirs, there)
    _check_fields(pair, first, other)


def with_places_of(first: Dataset, other: Dataset) -> Dataset:
    """Return a dataset whose cells of two-dimensional positions, sites and names along an axis
    stand in the order of another.

    Parameters
    ----------
    first : Dataset
        The first file, whose order counts.
    other : Dataset

    Raises
    ------
    DataError
        If they are other places.
    """
    shared = {name: name for name, _ in first.lengths.items() & other.lengths.items()}
    # Of a copy, so that the positions of thousands of files are not kept.
    orders = order_all_places(first, replace(other), shared)
    if orders is None:
        raise DataError(
            f"{first.label} and {other.label} do not fit together: they lie at other places, or "
            "call them otherwise; regrid --like FILE, extract or subset makes them alike"
        )
    return take(other, orders) if orders else other


def warn_of_other_scalars(datasets: Sequence[Dataset]) -> None:
    """Say which coordinates of a single value, such as the beginning of a forecast, are others in
    files that follow each other, where one of them alone can stand for all.

    Parameters
    ----------
    datasets : sequence of Dataset
        Those of which the first counts, and others with the same variables.
    """
    first = datasets[0]
    for name, variable in first.variables.items():
        is_coordinate = name in first.axes.auxiliary and not variable.dimensions
        if not is_coordinate or "grid_mapping_name" in variable.attributes:
            continue
        value = read_small(variable.data)
        for other in datasets[1:]:
            there = other.variables.get(name)
            if there is None or there.dimensions:
                continue
            another = read_small(there.data)
            if not _are_equal(value, another):
                warn(
                    f"{name} is {value} in {first.label} and {another} in {other.label}, and a "
                    f"dataset has one: that of {first.label} is kept"
                )
                break


def _are_equal(first: Array, second: Array) -> bool:
    is_number = first.dtype.kind == second.dtype.kind == "f"
    return np.array_equal(first, second, equal_nan=is_number)


def _need_whole(pair: str, dataset: Dataset, coordinate: Coordinate) -> None:
    if not np.isfinite(coordinate.values).all():
        raise DataError(
            f"{pair} the {coordinate.role} ({coordinate.name}) of {dataset.label} has missing "
            "values"
        )


def _check_calendars(pair: str, first: Dataset, other: Dataset) -> None:
    if not same_calendars(first, other):
        raise DataError(
            f"{pair} their calendars are {first.need_time().calendar} and "
            f"{other.need_time().calendar}, whose days do not correspond; aggregate --to month and "
            "keep them apart, or use --members"
        )


def _check_coordinates(
    pair: str, ours: Coordinate, theirs: Coordinate, there: Array
) -> None:
    """Refuse coordinates of another name, number or place; `there` are theirs in our units."""
    role = ours.role
    if ours.name != theirs.name:
        raise DataError(
            f"{pair} the {role} is called {ours.name} in one and {theirs.name} in the other; "
            f"annotate --rename {theirs.name}={ours.name} makes them alike"
        )
    if ours.values.size != there.size:
        repair = (
            ""
            if role == Role.TIME
            else "; subset or regrid --like FILE makes them alike"
        )
        raise DataError(
            f"{pair} {ours.name} has {ours.values.size} values in one and {there.size} in the "
            f"other{repair}"
        )
    spacing = np.abs(np.diff(ours.values)).min() if ours.values.size > 1 else 1.0
    differing = np.flatnonzero(
        np.abs(ours.values - there) > JITTER * max(spacing, 1e-12)
    )
    if differing.size:
        at = differing[0]
        repair = "" if role == Role.TIME else "; regrid --like FILE makes them alike"
        raise DataError(
            f"{pair} {ours.name} differs in {differing.size} places, first at number {at + 1}: "
            f"{ours.values[at]:g} and {there[at]:g}{repair}"
        )


def _check_fields(pair: str, first: Dataset, other: Dataset) -> None:
    """Refuse variables of the same name with other dimensions or units."""
    for name, variable in first.variables.items():
        same = other.variables.get(name)
        if same is None:
            continue
        if same.dimensions != variable.dimensions:
            raise DataError(
                f"{pair} {name} has the dimensions {', '.join(variable.dimensions)} in one and "
                f"{', '.join(same.dimensions)} in the other"
            )
        if same.units != variable.units and name not in first.axes.auxiliary:
            raise DataError(
                f"{pair} {name} is in {variable.units} in one and in {same.units} in the "
                f"other{_units_repair(other, same, variable.units)}"
            )


def _units_repair(dataset: Dataset, variable: Variable, units: str | None) -> str:
    """Say what to type so that a variable has other units; nothing where it cannot have them."""
    if units is None or variable.units is None or not can_be_in(variable, units):
        return ""
    words = f"convert {dataset.label} --units '{variable.name}={units}' -o FILE"
    return f"; {words} makes them alike"


def key(axis: TimeAxis) -> tuple[int, ...]:
    date = axis.to_dates(axis.numbers[:1])[0]
    return (date.year, date.month, date.day, date.hour, date.minute, date.second)


def in_units_of(axis: TimeAxis, other: TimeAxis, numbers: Array) -> Array:
    """Return the numbers of another axis in the units of this one."""
    if other.units == axis.units and other.calendar == axis.calendar:
        return numbers
    if (
        other.calendar != axis.calendar
    ):  # the two Gregorian ones, whose dates are the same after 1582
        dates = [
            cftime.datetime(
                *date.timetuple()[:6], date.microsecond, calendar=axis.calendar
            )
            for date in other.to_dates(numbers).reshape(-1)
        ]
        return axis.to_numbers(np.array(dates).reshape(numbers.shape))
    return axis.numbers_of(other, numbers)


def whole_if_exact(numbers: Array, variable: Variable) -> Array:
    """Keep an integer time coordinate an integer where all joined times still are."""
    if variable.data.dtype.kind in "iu" and np.all(numbers == np.round(numbers)):
        return numbers.astype(variable.data.dtype)
    return numbers


JITTER = 1e-4
"""Coordinates may differ by this share of their spacing: the noise of single precision."""
