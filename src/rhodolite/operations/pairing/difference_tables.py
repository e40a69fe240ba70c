"""Differences of two variables: everywhere, by cell, by time, and as a table of the whole."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Any

import numpy as np

from rhodolite.arrays import (
    Array,
    Concatenated,
    Elementwise,
    Engine,
    LazyArray,
    Mapped,
    Reduction,
    Stacked,
)
from rhodolite.errors import DataError
from rhodolite.kernels.pair_moments import PairMoments
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import drop_astray, placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension
from rhodolite.model.labels import labels_along
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.units.udunits import has_offset_zero, pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import (
    area_weights_of,
    horizontal_axes,
)
from rhodolite.operations.pairing.pair_statistics import (
    NUMBERS,
    OfMoments,
    OverArea,
    OverTime,
    centred_error,
    mean_absolute,
    mean_difference,
    merge_times,
    root_mean_square,
    variance_ratio,
)
from rhodolite.operations.time_groups.totals import mean_weights
from rhodolite.operations.variables.along_time import time_axis_of
from rhodolite.plain_text import write_rounded


class Contrast(StrEnum):
    """How two values are set against each other."""

    DIFFERENCE = "difference"
    RATIO = "ratio"
    PERCENT = "percent"
    QUANTILES = "quantiles"
    ENSEMBLE = "ensemble"


_CELL = {
    "bias": "mean difference",
    "mean_absolute_error": "mean absolute difference",
    "root_mean_square_error": "root of the mean squared difference",
    "centred_error": "root of the mean squared difference of the departures from both means",
    "correlation": "correlation over time",
    "variance_ratio": "ratio of variances",
}


@dataclass(frozen=True, eq=False)
class Pair:
    """A variable and its counterpart, in the same units and at the same times."""

    dataset: Dataset
    variable: Variable
    second: LazyArray
    label: str
    kind: Contrast = Contrast.DIFFERENCE

    def difference(self) -> Variable:
        """Return the difference, ratio or percentage everywhere."""
        storage = Storage(
            dtype=self.variable.storage.dtype, chunks=self.variable.storage.chunks
        )
        if self.kind is not Contrast.DIFFERENCE and has_offset_zero(
            self.variable.units or "1"
        ):
            raise DataError(
                f"{self.variable.name} is in {self.variable.units}, an interval scale, of which "
                "there are no ratios; take --kind difference"
            )
        work: Any
        work, words = {
            Contrast.DIFFERENCE: (np.subtract, "difference"),
            Contrast.RATIO: (ratio, "ratio"),
            Contrast.PERCENT: (percent, "difference in percent"),
        }[self.kind]
        both = Elementwise([self.variable.floats(), self.second], work)
        return self._make_variables(
            self.kind.value, words, self.variable.dimensions, both, storage
        )

    @property
    def times(self) -> int:
        """How many times there are; 1 where there is no axis of time."""
        axis = times(self.dataset)
        return 1 if axis is None else len(axis)

    def by_cell(self) -> list[Variable]:
        """Return what sums up the differences at each cell over time, where there is more than
        one."""
        if self.times == 1:
            return []
        along = time_axis_of(self.dataset, self.variable)
        both = Concatenated([self.variable.floats(), self.second], along)
        reduction = Reduction(both, series=OverTime(along, self._lengths))
        cells = (*self.variable.shape[:along], *self.variable.shape[along + 1 :])
        dimensions = (
            *self.variable.dimensions[:along],
            *self.variable.dimensions[along + 1 :],
        )
        return [
            self._make_variables(name, words, dimensions, reduction.output(name, cells))
            for name, words in _CELL.items()
        ]

    def by_time(self) -> list[Variable]:
        """Return what sums up the differences over the area at each time."""
        if not self._area:
            return []
        dimensions = tuple(
            d for at, d in enumerate(self.variable.dimensions) if at not in self._area
        )
        return [
            self._make_variables(
                name, words, dimensions, OfMoments(self.moments, function)
            ).edit("grid_mapping")
            for name, (words, function) in _AREA_MEANS.items()
        ]

    @cached_property
    def _area(self) -> tuple[int, ...]:
        """The axes of latitude and longitude."""
        return horizontal_axes(self.dataset, self.variable)

    @cached_property
    def _lengths(self) -> Array | None:
        """What each time counts in a mean; None where all count alike."""
        axis = times(self.dataset)
        return None if axis is None else mean_weights(self.variable, axis)

    @cached_property
    def _weights(self) -> Array:
        """What each place along the axes without the area counts, shape (*left)."""
        shape = list(self.variable.shape)
        weights = np.ones(())
        if self.times > 1 and self._lengths is not None:
            along = time_axis_of(self.dataset, self.variable)
            weights = self._lengths.reshape(
                [
                    -1 if at == along else 1
                    for at in range(len(shape))
                    if at not in self._area
                ]
            )
        left = [n for at, n in enumerate(shape) if at not in self._area]
        return np.broadcast_to(weights, left)

    @cached_property
    def moments(self) -> LazyArray:
        """The moments of the pairs over the area, along the axes that are left."""
        shape = self.variable.shape
        left = tuple(n for at, n in enumerate(shape) if at not in self._area)
        both = Stacked([self.variable.floats(), self.second])
        weights = area_weights_of(self.dataset, self.variable)
        gathered = OverArea(shape, weights, self._area)
        return Reduction(both, gathered).output("moments", (NUMBERS, *left))

    def text(self, engine: Engine) -> str:
        """Return a table of all differences together."""
        moments = engine.compute(self.moments)
        member = find_member_dimension(self.dataset)
        times = f"{self.times:,} time{'s' * (self.times != 1)}"
        if member not in self.variable.dimensions:
            title = f"{self.variable.name}: {self.dataset.label} minus {self.label}, {times}"
            values = _rows_of(merge_times(moments, self._weights))
            rows = zip(_ROWS, values, self._units_of_rows(), strict=True)
            lines = [
                f"  {words:<24}{write_rounded(value, 5):>12} {unit}".rstrip()
                for words, value, unit in rows
            ]
            return "\n".join([title, *lines])
        assert member is not None
        left = [
            d for at, d in enumerate(self.variable.dimensions) if at not in self._area
        ]
        labels = labels_along(self.dataset, member)
        title = (
            f"{self.variable.name}: {len(labels)} members minus {self.label}, {times}"
        )
        at = left.index(member)
        weights = np.moveaxis(self._weights, at, 0)
        columns = [
            _rows_of(merge_times(part, weights[number]))
            for number, part in enumerate(np.moveaxis(moments, 1 + at, 0))
        ]
        return "\n".join([title, *self._lines_of_members(labels, columns)])

    def _lines_of_members(
        self, labels: list[str], columns: list[list[float]]
    ) -> list[str]:
        """Return a table with a column for each member."""
        widths = [max(len(label), 10) + 2 for label in labels]
        units = self._units_of_rows()
        before = 26 + max(map(len, units))
        lines = [" " * before + "".join(map(str.rjust, labels, widths))]
        for at, (words, unit) in enumerate(zip(_ROWS, units, strict=True)):
            start = f"  {words:<24}{unit}".ljust(before)
            cells = [write_rounded(column[at], 5) for column in columns]
            lines.append(start + "".join(map(str.rjust, cells, widths)))
        return lines

    def _units_of_rows(self) -> list[str]:
        units, own = pretty(self._units("bias")), pretty(self.variable.units)
        return [own, own, units, units, units, units, "", ""]

    def _units(self, ending: str) -> str | None:
        if ending == Contrast.PERCENT:
            return "%"
        if ending in (
            "correlation",
            "variance_ratio",
            "pattern_correlation",
            Contrast.RATIO,
        ):
            return UNITS_OF_ONE
        return of_differences(self.variable.units)[1]

    def _make_variables(
        self,
        ending: str,
        words: str,
        dimensions: tuple[str, ...],
        data: LazyArray,
        storage: Storage | None = None,
    ) -> Variable:
        units = self._units(ending)
        factor = of_differences(self.variable.units)[0]
        if factor != 1.0 and units not in (UNITS_OF_ONE, "%"):
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        about = {
            "long_name": f"{words} of {self.variable.quantity} to {self.label}",
            # All of them are differences, or sizes of such.
            **describe_units(units, difference=True),
            **placing_of(self.variable),
        }
        storage = storage or Storage(dtype=self.variable.storage.dtype)
        name = f"{self.variable.name}_{ending}"
        result = Variable(name, dimensions, data, about, storage)
        return drop_astray(result, self.dataset.variables)


_ROWS = (
    "mean of this",
    "mean of the other",
    "bias",
    "mean absolute error",
    "root-mean-square error",
    "centred error",
    "correlation",
    "ratio of variances",
)
"""The lines of a table."""


def _rows_of(moments: PairMoments) -> list[float]:
    """Return the numbers of a table, in the order of `_ROWS`."""
    first, second = moments.means[3:]
    values = (
        np.where(moments.weight > 0, first, np.nan),
        np.where(moments.weight > 0, second, np.nan),
        mean_difference(moments),
        mean_absolute(moments),
        root_mean_square(moments),
        centred_error(moments),
        moments.correlation(),
        variance_ratio(moments),
    )
    return [float(value) for value in values]


_AREA_MEANS = {
    "bias_over_area": ("area mean of the difference", mean_difference),
    "error_over_area": (
        "root of the area mean of the squared difference",
        root_mean_square,
    ),
    "pattern_correlation": ("correlation over the area", PairMoments.correlation),
}


def ratio(first: Array, second: Array) -> Array:
    return np.asarray(
        np.divide(
            first,
            second,
            out=np.full(first.shape, np.nan),
            where=second != 0,
            dtype=np.float64,
        )
    )


def percent(first: Array, second: Array) -> Array:
    return 100.0 * (ratio(first, second) - 1.0)


def times(dataset: Dataset) -> TimeAxis | None:
    """Return the time axis that data run along; None where there is none."""
    coordinate = dataset.coordinate(Role.TIME)
    if coordinate is None or coordinate.dimension is None:
        return None
    used = any(coordinate.dimension in v.dimensions for v in dataset.fields)
    return dataset.need_time() if used else None
