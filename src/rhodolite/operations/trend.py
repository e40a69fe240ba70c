"""Trends: how fast quantities change."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Accumulator, Array, InMemory, Mapped, Reduction, Region
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.kernels.regression import LineSums, fit_line, line_sums, merge_line_sums
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time import TimeAxis
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.normals import sort_by_time, time_place
from rhodolite.operations.rescaling import of_differences

_FEWEST_STEPS = 3
_MOST_OF_A_YEAR = 0.9


class Per(StrEnum):
    """The time that a slope is given for."""

    YEAR = "year"
    DECADE = "decade"
    CENTURY = "century"

    @property
    def years(self) -> int:
        return {Per.YEAR: 1, Per.DECADE: 10, Per.CENTURY: 100}[self]

    def units(self, of: str | None) -> str | None:
        """Return the units of a slope of something with units, as UDUNITS reads them."""
        if of is None:
            return None
        time = "year-1" if self is Per.YEAR else f"({self.years} year)-1"
        return time if of == "1" else f"{of} {time}"


@operation
@dataclass(frozen=True)
class Trend:
    """Slopes of straight lines through time, with standard error, p-value and significance.

    Lines are fitted at each cell by least squares to decimal years of the data's own calendar, one
    calendar year being exactly 1. The p-value is that of a two-sided t test with n - 2 degrees of
    freedom, which takes the residuals as independent; where they follow each other, trends look
    surer than they are. A cell needs three values. The cycle of the year hides a trend, so take it
    out first: anomaly then trend.

    Examples
    --------
    >>> Trend(per="decade")  # doctest: +SKIP
    """

    per: Per = parameter("the time that the slope is given for", default=Per.DECADE)
    alpha: float = parameter("p-values below this count as significant", default=0.05)

    def check(self) -> None:
        if not 0 < self.alpha < 1:
            raise UsageError(
                f"--alpha: '{self.alpha:g}' is no probability; write a number between 0 and 1, such as 0.05"
            )

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset of trends, without the time axis.

        Raises
        ------
        DataError
            If there is no time axis, or fewer than three steps.
        """
        axis = dataset.need_time()
        if len(axis) < _FEWEST_STEPS:
            raise DataError(f"{dataset.label}: a trend needs at least {_FEWEST_STEPS} times, and there are {len(axis)}")
        along_time, others = sort_by_time(dataset)
        _warn_of_cycle(axis, along_time)
        coordinate = dataset.need(Role.TIME)
        time = _whole_period(coordinate, axis)
        made = [v for variable in along_time for v in self._trends(dataset, variable, axis, time[0].name)]
        unlimited = dataset.unlimited - {str(coordinate.dimension)}
        return dataset.with_variables([*others, *time, *made], unlimited=unlimited)

    def _trends(self, dataset: Dataset, variable: Variable, axis: TimeAxis, time: str) -> list[Variable]:
        along = time_place(dataset, variable)
        scale, units = of_differences(variable.units)
        lines = LineAccumulator(axis.decimal_years, along, variable.shape, scale * self.per.years)
        reduction = Reduction(variable.floats(), lines)
        name, quantity = f"{variable.name}_trend", variable.quantity
        dimensions = tuple(d for at, d in enumerate(variable.dimensions) if at != along)
        shape = tuple(n for at, n in enumerate(variable.shape) if at != along)
        kept = {key: value for key, value in variable.attributes.items() if key in ("grid_mapping", "base_period")}
        kept["coordinates"] = " ".join(dict.fromkeys([*str(variable.attributes.get("coordinates", "")).split(), time]))
        rate = {"units": self.per.units(units)} if units else {}
        helpers = f"{name}_error {name}_pvalue {name}_significant"
        slope = {"long_name": f"trend of {quantity}", **rate, "ancillary_variables": helpers,
                 "comment": "least squares on decimal years"}  # fmt: skip
        error = {"long_name": f"standard error of the trend of {quantity}", **rate}
        pvalue = {"long_name": f"p-value of the trend of {quantity}", "units": "1",
                  "comment": f"two-sided t test of no trend in {quantity}, residuals taken as independent"}  # fmt: skip
        flags = {"long_name": f"whether the trend of {quantity} is significant at {self.alpha:g}",
                 "flag_values": np.array([0, 1], np.int8), "flag_meanings": "not_significant significant"}  # fmt: skip
        dtype = variable.floats().dtype
        significant = Mapped(reduction.output("pvalue", shape), _Below(self.alpha), np.int8)
        return [
            Variable(name, dimensions, reduction.output("slope", shape, dtype), {**slope, **kept}),
            Variable(f"{name}_error", dimensions, reduction.output("error", shape, dtype), {**error, **kept}),
            Variable(f"{name}_pvalue", dimensions, reduction.output("pvalue", shape), {**pvalue, **kept}),
            Variable(f"{name}_significant", dimensions, significant, {**flags, **kept}, Storage(fill_value=-1), -1),
        ]


@dataclass
class LineAccumulator(Accumulator):
    """Lines through the values of each cell.

    Parameters
    ----------
    years : ndarray of float64
        Decimal year of each step.
    axis : int
        Where time lies in the source.
    shape : tuple of int
        Of the source.
    factor : float
        What slopes and errors are multiplied by.
    """

    years: Array
    axis: int
    shape: tuple[int, ...]
    factor: float
    _sums: LineSums | None = None
    _cells: Region = ()

    def start(self) -> Self:
        return replace(self, _sums=None, _cells=())

    def add(self, block: Array, region: Region) -> None:
        self._sums = line_sums(self.years[region[self.axis]], np.moveaxis(block, self.axis, 0))
        self._cells = region[: self.axis] + region[self.axis + 1 :]

    def merge(self, other: Self) -> None:
        if self._sums is None:
            self._sums = LineSums.empty(self.shape[: self.axis] + self.shape[self.axis + 1 :])
        assert other._sums is not None
        merge_line_sums(self._sums, other._sums, other._cells)

    def finish(self) -> dict[str, Array]:
        line = fit_line(self._sums or LineSums.empty(self.shape[: self.axis] + self.shape[self.axis + 1 :]))
        return {"slope": line.slope * self.factor, "error": line.error * self.factor, "pvalue": line.pvalue}


@dataclass(frozen=True)
class _Below:
    limit: float

    def __call__(self, block: Array) -> Array:
        return np.where(np.isnan(block), -1, block < self.limit)


def _warn_of_cycle(axis: TimeAxis, variables: list[Variable]) -> None:
    within_year = np.median(np.diff(np.sort(axis.decimal_years))) < _MOST_OF_A_YEAR
    if within_year and any("base_period" not in variable.attributes for variable in variables):
        warn("the cycle of the year is still in the data and hides trends; take it out first: anomaly then trend")


def _whole_period(coordinate: Coordinate, axis: TimeAxis) -> list[Variable]:
    """Return a single time, in the middle of the period, with bounds from its beginning to its end."""
    edges = axis.numbers if axis.bounds is None else axis.bounds
    first, last = float(edges.min()), float(edges.max())
    name = f"{coordinate.name}_bnds"
    about: dict[str, Any] = dict(coordinate.variable.without("climatology", bounds=name).attributes)
    return [
        Variable(coordinate.name, (), InMemory(np.float64((first + last) / 2)), about),
        Variable(name, ("bnds",), InMemory(np.array([first, last]))),
    ]
