"""Data without their trend."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import (
    Array,
    Engine,
    FirstAxisMoved,
    LazyArray,
    Mapped,
    Reduction,
    SeriesKernel,
)
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.polynomial_fit import fit_polynomial
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.trends.spec import LEAST_SQUARES_SOURCE
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)

_FEWEST_STEPS = 3


@dataclass(frozen=True)
class Detrend(Operation):
    """Data without their trend, cell by cell.

    A line, or a parabola with `--order 2`, is fitted to decimal years by least squares and
    subtracted. The residuals have mean 0 unless `--keep-mean` adds the mean back. With `--cycle
    month` each month has its own trend and mean. The largest remaining slope is reported at the
    end, as a check that it is zero.

    Examples
    --------
    >>> Detrend(keep_mean=True)  # doctest: +SKIP
    """

    order: int = parameter("1 for a line, 2 for a parabola", default=1)
    keep_mean: bool = parameter("add the mean back", default=False)
    cycle: Cycle = parameter(
        "fit each phase of a cycle separately: month, season, day or hour",
        default=Cycle.NONE,
        example="CYCLE",
    )

    def check(self) -> None:
        if self.order not in (1, 2):
            raise UsageError(
                f"--order: '{self.order}' is not offered; write 1 for a line or 2 for a parabola"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return (LEAST_SQUARES_SOURCE,)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset on the grid and times of the input.

        Raises
        ------
        DataError
            If there is no time axis, or a phase has fewer than three steps.
        """
        axis = dataset.need_years()
        phases = self.cycle.phases(axis)
        _, places, counts = np.unique(phases, return_inverse=True, return_counts=True)
        if counts.min() < _FEWEST_STEPS:
            raise DataError(
                f"{dataset.label}: a trend needs at least {_FEWEST_STEPS} times"
                f"{'' if self.cycle == Cycle.NONE else f' in each {self.cycle}'}, and there are "
                f"{counts.min()}"
            )
        along_time, _ = variables_along_time(dataset)
        results, remarks = {}, list(dataset.remarks)
        for variable in along_time:
            along = time_axis_of(dataset, variable)
            reduction = Reduction(
                variable.floats(),
                series=_Rest(
                    along, axis.decimal_years, places, self.order, self.keep_mean
                ),
            )
            cells = (*variable.shape[:along], *variable.shape[along + 1 :])
            rest = FirstAxisMoved(reduction.output("value", (len(axis), *cells)), along)
            results[variable.name] = [self._describe(variable, rest)]
            remarks.append(_SlopeLeft(variable, reduction.output("left", cells)))
        return dataset.with_variables(
            put_in_place(dataset, results), remarks=tuple(remarks)
        )

    def _describe(self, variable: Variable, rest: LazyArray) -> Variable:
        what = "line" if self.order == 1 else "parabola"
        each = "" if self.cycle == Cycle.NONE else f" of each {self.cycle}"
        mean = "kept" if self.keep_mean else "taken away too"
        about = {
            "long_name": f"{variable.quantity} without its trend",
            "comment": f"{what}{each} by least squares taken away, mean {mean}",
        }
        if self.keep_mean:
            return variable.derive(rest).edit(**about)
        # Without its mean a temperature is a difference, in kelvin and not in degrees.
        factor, units = of_differences(variable.units)
        if factor != 1.0:
            rest = Mapped(rest, Rescaling(factor, 0.0), "f8")
        about |= describe_units(units, difference=True)
        changed = variable.derive(rest).edit("standard_name", "units_metadata")
        return changed.edit(**about)


@dataclass
class _Rest(SeriesKernel):
    axis: int
    years: Array
    phases: NDArray[np.intp]
    order: int
    keep_mean: bool

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {
            "value": ((len(self.years),), np.dtype("f8")),
            "left": ((), np.dtype("f8")),
        }

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        rest = np.full(block.shape, np.nan)
        left = np.zeros(block.shape[1:])
        for phase in range(int(self.phases.max()) + 1):
            members = self.phases == phase
            values, years = block[members].astype(np.float64), self.years[members]
            fit = fit_polynomial(years, values, self.order)
            part = fit.residuals
            again = np.abs(fit_polynomial(years, part, 1).slope()[0])
            left = np.fmax(left, again)
            if self.keep_mean:
                part = part + np.nansum(values, axis=0) / np.maximum(fit.count, 1)
            rest[members] = part
        return {"value": rest, "left": left}, Counter()


@dataclass(frozen=True, eq=False)
class _SlopeLeft:
    variable: Variable
    slopes: LazyArray

    def text(self, engine: Engine) -> str:
        """Say how large the largest slope is that is left."""
        slopes = engine.compute(self.slopes)
        largest = float(np.nanmax(slopes)) if np.isfinite(slopes).any() else 0.0
        factor, units = of_differences(self.variable.units)
        per = pretty(f"{units or '1'} (10 year)-1")
        return f"{self.variable.name}: the largest slope left is {10 * factor * largest:.1e} {per}"
