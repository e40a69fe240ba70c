"""Departures from the mean cycle."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.kernels import departures
from rhodolite.model.dataset import Dataset
from rhodolite.model.periods import Period
from rhodolite.model.units import has_offset_zero
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.cycles import Cycle
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.metadata import anomaly_attributes
from rhodolite.operations.normals import BASE_COVERAGE, Base, check_coverage, sort_by_time, time_place


class AnomalyKind(StrEnum):
    """How a departure is expressed."""

    DIFFERENCE = "difference"
    PERCENT = "percent"
    STANDARDISED = "standardised"


@operation
@dataclass(frozen=True)
class Anomaly:
    """Departures from the mean cycle of a base period.

    The normal of a phase is the mean of all its steps within the base period. `difference` is
    the value minus its normal; `percent` is that difference in percent of the normal;
    `standardised` is the difference divided by the standard deviation of the phase's steps in
    the base (divisor n - 1). Where the divisor is 0 the departure is missing.

    Examples
    --------
    >>> Anomaly(base="1991..2020", kind="percent")  # doctest: +SKIP
    """

    base: Period | None = parameter("years that define normal; all by default", example="1991..2020")
    cycle: Cycle = parameter("what repeats from year to year", default=Cycle.MONTH)
    kind: AnomalyKind = parameter("how the departure is expressed", default=AnomalyKind.DIFFERENCE)
    min_coverage: float = parameter("share of the base's values that a normal needs", default=BASE_COVERAGE)

    def check(self) -> None:
        check_coverage(self.min_coverage)

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset of departures, on the grid and times of the input.

        Raises
        ------
        DataError
            If there is no time axis, the data are coarser than the cycle, the base is not covered,
            or percent is asked of a quantity without a natural zero.
        """
        base = Base.of(dataset, self.cycle, self.base, self.min_coverage)
        if (base.phases < 0).any():
            lacking = np.unique(self.cycle.phases(base.axis)[base.phases < 0])
            titles = ", ".join(self.cycle.titles[phase] for phase in lacking)
            raise DataError(f"--base {base.text} holds no values for {titles}, which the data have; widen the base")
        along_time, _ = sort_by_time(dataset)
        left_out = {v.name for v in dataset.data_variables if base.axis.name in v.dimensions}
        made = {variable.name: self._departures(dataset, variable, base) for variable in along_time}
        return dataset.with_variables(
            made.get(name, variable) for name, variable in dataset.variables.items()
            if name in made or name not in left_out
        )  # fmt: skip

    def _departures(self, dataset: Dataset, variable: Variable, base: Base) -> Variable:
        if self.kind == AnomalyKind.PERCENT and variable.units and has_offset_zero(variable.units):
            raise DataError(f"{variable.name} is in {variable.units}, whose zero is arbitrary, so percent of it mean "
                            "nothing; use --kind difference or standardised")  # fmt: skip
        standardised = self.kind == AnomalyKind.STANDARDISED
        divisor = {AnomalyKind.PERCENT: "mean", AnomalyKind.STANDARDISED: "deviation"}.get(self.kind)
        reduction, shape = base.reduction(dataset, variable, squares=standardised, divisor=divisor)
        data = DepartureArray(
            variable.floats(),
            reduction.output("mean", shape),
            reduction.output("deviation", shape) if standardised else None,
            base.phases,
            time_place(dataset, variable),
            self.kind,
        )
        storage = Storage(dtype=variable.storage.dtype, chunks=variable.storage.chunks)
        attributes = anomaly_attributes(variable, base, self.kind.value)
        return variable.with_(data=data, attributes=attributes, storage=storage, missing=None)


class DepartureArray(LazyArray):
    """Values less their normals, block by block.

    Parameters
    ----------
    source : LazyArray
    normals : LazyArray, shape (phases, *cells)
    deviations : LazyArray or None
        Standard deviations, for the standardised kind.
    phases : ndarray of int
        Row of `normals` for each step.
    axis : int
        Where time lies in the source.
    kind : AnomalyKind
    """

    def __init__(
        self,
        source: LazyArray,
        normals: LazyArray,
        deviations: LazyArray | None,
        phases: NDArray[np.int64],
        axis: int,
        kind: AnomalyKind,
    ) -> None:
        self._source = source
        self._normals = normals
        self._deviations = deviations
        self._phases = phases
        self._axis = axis
        self._kind = kind
        self.shape = source.shape
        self.dtype = source.dtype
        self.chunks = source.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return tuple(s for s in (self._source, self._normals, self._deviations) if s is not None)

    def read(self, region: Region) -> Array:
        phases = self._phases[region[self._axis]]
        if not phases.size:
            return self._source.read(region)
        first = int(phases.min())
        cells = region[: self._axis] + region[self._axis + 1 :]
        rows = (slice(first, int(phases.max()) + 1), *cells)
        normals = self._normals.read(rows)
        block = np.moveaxis(self._source.read(region), self._axis, 0)
        if self._deviations is not None:
            out = departures.standardised(block, normals, self._deviations.read(rows), phases - first)
        elif self._kind == AnomalyKind.PERCENT:
            out = departures.percentages(block, normals, phases - first)
        else:
            out = departures.differences(block, normals, phases - first)
        return np.moveaxis(out, 0, self._axis)
