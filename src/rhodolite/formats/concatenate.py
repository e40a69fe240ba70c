"""Several files as one dataset: one after another in time, side by side in variables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

import cftime
import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, Concatenated, InMemory, Mapped, Selected
from rhodolite.errors import DataError
from rhodolite.formats.conform import conform, same_calendars
from rhodolite.formats.normalise_axes import (
    drop_missing_times,
    read_text_dates,
    settle_calendar,
)
from rhodolite.model.axes import Role
from rhodolite.model.cf.common_attributes import common_attributes
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis, format_date
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

Indices = NDArray[np.intp]
_JITTER = 1e-4
"""Coordinates may differ by this share of their spacing: the noise of single precision."""


class Overlap(StrEnum):
    """Which file counts where several hold the same time."""

    FIRST = "first"
    LAST = "last"


def join(datasets: Sequence[Dataset], overlap: Overlap | None = None) -> Dataset:
    """Return the one dataset that several form.

    Files with the same variables are put in order of time; files with other variables are added
    to them.

    Parameters
    ----------
    datasets : sequence of Dataset
    overlap : Overlap, optional
        Which counts where two hold the same stretch of time: the one that begins first or last.
        By default such are refused.

    Raises
    ------
    DataError
        If they do not fit together; the message names the files and what differs.
    """
    if len(datasets) == 1:
        return datasets[0]
    datasets = [
        drop_missing_times(settle_calendar(read_text_dates(dataset))) for dataset in datasets
    ]
    datasets = [datasets[0], *(conform(dataset, datasets[0]) for dataset in datasets[1:])]
    groups: dict[frozenset[str], list[Dataset]] = {}
    for dataset in datasets:
        groups.setdefault(frozenset(v.name for v in dataset.data_variables), []).append(dataset)
    owners: dict[str, Dataset] = {}
    for names, members in groups.items():
        for name in sorted(names):
            if name in owners:
                _refuse_partial_overlap(owners[name], members[0])
            owners[name] = members[0]
    return _merge([_in_time(members, overlap) for members in groups.values()])


def _refuse_partial_overlap(first: Dataset, second: Dataset) -> None:
    here, there = ({v.name for v in d.data_variables} for d in (first, second))
    lacks, name = (second, min(here - there)) if here - there else (first, min(there - here))
    holds = first if lacks is second else second
    raise DataError(
        f"{lacks.label} does not hold the variable '{name}' that {holds.label} holds; files with "
        "variables in common "
        "must hold the same ones"
    )


def _in_time(datasets: list[Dataset], overlap: Overlap | None) -> Dataset:
    """Join datasets with the same variables along time."""
    if len(datasets) == 1:
        return datasets[0]
    first = datasets[0]
    for dataset in datasets[1:]:
        _check_alike(first, dataset, along_time=True)
    axes = [dataset.need_time() for dataset in datasets]
    order = sorted(range(len(datasets)), key=lambda at: _key(axes[at]))
    datasets, axes = [datasets[at] for at in order], [axes[at] for at in order]
    axis = axes[0]
    numbers = [_in_units_of(axis, other, other.numbers) for other in axes]
    if overlap is not None:
        kept = _without_overlap(numbers, overlap)
        datasets = [
            _steps(dataset, steps)
            for dataset, steps in zip(datasets, kept, strict=True)
            if steps.size
        ]
        numbers = [part[steps] for part, steps in zip(numbers, kept, strict=True) if steps.size]
        axes = [dataset.need_time() for dataset in datasets]
    else:
        _refuse_overlap(datasets, numbers, axis)
    joined = _end_to_end(datasets, axes, numbers)
    # A file that counts within the time of another leaves that one in two parts.
    return (
        joined
        if overlap is None
        else _steps(joined, np.argsort(np.concatenate(numbers), kind="stable"))
    )


def _refuse_overlap(datasets: list[Dataset], numbers: list[Array], axis: TimeAxis) -> None:
    """Refuse datasets, sorted by their first time, of which two hold the same stretch of time."""
    for before, after, earlier, later in zip(
        numbers, numbers[1:], datasets, datasets[1:], strict=False
    ):
        if after.min() <= before.max():
            ends = max(before.min(), after.min()), min(before.max(), after.max())
            low, high = (format_date(date) for date in axis.to_dates(np.array(ends)))
            raise DataError(
                f"{earlier.label} and {later.label} both hold times from {low} to {high}; leave "
                "one of "
                "them out, or join them with --overlap first or last"
            )


def _end_to_end(datasets: list[Dataset], axes: list[TimeAxis], numbers: list[Array]) -> Dataset:
    """Return datasets one after another; `numbers` are their times in the units of the first."""
    first, axis = datasets[0], axes[0]
    coordinate = first.need(Role.TIME)
    bounds_name = coordinate.bounds_variable.name if coordinate.bounds_variable else None
    variables = []
    for name, variable in first.variables.items():
        if name == coordinate.name:
            data = InMemory(_whole_if_exact(np.concatenate(numbers), variable))
            variables.append(variable.replace(data=data))
        elif name == bounds_name:
            parts = [
                _in_units_of(axis, other, b)
                for other, d in zip(axes, datasets, strict=True)
                if (b := d.need(Role.TIME).bounds) is not None
            ]
            if len(parts) != len(datasets):
                raise DataError(
                    f"some of {', '.join(d.label for d in datasets)} hold time bounds and others "
                    "do not"
                )
            variables.append(variable.replace(data=InMemory(np.concatenate(parts))))
        elif coordinate.dimension in variable.dimensions:
            along = variable.dimensions.index(str(coordinate.dimension))
            alike = _with_one_mark([d.variables[name] for d in datasets])
            variables.append(
                alike[0].replace(data=Concatenated([part.data for part in alike], along))
            )
        else:
            variables.append(variable)
    files = tuple(file for dataset in datasets for file in dataset.files)
    return first.with_variables(variables, files=files, attributes=common_attributes(datasets))


def _with_one_mark(parts: list[Variable]) -> list[Variable]:
    """Return integers of several files with one number for what is missing, that none of them holds
    as a value."""
    first = parts[0]
    if all(v.data.dtype == first.data.dtype and v.missing == first.missing for v in parts):
        return parts
    if any(v.data.dtype.kind not in "iu" for v in parts):
        return [
            v.replace(data=v.floats(), missing=None) if v.data.dtype.kind in "iu" else v
            for v in parts
        ]
    # A mark of one file may be a value of another, so the mark of all lies beyond their types.
    widest = max(v.data.dtype.itemsize for v in parts)
    if widest == 8:
        return [
            v.replace(data=v.floats(), missing=None, storage=replace(v.storage, fill_value=None))
            for v in parts
        ]
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


def _merge(datasets: list[Dataset]) -> Dataset:
    """Put datasets with different variables side by side."""
    first = datasets[0]
    variables = dict(first.variables)
    for dataset in datasets[1:]:
        _check_alike(first, dataset, along_time=False)
        for name, variable in dataset.variables.items():
            variables.setdefault(name, variable)
    return replace(
        first,
        variables=variables,
        attributes=common_attributes(datasets),
        unlimited=frozenset().union(*(d.unlimited for d in datasets)),
        files=tuple(file for dataset in datasets for file in dataset.files),
    )


def _without_overlap(numbers: list[Array], overlap: Overlap) -> list[Indices]:
    """Return the steps to keep of each dataset so that no stretch of time is held twice."""
    kept = [np.arange(part.size) for part in numbers]
    for later in range(1, len(numbers)):
        for earlier in range(later):
            here, there = numbers[earlier][kept[earlier]], numbers[later][kept[later]]
            if not here.size or not there.size:
                continue
            if overlap is Overlap.FIRST:
                kept[later] = kept[later][(there < here.min()) | (there > here.max())]
            else:
                kept[earlier] = kept[earlier][(here < there.min()) | (here > there.max())]
    return kept


def _steps(dataset: Dataset, steps: Indices) -> Dataset:
    """Return a dataset at some of its times."""
    time = dataset.need(Role.TIME).dimension
    if np.array_equal(steps, np.arange(dataset.sizes[str(time)])):
        return dataset
    return dataset.with_variables(
        v.replace(data=Selected(v.data, [steps if name == time else None for name in v.dimensions]))
        if time in v.dimensions
        else v
        for v in dataset.variables.values()
    )


def _check_alike(first: Dataset, other: Dataset, along_time: bool) -> None:
    """Refuse datasets whose grids, calendars, units or (unless joined along time) times differ."""
    pair = f"{first.label} and {other.label} do not fit together:"
    for role in Role:
        ours, theirs = first.coordinate(role), other.coordinate(role)
        if ours is None and theirs is None:
            continue
        if ours is None or theirs is None:
            if along_time:
                raise DataError(f"{pair} only {(first if ours else other).label} has a {role} axis")
            continue
        if role == Role.TIME:
            calendars = first.need_time().calendar, other.need_time().calendar
            if not same_calendars(first, other):
                raise DataError(
                    f"{pair} their calendars are {calendars[0]} and {calendars[1]}, whose days do "
                    "not "
                    "correspond; aggregate --to month and keep them apart, or use --members"
                )
            if along_time:
                continue
        for dataset, one in ((first, ours), (other, theirs)):
            if not np.isfinite(one.values).all():
                raise DataError(
                    f"{pair} the {role} ({one.name}) of {dataset.label} has missing values"
                )
        if ours.name != theirs.name:
            raise DataError(
                f"{pair} the {role} is called {ours.name} in one and {theirs.name} in the other; "
                f"annotate --rename {theirs.name}={ours.name} makes them alike"
            )
        there = theirs.values
        if role == Role.TIME:
            there = _in_units_of(first.need_time(), other.need_time(), there)
        if ours.values.size != there.size:
            mend = "" if role == Role.TIME else "; subset or regrid --like FILE makes them alike"
            raise DataError(
                f"{pair} {ours.name} has {ours.values.size} values in one and {there.size} in the "
                f"other{mend}"
            )
        spacing = np.abs(np.diff(ours.values)).min() if ours.values.size > 1 else 1.0
        differing = np.flatnonzero(np.abs(ours.values - there) > _JITTER * max(spacing, 1e-12))
        if differing.size:
            at = differing[0]
            mend = "" if role == Role.TIME else "; regrid --like FILE makes them alike"
            raise DataError(
                f"{pair} {ours.name} differs in {differing.size} places, first at number {at + 1}: "
                f"{ours.values[at]:g} and {there[at]:g}{mend}"
            )
    for name, variable in first.variables.items():
        same = other.variables.get(name)
        if same is None:
            continue
        if same.dimensions != variable.dimensions:
            raise DataError(
                f"{pair} {name} runs over {', '.join(variable.dimensions)} in one and "
                f"{', '.join(same.dimensions)} in the other"
            )
        if same.units != variable.units and name not in first.axes.auxiliary:
            fits = variable.units and same.units and convertible(variable.units, same.units)
            mend = f"; convert --units '{name}={variable.units}' makes them alike" if fits else ""
            raise DataError(
                f"{pair} {name} is in {variable.units} in one and in {same.units} in the "
                f"other{mend}"
            )


def _key(axis: TimeAxis) -> tuple[int, ...]:
    date = axis.to_dates(axis.numbers[:1])[0]
    return (date.year, date.month, date.day, date.hour, date.minute, date.second)


def _in_units_of(axis: TimeAxis, other: TimeAxis, numbers: Array) -> Array:
    """Return the numbers of another axis in the units of this one."""
    if other.units == axis.units and other.calendar == axis.calendar:
        return numbers
    if (
        other.calendar != axis.calendar
    ):  # the two Gregorian ones, whose dates are the same after 1582
        dates = [
            cftime.datetime(*date.timetuple()[:6], date.microsecond, calendar=axis.calendar)
            for date in other.to_dates(numbers).reshape(-1)
        ]
        return axis.to_numbers(np.array(dates).reshape(numbers.shape))
    return axis.numbers_of(other, numbers)


def _whole_if_exact(numbers: Array, variable: Variable) -> Array:
    """Keep an integer time coordinate an integer where all joined times still are."""
    if variable.data.dtype.kind in "iu" and np.all(numbers == np.round(numbers)):
        return numbers.astype(variable.data.dtype)
    return numbers
