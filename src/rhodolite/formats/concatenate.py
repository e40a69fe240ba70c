"""Several files as one dataset: one after another in time, side by side in variables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, Concatenated, InMemory, Selected
from rhodolite.errors import DataError
from rhodolite.formats.alike import (
    check_alike,
    in_units_of,
    key,
    warn_of_other_scalars,
    whole_if_exact,
    with_one_mark,
    with_places_of,
)
from rhodolite.formats.conform import conform
from rhodolite.formats.join_uniform import join_like_the_first
from rhodolite.formats.normalise import understand_words
from rhodolite.formats.understood_times import understand_times
from rhodolite.model.axes import Role
from rhodolite.model.cf.actual_range import without_old_ranges
from rhodolite.model.cf.common_attributes import common_attributes
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable

Indices = NDArray[np.intp]


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
    if overlap is None and (joined := join_like_the_first(datasets)) is not None:
        return understand_times(joined)
    datasets = [understand_times(understand_words(dataset)) for dataset in datasets]
    datasets = [
        datasets[0],
        *(conform(dataset, datasets[0]) for dataset in datasets[1:]),
    ]
    groups: dict[frozenset[str], list[Dataset]] = {}
    for dataset in datasets:
        groups.setdefault(frozenset(v.name for v in dataset.fields), []).append(dataset)
    owners: dict[str, Dataset] = {}
    for names, members in groups.items():
        for name in sorted(names):
            if name in owners:
                _refuse_partial_overlap(owners[name], members[0])
            owners[name] = members[0]
    return _merge([_in_time(members, overlap) for members in groups.values()])


def _refuse_partial_overlap(first: Dataset, second: Dataset) -> None:
    here, there = ({v.name for v in d.fields} for d in (first, second))
    lacks, name = (
        (second, min(here - there)) if here - there else (first, min(there - here))
    )
    holds = first if lacks is second else second
    raise DataError(
        f"{lacks.label} does not hold the variable '{name}' that {holds.label} holds; files with "
        f"variables in common must hold the same ones: subset {holds.label} --variable "
        f"{','.join(sorted(here & there))} -o FILE leaves it out"
    )


def _in_time(datasets: list[Dataset], overlap: Overlap | None) -> Dataset:
    """Join datasets with the same variables along time."""
    if len(datasets) == 1:
        return datasets[0]
    first = datasets[0]
    for dataset in datasets[1:]:
        check_alike(first, dataset, along_time=True)
    datasets = [first, *(with_places_of(first, dataset) for dataset in datasets[1:])]
    warn_of_other_scalars(datasets)
    datasets = sorted(datasets, key=lambda dataset: key(dataset.need_time()))
    axes = [dataset.need_time() for dataset in datasets]
    axis = axes[0]
    numbers = [in_units_of(axis, other, other.numbers) for other in axes]
    if overlap is None:
        _refuse_overlap(datasets, numbers, axis)
        return _end_to_end(datasets, axes, numbers)
    parts = [
        (_steps(dataset, steps), part[steps])
        for dataset, part, steps in zip(
            datasets, numbers, _without_overlap(numbers, overlap), strict=True
        )
        if steps.size
    ]
    datasets, numbers = [part for part, _ in parts], [part for _, part in parts]
    axes = [dataset.need_time() for dataset in datasets]
    joined = _end_to_end(datasets, axes, numbers)
    # A file that counts within the time of another leaves that one in two parts.
    return _steps(joined, np.argsort(np.concatenate(numbers), kind="stable"))


def _refuse_overlap(
    datasets: list[Dataset], numbers: list[Array], axis: TimeAxis
) -> None:
    """Refuse datasets, sorted by their first time, of which two hold the same stretch of time."""
    for before, after, earlier, later in zip(
        numbers, numbers[1:], datasets, datasets[1:], strict=False
    ):
        if after.min() <= before.max():
            ends = max(before.min(), after.min()), min(before.max(), after.max())
            low, high = (format_date(date) for date in axis.to_dates(np.array(ends)))
            raise DataError(
                f"{earlier.label} and {later.label} both hold times from {low} to {high}; leave "
                "one of them out, or join them with --overlap first or last"
            )


def _refuse_bounds_of_some(datasets: list[Dataset]) -> None:
    without = [d.label for d in datasets if d.need(Role.TIME).bounds_variable is None]
    if without and len(without) < len(datasets):
        raise DataError(
            f"{without[0]} has no bounds of time, and others have; give it some, from where in "
            f"its step each time lies: convert {without[0]} --stamp start -o FILE (or middle, end)"
        )


def _end_to_end(
    datasets: list[Dataset], axes: list[TimeAxis], numbers: list[Array]
) -> Dataset:
    """Return datasets one after another; `numbers` are their times in the units of the first."""
    _refuse_bounds_of_some(datasets)
    first, axis = datasets[0], axes[0]
    coordinate = first.need(Role.TIME)
    bounds_name = (
        coordinate.bounds_variable.name if coordinate.bounds_variable else None
    )
    variables = []
    for name, variable in first.variables.items():
        if name == coordinate.name:
            data = InMemory(whole_if_exact(np.concatenate(numbers), variable))
            variables.append(variable.replace(data=data))
        elif name == bounds_name:
            parts = [
                in_units_of(axis, other, b)
                for other, d in zip(axes, datasets, strict=True)
                if (b := d.need(Role.TIME).bounds) is not None
            ]
            variables.append(variable.replace(data=InMemory(np.concatenate(parts))))
        elif coordinate.dimension in variable.dimensions:
            along = variable.dimensions.index(str(coordinate.dimension))
            alike = with_one_mark([d.variables[name] for d in datasets])
            variables.append(
                alike[0].replace(
                    data=Concatenated([part.data for part in alike], along)
                )
            )
        else:
            variables.append(variable)
    files = tuple(file for dataset in datasets for file in dataset.files)
    whole = first.with_variables(
        variables, files=files, attributes=common_attributes(datasets)
    )
    return without_old_ranges(datasets, whole)


def _merge(datasets: list[Dataset]) -> Dataset:
    """Put datasets with different variables side by side."""
    first = datasets[0]
    variables = dict(first.variables)
    for dataset in datasets[1:]:
        check_alike(first, dataset, along_time=False)
        dataset = with_places_of(first, dataset)
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
    picks = [np.arange(part.size) for part in numbers]
    for later in range(1, len(numbers)):
        for earlier in range(later):
            here, there = numbers[earlier][picks[earlier]], numbers[later][picks[later]]
            if not here.size or not there.size:
                continue
            if overlap is Overlap.FIRST:
                picks[later] = picks[later][(there < here.min()) | (there > here.max())]
            else:
                picks[earlier] = picks[earlier][
                    (here < there.min()) | (here > there.max())
                ]
    return picks


def _steps(dataset: Dataset, steps: Indices) -> Dataset:
    """Return a dataset at some of its times."""
    time = dataset.need(Role.TIME).dimension
    if np.array_equal(steps, np.arange(dataset.lengths[str(time)])):
        return dataset

    def chosen(variable: Variable) -> Variable:
        if time not in variable.dimensions:
            return variable
        picks = [steps if name == time else None for name in variable.dimensions]
        return variable.replace(data=Selected(variable.data, picks))

    return dataset.with_variables(chosen(v) for v in dataset.variables.values())
