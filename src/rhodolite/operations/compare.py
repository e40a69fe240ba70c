"""Two datasets side by side: by how much they differ, where, when and overall."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import (
    Broadcast,
    LazyArray,
    Selected,
    WithoutAxis,
)
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.pairing.cells import counterpart, in_line
from rhodolite.operations.pairing.difference_tables import Contrast, Pair, times
from rhodolite.operations.pairing.ensemble_scores import (
    EnsembleTable,
    ScoredEnsemble,
    quantile_pairs,
)
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.selection.indices import take_steps
from rhodolite.operations.variables.along_time import variables_along_time


@dataclass(frozen=True)
class Compare(Operation):
    """The difference to another dataset: everywhere, by cell over time, by time over the area, and
    overall.

    Differences are this dataset minus the other; ratios and percentages are relative to the
    other. Times are matched by the month, day or year that they represent, the phases of two
    climatologies by their names, and a single time or a map is compared with every time. Units
    are converted to those of this dataset; the grids must be the same. Grid cells are weighted
    by their true area, times by their length. A table for the whole dataset is printed, with a
    column for each member of an ensemble. Members of two ensembles are matched by their names;
    another dataset without members is compared with each.

    `--kind ensemble` scores all members together against one dataset: the continuous ranked
    probability score, spread and error, and how often the other lay between which members. `--kind
    quantiles` sets the quantiles of both over time side by side.

    Examples
    --------
    >>> Compare(with_="observed.nc")  # doctest: +SKIP
    """

    with_: OtherDataset | None = parameter(
        "the other file or pattern; FILE:NAME for another variable",
        example="FILE[:NAME]",
    )

    kind: Contrast = parameter("how the two are compared", default=Contrast.DIFFERENCE)

    prints_result: ClassVar[bool] = True
    """Whether there is something to say in words."""

    @property
    def needs_all_members(self) -> bool:
        """Members are compared side by side, in one table."""
        return True

    def check(self) -> None:
        if self.with_ is None:
            raise UsageError("compare: with what? Add --with FILE")

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of differences and what sums them up.

        Raises
        ------
        DataError
            If cells, times or units do not go together.
        """
        assert self.with_ is not None
        other = self.with_.dataset
        part, steps = _match_times(dataset, other)
        along, others = _to_compare(part)
        results: dict[str, Variable] = {}
        tables: list[Any] = []
        for variable in along:
            its = in_line(
                dataset, variable, other, self._counterpart(variable, other), Role.TIME
            )
            second = _like(part, variable, other, its, steps)
            differences, table = self._differences(part, variable, second, other.label)
            results |= {v.name: v for v in differences}
            tables += table
        axes = [v for v in part.variables.values() if v.name in part.axes.auxiliary]
        remaining = {v.name: v for v in self._left((*others, *axes), part)}
        return part.with_variables(
            [*remaining.values(), *results.values()],
            remarks=(*dataset.remarks, *tables),
        )

    def _counterpart(self, variable: Variable, other: Dataset) -> Variable:
        assert self.with_ is not None
        if self.with_.variable is None:
            return counterpart(variable, other)
        return other[self.with_.variable]

    def _differences(
        self, part: Dataset, variable: Variable, second: LazyArray, label: str
    ) -> tuple[list[Variable], list[Any]]:
        """Return what becomes of a variable, and the table that is printed."""
        if self._of_all_times:
            return self._over_time(part, variable, second, label)
        pair = Pair(part, variable, second, label, self.kind)
        return [pair.difference(), *pair.by_cell(), *pair.by_time()], [pair]

    @property
    def _of_all_times(self) -> bool:
        return self.kind in (Contrast.ENSEMBLE, Contrast.QUANTILES)

    def _left(self, variables: Iterable[Variable], part: Dataset) -> list[Variable]:
        """Return what still describes the results."""
        if not self._of_all_times:
            return list(variables)
        gone = {part.need(Role.TIME).dimension}
        if self.kind is Contrast.ENSEMBLE:
            gone.add(find_member_dimension(part))
        return [v for v in variables if not gone & set(v.dimensions)]

    def _over_time(
        self, part: Dataset, variable: Variable, second: LazyArray, label: str
    ) -> tuple[list[Variable], list[Any]]:
        """Return what there is to say of all times together: scores of an ensemble, or quantiles;
        and the table that is printed."""
        part.need_time()
        if self.kind is Contrast.QUANTILES:
            return quantile_pairs(part, variable, second, label), []
        scores = ScoredEnsemble(part, variable, second, label).variables()
        return scores, [EnsembleTable(part, variable, label, tuple(scores))]


def _match_times(dataset: Dataset, other: Dataset) -> tuple[Dataset, Any]:
    """Return our part of what both have, and the steps of the other; None where it is one map for
    all of ours."""
    ours, theirs = (times(each) for each in (dataset, other))
    if theirs is None or len(theirs) == 1:
        _say_which(dataset, other)
        return dataset, None
    if ours is None:
        raise DataError(
            f"{dataset.label} has no times and {other.label} has {len(theirs):,}; compare the "
            "other way round, or choose or summarise --over time first"
        )
    if ours.climatological or theirs.climatological:
        return dataset, _match_phases(dataset, other)
    matched = MatchedTimes.of(dataset, other)
    picks, steps = matched.pairs(0)
    return take_steps(dataset, picks), steps


def _say_which(dataset: Dataset, other: Dataset) -> None:
    """Say so where single times that differ are compared."""
    axes = [times(each) for each in (dataset, other)]
    labels = [time_labels(a)[0] for a in axes if a is not None and len(a) == 1]
    if len(labels) == 2 and labels[0] != labels[1]:
        warn(
            f"{labels[0]} of {dataset.label} is compared with {labels[1]} of {other.label}"
        )


def _match_phases(dataset: Dataset, other: Dataset) -> Any:
    """Return which phase of the other goes with each of ours, by their names."""
    ours, theirs = (time_labels(each.need_time()) for each in (dataset, other))
    if len(set(ours)) < len(ours) or sorted(ours) != sorted(theirs):
        raise DataError(
            f"{dataset.label} holds {_shown(ours)} and {other.label} {_shown(theirs)}, which do "
            "not correspond; for departures from normals there is anomaly --climatology FILE"
        )
    return np.array([theirs.index(label) for label in ours])


def _shown(labels: list[str]) -> str:
    return labels[0] if len(labels) == 1 else f"{labels[0]} to {labels[-1]}"


def _to_compare(dataset: Dataset) -> tuple[list[Variable], list[Variable]]:
    """Return the variables to compare, those along time where there is an axis of it, and all
    others."""
    if times(dataset) is not None:
        return variables_along_time(dataset)
    fields = [v for v in dataset.fields if v.numeric and v.data.ndim]
    if not fields:
        raise DataError(f"{dataset.label}: there is no variable of numbers to compare")
    return fields, [
        v
        for v in dataset.variables.values()
        if v not in fields and v.name not in dataset.axes.auxiliary
    ]


def _like(
    dataset: Dataset, variable: Variable, other: Dataset, its: Variable, steps: Any
) -> LazyArray:
    """Return the other variable in the units, along the dimensions and at the times of ours."""
    coordinate = other.coordinate(Role.TIME)
    along = (
        its.dimensions.index(coordinate.dimension)
        if coordinate and coordinate.dimension in its.dimensions
        else None
    )
    values: LazyArray = its.floats()
    if steps is None and along is not None:
        values, along = WithoutAxis(values, along), None
    elif along is not None:
        picks: list[Any] = [None] * len(its.shape)
        picks[along] = steps
        values = Selected(values, picks)
    if along is not None or values.ndim == len(variable.dimensions):
        return values
    ours = dataset.coordinate(Role.TIME)
    left = tuple(
        name for name in variable.dimensions if ours is None or name != ours.dimension
    )
    return Broadcast(values, left, variable.dimensions, variable.shape)
