"""What departures are taken from: normals of the data themselves, of other data, or written
before."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Aligned, LazyArray, Selected
from rhodolite.errors import DataError
from rhodolite.kernels.grouped_statistics import Mean, Spread
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.operations.baseline.base_period import BasePeriod
from rhodolite.operations.baseline.smooth_normals import check_smoothing, smooth_cycle
from rhodolite.operations.pairing.cells import counterpart, in_line
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.smoothing import Smoothing
from rhodolite.operations.variables.along_time import time_axis_of

_LENGTHS = {
    12: "month",
    4: "season",
    365: "day",
    360: "day",
    24: "hour",
    1: "none",
    288: "month+hour",
}
"""The cycle that a climatology of so many steps holds."""


class Reference(Protocol):
    """Where normals come from."""

    @property
    def phases(self) -> NDArray[np.int64]: ...
    @property
    def text(self) -> str: ...
    @property
    def words(self) -> str: ...
    def normals(
        self, dataset: Dataset, variable: Variable, *, spread: bool
    ) -> tuple[LazyArray, LazyArray | None]:
        """Return normals and, where asked for, standard deviations, shape (phases, *cells)."""


@dataclass(frozen=True, eq=False)
class ComputedReference:
    """Normals of a base period of some data.

    Parameters
    ----------
    data : Dataset
        Which may be the one whose departures are wanted.
    base : BasePeriod
    phases : ndarray of int
        Row of the normals for each step whose departure is wanted.
    smooth : Smoothing, optional
    """

    data: Dataset
    base: BasePeriod
    phases: NDArray[np.int64]
    smooth: Smoothing | None

    @property
    def text(self) -> str:
        return self.base.text

    @property
    def words(self) -> str:
        return self.base.words

    def normals(
        self, dataset: Dataset, variable: Variable, *, spread: bool
    ) -> tuple[LazyArray, LazyArray | None]:
        its = _match_variable(dataset, variable, self.data)
        reduction, _, shape = self.base.reduction(
            self.data, its, Spread() if spread else Mean()
        )
        mean: LazyArray = reduction.output("mean" if spread else "value", shape)
        deviation: LazyArray | None = (
            reduction.output("deviation", shape) if spread else None
        )
        if self.smooth is not None:
            check_smoothing(self.smooth, self.base)
            mean = smooth_cycle(self.smooth, mean)
            deviation = (
                None if deviation is None else smooth_cycle(self.smooth, deviation)
            )
        return mean, deviation


@dataclass(frozen=True, eq=False)
class StoredReference:
    """Normals that were written before. Parameters as for `ComputedReference`."""

    data: Dataset
    rows: NDArray[np.int64]
    phases: NDArray[np.int64]
    text: str

    @property
    def words(self) -> str:
        return self.text.replace("..", " to ")

    @classmethod
    def of(cls, dataset: Dataset, other: Dataset, cycle: Cycle) -> StoredReference:
        """Find the normals for each step of a dataset in another.

        Raises
        ------
        DataError
            If the other holds another cycle, or lacks a phase.
        """
        axis = other.need_time()
        own_cycle = _LENGTHS.get(len(axis))
        if own_cycle != str(cycle) and not (
            len(axis) == 1 and cycle.size(axis.calendar) == 1
        ):
            there = (
                f"{len(axis)} phases"
                if own_cycle is None
                else f"a {Cycle.parse(own_cycle).word} cycle"
            )
            raise DataError(
                f"{other.label} holds {there}, not a {cycle.word} one"
                + (f"; add --cycle {own_cycle}" if own_cycle else "")
            )
        codes = (
            np.argsort(np.argsort(axis.middles))
            if cycle.size(axis.calendar) == len(axis)
            else cycle.phases(axis)
        )
        order = np.argsort(codes)
        ends = (
            [""]
            if axis.bounds is None
            else sorted({str(date.year) for date in _first_and_last(other)})
        )
        phases = matched_phases(dataset, other, cycle, np.sort(codes))
        return cls(
            other,
            order,
            phases,
            "..".join([ends[0], ends[-1]]) if len(ends) > 1 else ends[0],
        )

    def normals(
        self, dataset: Dataset, variable: Variable, *, spread: bool
    ) -> tuple[LazyArray, LazyArray | None]:
        its = _match_variable(dataset, variable, self.data)
        if spread:
            raise DataError(
                f"{self.data.label} holds normals without standard deviations, which --kind "
                "standardised needs; name the data that they were made from"
            )
        along = time_axis_of(self.data, its)
        order = (along, *(axis for axis in range(its.data.ndim) if axis != along))
        names = tuple(its.dimensions[axis] for axis in order)
        shape = tuple(its.shape[axis] for axis in order)
        phases_first = Aligned(its.floats(), its.dimensions, names, shape)
        picked: LazyArray = Selected(
            phases_first, [self.rows, *[None] * (len(its.shape) - 1)]
        )
        return picked, None


def matched_phases(
    dataset: Dataset, other: Dataset, cycle: Cycle, present: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return, for each step of a dataset, the row of its phase among those that another one has.

    Parameters
    ----------
    dataset, other : Dataset
    cycle : Cycle
    present : ndarray of int64
        Phases that the reference has, in order.

    Raises
    ------
    DataError
        If a phase is not there, or the calendars count days differently.
    """
    axis, calendar = dataset.need_time(), other.need_time().calendar
    if cycle.size(axis.calendar) != cycle.size(calendar):
        raise DataError(
            f"{dataset.label} has the calendar {axis.calendar} and {other.label} {calendar}, whose "
            "days of the year do not correspond; use --cycle month"
        )
    codes = cycle.phases(axis)
    rows = np.minimum(np.searchsorted(present, codes), present.size - 1)
    lacking = np.unique(codes[present[rows] != codes])
    if lacking.size:
        titles = ", ".join(
            cycle.title(int(phase), axis.calendar) for phase in lacking[:12]
        )
        raise DataError(
            f"{other.label} holds no values for {titles}, which {dataset.label} has"
        )
    return rows


def _match_variable(dataset: Dataset, variable: Variable, data: Dataset) -> Variable:
    """Return the variable of the data that goes with one, in its units and on its cells."""
    if data is dataset:
        return variable
    return in_line(dataset, variable, data, counterpart(variable, data), Role.TIME)


def _first_and_last(dataset: Dataset) -> list[Any]:
    import datetime

    axis = dataset.need_time()
    assert axis.bounds is not None
    first, last = axis.to_dates(np.array([axis.bounds.min(), axis.bounds.max()]))
    return [first, last - datetime.timedelta(days=1)]
