"""Departures from the mean cycle."""

from __future__ import annotations

import copy
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import (
    Array,
    GroupsOfBlocks,
    KeptDuringVisit,
    LazyArray,
    ReductionResult,
    Region,
    Selected,
    keep_during_visit,
)
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels import anomalies
from rhodolite.model.dataset import Dataset
from rhodolite.model.local_clock import local_offset
from rhodolite.model.time.period_text import Period
from rhodolite.model.units.udunits import has_offset_zero
from rhodolite.model.variable import Variable
from rhodolite.operations.baseline.base_period import (
    BASE_COVERAGE,
    FEWEST_YEARS,
    NORMALS_SOURCE,
    BasePeriod,
)
from rhodolite.operations.baseline.divisors import divisors
from rhodolite.operations.baseline.reference_climatology import (
    ComputedReference,
    Reference,
    StoredReference,
    matched_phases,
)
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.shares import check_coverage, check_years
from rhodolite.operations.parameters.smoothing import Smoothing
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.time_groups.groups import cache_slices
from rhodolite.operations.time_groups.local_time import in_local_time, need_same_clock
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)
from rhodolite.operations.variables.cell_methods import anomaly_attributes


class AnomalyKind(StrEnum):
    """How a departure is expressed."""

    DIFFERENCE = "difference"
    PERCENT = "percent"
    STANDARDISED = "standardised"


_OF_CLOCKS = ("hour", "day", "month+hour")
"""Cycles in which it matters when a day begins."""


@dataclass(frozen=True)
class Anomaly(Operation):
    """Departures from the mean cycle of a base period.

    The normal of a phase is the mean of all its time steps within the base period. `difference`
    is the value minus its normal; `percent` is that difference in percent of the normal;
    `standardised` is the difference divided by the standard deviation of the phase within the
    base period (divisor n - 1). The anomaly is missing where the divisor is 0, or where a
    normal is less than a thousandth of the largest of its cycle. The base period can be taken
    from another dataset, such as the historical run of a model for its projection, or from a
    climatology that was written before.

    Examples
    --------
    >>> Anomaly(base="1991..2020", kind="percent")  # doctest: +SKIP
    """

    base: Period | None = parameter(
        "base period (default: the whole record)", example="1991..2020"
    )
    cycle: Cycle = parameter(
        "the cycle: hour, day, month, season, year, none, or month+hour",
        default=Cycle.MONTH,
        example="CYCLE",
    )
    kind: AnomalyKind = parameter(
        "how the anomaly is expressed", default=AnomalyKind.DIFFERENCE
    )
    smooth: Smoothing | None = parameter(
        "smooth the cycle: width of a centred window, or '3 harmonics'", example="31"
    )
    climatology: OtherDataset | None = parameter(
        "take the climatology from another file: data, or a climatology", example="FILE"
    )
    min_coverage: float = parameter(
        "minimum fraction of valid values in the base period (0 to 1)",
        default=BASE_COVERAGE,
    )
    min_years: int = parameter(
        "minimum number of years in the base period", default=FEWEST_YEARS
    )
    utc_offset: UtcOffset | None = parameter(
        "by how much local time is ahead of UTC, for days of a place", example="+09:00"
    )

    @property
    def needs_all_members(self) -> bool:
        """Whether the normals are those of members, which are matched by name."""
        return self.climatology is not None and self.climatology.has_members

    def check(self) -> None:
        check_coverage(self.min_coverage)
        check_years(self.min_years)
        if self.climatology is not None and self.climatology.variable is not None:
            raise UsageError(
                f"--climatology {self.climatology}: name the file alone; each variable finds its "
                "own in it"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return (NORMALS_SOURCE, *super().sources())

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of departures, on the grid and times of the input.

        Raises
        ------
        DataError
            If there is no time axis, the data are coarser than the cycle, the base is not covered,
            the other dataset does not go with this one, or percent is asked of a quantity without a
            natural zero.
        """
        dataset = in_local_time(dataset, self.utc_offset)
        reference = self._reference(dataset)
        along_time, _ = variables_along_time(dataset)
        results = {
            variable.name: [self._departures(dataset, variable, reference)]
            for variable in along_time
        }
        return dataset.with_variables(put_in_place(dataset, results))

    def _reference(self, dataset: Dataset) -> Reference:
        if self.climatology is None:
            base = BasePeriod.of(
                dataset, self.cycle, self.base, self.min_coverage, self.min_years
            )
            base.need_all_phases()
            return ComputedReference(dataset, base, base.phases, self.smooth)
        other = self.climatology.dataset
        if other.need_time().climatological:
            if self.base or self.smooth:
                raise UsageError(
                    f"--climatology {self.climatology} holds normals already; --base and --smooth "
                    "are for data, and belong to the command that made it"
                )
            if str(self.cycle) in _OF_CLOCKS:
                need_same_clock(dataset, other)
            return StoredReference.of(dataset, other, self.cycle)
        if local_offset(other) is None:
            other = in_local_time(other, self.utc_offset)
        base = BasePeriod.of(
            other, self.cycle, self.base, self.min_coverage, self.min_years
        )
        phases = matched_phases(dataset, other, self.cycle, base.present)
        return ComputedReference(other, base, phases, self.smooth)

    def _departures(
        self, dataset: Dataset, variable: Variable, reference: Reference
    ) -> Variable:
        if (
            self.kind == AnomalyKind.PERCENT
            and variable.units
            and has_offset_zero(variable.units)
        ):
            raise DataError(
                f"{variable.name} is in {variable.units}, an interval scale with an "
                "arbitrary zero, so percent of it is meaningless; use --kind difference or "
                "standardised"
            )
        along = time_axis_of(dataset, variable)
        values = KeptDuringVisit(variable.floats(), along)
        normals, deviations = reference.normals(
            dataset,
            variable.replace(data=values),
            spread=self.kind == AnomalyKind.STANDARDISED,
        )
        scales, label = None, f"{variable.name}, {reference.text}"
        if self.kind == AnomalyKind.PERCENT:
            scales = divisors(normals, label, normals=True)
        elif deviations is not None:
            scales = divisors(deviations, label, normals=False)
        factor = 100.0 if self.kind == AnomalyKind.PERCENT else 1.0
        data = DepartureArray(
            values,
            normals,
            scales,
            factor,
            reference.phases,
            along,
        )
        attributes = anomaly_attributes(
            variable, self.cycle, reference.text, reference.words, self.kind.value
        )
        return variable.derive(data, attributes=attributes)


class DepartureArray(LazyArray):
    """Values less their normals, block by block.

    Parameters
    ----------
    source : LazyArray
    normals : LazyArray, shape (phases, *cells)
    scales : LazyArray or None
        What the differences are divided by, of the shape of the normals.
    factor : float
        What they are multiplied by.
    phases : ndarray of int
        Row of `normals` for each step.
    axis : int
        Where time lies in the source.
    """

    def __init__(
        self,
        source: LazyArray,
        normals: LazyArray,
        scales: LazyArray | None,
        factor: float,
        phases: NDArray[np.int64],
        axis: int,
    ) -> None:
        self._source = source
        self._stored, self._unpack = source.as_stored()
        self._normals = normals
        self._scales = scales
        self._factor = factor
        self._phases = phases
        self._axis = axis
        self.shape = source.shape
        self.dtype = source.dtype
        self.chunks = source.chunks

    def rounded(self, dtype: np.dtype[Any]) -> LazyArray:
        """See `LazyArray.rounded`; the differences themselves are in double precision."""
        same = copy.copy(self)
        same.dtype = dtype
        return same

    def sources(self) -> tuple[LazyArray, ...]:
        return tuple(
            s for s in (self._source, self._normals, self._scales) if s is not None
        )

    @property
    def groups_of_blocks(self) -> GroupsOfBlocks | None:
        """The steps of each phase, where their normal is of the same steps and all that they
        need."""
        if self._scales is not None or not isinstance(self._normals, ReductionResult):
            return None
        base = self._normals.reduction.source
        single = self.chunks is not None and self.chunks[self._axis] == 1
        if not single or self._source not in (base, *base.sources()):
            return None
        order = np.argsort(self._phases, kind="stable")
        edges = np.flatnonzero(np.diff(self._phases[order])) + 1
        groups = np.split(order, edges)
        return GroupsOfBlocks(
            self._axis, groups, self._source, [self._normals.reduction]
        )

    def read(self, region: Region) -> Array:
        phases = self._phases[region[self._axis]]
        if not phases.size:
            return self._source.read(region)
        rows, places = np.unique(phases, return_inverse=True)
        cells = region[: self._axis] + region[self._axis + 1 :]
        numbers = np.moveaxis(self._stored.read(region), self._axis, 0)
        shape, flat = numbers.shape, numbers.reshape(phases.size, -1)
        normals = _rows(self._normals, rows, cells)
        scales = None if self._scales is None else _rows(self._scales, rows, cells)
        out = np.empty(flat.shape, self.dtype)
        for part in cache_slices(flat.shape[1], phases.size + rows.size):
            block = (
                flat[:, part] if self._unpack is None else self._unpack(flat[:, part])
            )
            if scales is None:
                out[:, part] = anomalies.differences(block, normals[:, part], places)
            else:
                out[:, part] = anomalies.scaled(
                    block, normals[:, part], scales[:, part], self._factor, places
                )
        return np.moveaxis(out.reshape(shape), 0, self._axis)


def _rows(normals: LazyArray, rows: NDArray[np.int64], cells: Region) -> Array:
    """Return some rows of normals at some cells, which are computed once during a visit."""
    picked = Selected(normals, [rows, *[None] * (normals.ndim - 1)])
    key = (
        id(normals),
        rows.tobytes(),
        tuple((part.start, part.stop) for part in cells),
    )
    rows_read = keep_during_visit(
        key, lambda: picked.read((slice(0, rows.size), *cells))
    )
    return rows_read.reshape(rows.size, -1)
