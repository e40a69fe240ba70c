"""Datasets as the members of an ensemble: side by side along a dimension of their own."""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from pathlib import PurePath

import numpy as np

from rhodolite.arrays import InMemory, Selected, Stacked
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.actual_range import without_old_ranges
from rhodolite.model.cf.common_attributes import common_attributes
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.operations.pairing.cells import counterpart, in_line
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.variables.references import list_coordinate

DIMENSION, LABEL = "member", "member_name"
_WILDCARDS = re.compile(r"[*?\[\]]+|\{[^}]*\}")


def stack_members(datasets: Sequence[Dataset], names: Sequence[str]) -> Dataset:
    """Return datasets on one grid as the members of one, with times that all of them have.

    Times are matched by the month, day or year that they stand for, so calendars may differ for
    months and years; those of the result are the first member's. Values are in the units of the
    first.

    Parameters
    ----------
    datasets : sequence of Dataset
    names : sequence of str
        Names of the members.

    Raises
    ------
    DataError
        If grids, times or units do not go together.
    """
    first = datasets[0]
    if len(datasets) == 1:
        raise DataError(
            f"{first.label}: a single member is not an ensemble; name several files with --members"
        )
    steps = _common_steps(datasets)
    members: list[Variable] = []
    for variable in first.variables.values():
        if variable.name in first.axes.auxiliary or not variable.numeric:
            members.append(_at_steps(first, variable, steps[0]))
            continue
        parts = []
        for dataset, picks in zip(datasets, steps, strict=True):
            its = counterpart(variable, dataset)
            if dataset is not first:
                its = _in_line(first, variable, dataset, its)
            parts.append(_at_steps(dataset, its, picks).floats())
        both = variable.replace(
            dimensions=(DIMENSION, *variable.dimensions),
            data=Stacked(parts),
            missing=None,
        )
        members.append(list_coordinate(both, LABEL))
    described = [
        Variable(
            DIMENSION,
            (DIMENSION,),
            InMemory(np.arange(1, len(datasets) + 1, dtype=np.int32)),
            {
                "standard_name": "realization",
                "long_name": "member of the ensemble",
                "units": "1",
            },
        ),
        Variable(
            LABEL,
            (DIMENSION,),
            InMemory(np.array(names, dtype=object)),
            {"long_name": "name of the member"},
        ),
    ]
    files = tuple(dict.fromkeys(file for dataset in datasets for file in dataset.files))
    ensemble = first.with_variables(
        [*described, *members], files=files, attributes=common_attributes(datasets)
    )
    return without_old_ranges(datasets, ensemble)


def member_names(inputs: Sequence[str]) -> list[str]:
    """Return short names for inputs: those of the files, without suffix, wildcards and what all
    begin or end with.

    Examples
    --------
    >>> member_names(["runs/pyrope_*.nc", "runs/almandine_*.nc"])
    ['pyrope', 'almandine']
    """
    names = [_WILDCARDS.sub("", PurePath(text).stem).strip("_-. ") for text in inputs]
    words = [re.split(r"[_\W]+", name) for name in names]
    while _have_in_common(words, 0):
        words = [parts[1:] for parts in words]
    while _have_in_common(words, -1):
        words = [parts[:-1] for parts in words]
    return ["_".join(parts) for parts in words]


def _have_in_common(words: list[list[str]], place: int) -> bool:
    """Return whether all have the same first or last word, and others besides."""
    if len(words) < 2 or any(len(parts) < 2 for parts in words):
        return False
    return len({parts[place] for parts in words}) == 1


def _common_steps(datasets: Sequence[Dataset]) -> list[np.ndarray | None]:
    """Return for each dataset the steps that all of them have; None for all, where there is no time
    axis."""
    first = datasets[0]
    coordinate = first.coordinate(Role.TIME)
    if coordinate is None or coordinate.dimension is None:
        return [None] * len(datasets)
    matched = [MatchedTimes.of(first, other) for other in datasets[1:]]
    shared = functools.reduce(np.intersect1d, [m.pairs(0)[0] for m in matched])
    if not shared.size:
        raise DataError("the members have no time in common")
    steps: list[np.ndarray | None] = [shared]
    for times_of_member in matched:
        ours, theirs = times_of_member.pairs(0)
        steps.append(theirs[np.searchsorted(ours, shared)])
    return steps


def _at_steps(
    dataset: Dataset, variable: Variable, picks: np.ndarray | None
) -> Variable:
    coordinate = dataset.coordinate(Role.TIME)
    if (
        picks is None
        or coordinate is None
        or coordinate.dimension not in variable.dimensions
    ):
        return variable
    along = [
        picks if name == coordinate.dimension else None for name in variable.dimensions
    ]
    return variable.replace(data=Selected(variable.data, along))


def _in_line(
    first: Dataset, variable: Variable, other: Dataset, its: Variable
) -> Variable:
    """Return a variable of another member in the units and on the cells of the first."""
    if variable.data.ndim != its.data.ndim:
        raise DataError(
            f"{variable.name} has {variable.data.ndim} axes in {first.label} and {its.data.ndim} "
            f"in {other.label}"
        )
    if its.units and variable.units and its.units != variable.units:
        warn(
            f"{its.name}: members are in {its.units} and {variable.units}; all were turned into "
            f"{variable.units}"
        )
    try:
        return in_line(first, variable, other, its, Role.TIME)
    except DataError as error:
        raise DataError(
            f"{error}: regrid --to 2.5 before them makes members of any grids alike"
        ) from None
