"""Differences of two variables: everywhere, by cell, by time, and as a table of the whole."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from typing import Any, Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    Concatenated,
    Elementwise,
    Engine,
    LazyArray,
    Mapped,
    Reduction,
    Region,
    SeriesKernel,
    Stacked,
    whole,
)
from rhodolite.errors import DataError
from rhodolite.kernels.correlation import correlate
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.kernels.pair_moments import MEANS, PRODUCTS, PairMoments
from rhodolite.kernels.weighted_sums import Weights
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
    weights_within,
)
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
        reduction = Reduction(both, series=_OverTime(along))
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
                name, words, dimensions, _OfMoments(self.moments, function)
            ).edit("grid_mapping")
            for name, (words, function) in _AREA_MEANS.items()
        ]

    @cached_property
    def _area(self) -> tuple[int, ...]:
        """The axes of latitude and longitude."""
        return horizontal_axes(self.dataset, self.variable)

    @cached_property
    def moments(self) -> LazyArray:
        """The moments of the pairs over the area, in the order of `_flat`, over the axes that are
        left."""
        shape = self.variable.shape
        left = tuple(n for at, n in enumerate(shape) if at not in self._area)
        both = Stacked([self.variable.floats(), self.second])
        weights = area_weights_of(self.dataset, self.variable)
        gathered = _OverArea(shape, weights, self._area)
        return Reduction(both, gathered).output("moments", (_NUMBERS, *left))

    def text(self, engine: Engine) -> str:
        """Return a table of all differences together."""
        moments = engine.compute(self.moments)
        member = find_member_dimension(self.dataset)
        times = f"{self.times:,} time{'s' * (self.times != 1)}"
        if member not in self.variable.dimensions:
            title = f"{self.variable.name}: {self.dataset.label} minus {self.label}, {times}"
            values = _whole(moments)
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
        columns = [
            _whole(part) for part in np.moveaxis(moments, 1 + left.index(member), 0)
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


@dataclass
class _OverTime(SeriesKernel):
    axis: int

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {name: ((), np.dtype("f8")) for name in _CELL}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        half = len(block) // 2
        first, second = (
            part.astype(np.float64) for part in (block[:half], block[half:])
        )
        missing = np.isnan(first) | np.isnan(second)
        first[missing] = second[missing] = np.nan
        difference = first - second
        count = (~missing).sum(axis=0)
        absolute, square, total = (
            np.nansum(part, axis=0)
            for part in (np.abs(difference), difference**2, difference)
        )
        present = np.where(count > 0, count, np.nan)
        one_group = np.zeros(half, int)
        ours, theirs = (
            Spread().finish(Spread().gather(part, one_group, 1))["variance"][0]
            for part in (first, second)
        )
        ratio = np.divide(
            ours, theirs, out=np.full(count.shape, np.nan), where=theirs > 0
        )
        return {
            "bias": total / present,
            "mean_absolute_error": absolute / present,
            "root_mean_square_error": np.sqrt(square / present),
            "centred_error": _without_bias(square / present, total / present),
            "correlation": correlate(first, second)[0],
            "variance_ratio": ratio,
        }, Counter()


def _without_bias(square: Array, bias: Array) -> Array:
    """Return the error that is left when the means of both are taken away (Taylor 2001, Journal of
    Geophysical Research 106, equation 2)."""
    return np.asarray(np.sqrt(np.maximum(square - bias**2, 0.0)))


@dataclass
class _OverArea(Accumulator):
    """Moments of pairs over some axes of the shape of one of both; see `WeightedMean`."""

    shape: tuple[int, ...]
    weights: Weights
    axes: tuple[int, ...]
    _gathered: PairMoments | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _gathered=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        inner = region[1:]
        weights = weights_within(self.weights, inner, self.axes)
        self._gathered = PairMoments.of(block[0], block[1], weights, self.axes)
        self._region = tuple(
            part for axis, part in enumerate(inner) if axis not in self.axes
        )

    def merge(self, other: Self) -> None:
        if self._gathered is None:
            self._gathered, self._region = (
                PairMoments.empty(self._kept),
                whole(self._kept),
            )
        assert other._gathered is not None
        place = other._region
        both = self._gathered.part(place).merged(other._gathered)
        self._gathered.weight[place] = both.weight
        self._gathered.means[:, *place] = both.means
        self._gathered.products[:, *place] = both.products

    def finish(self) -> dict[str, Array]:
        return {"moments": _flat(self._gathered or PairMoments.empty(self._kept))}

    @property
    def _kept(self) -> tuple[int, ...]:
        return tuple(n for axis, n in enumerate(self.shape) if axis not in self.axes)


_NUMBERS = 1 + len(MEANS) + len(PRODUCTS)
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


def _whole(flat: Array) -> list[float]:
    """Return the numbers of a table, in the order of `_ROWS`, of moments of all times."""
    each = _moments_of(flat.reshape(_NUMBERS, -1))
    there = np.flatnonzero(each.weight > 0)
    total = PairMoments.empty(())
    for at in there:  # of each time alike, however much of its area is there
        total = total.merged(_weighing_one(each, int(at)))
    spread = [float(part) for part in total.variances()]
    values = (
        [float(part) for part in total.means] if there.size else [np.nan] * len(MEANS)
    )
    difference, absolute, square, first, second = values
    ratio = spread[0] / spread[1] if spread[1] > 0 else np.nan
    correlation = float(total.correlation())
    return [
        first,
        second,
        difference,
        absolute,
        float(np.sqrt(square)),
        float(_without_bias(np.asarray(square), np.asarray(difference))),
        correlation,
        ratio,
    ]


def _flat(moments: PairMoments) -> Array:
    return np.concatenate([moments.weight[None], moments.means, moments.products])


def _moments_of(flat: Array) -> PairMoments:
    """Return the moments that `_flat` has put one after another."""
    return PairMoments(flat[0], flat[1 : 1 + len(MEANS)], flat[1 + len(MEANS) :])


def _weighing_one(each: PairMoments, at: int) -> PairMoments:
    weight = each.weight[at]
    return PairMoments(np.ones(()), each.means[:, at], each.products[:, at] / weight)


class _OfMoments(LazyArray):
    """What a function makes of moments over the area."""

    def __init__(
        self, moments: LazyArray, function: Callable[[PairMoments], Array]
    ) -> None:
        self._moments, self._function = moments, function
        self.shape, self.dtype = moments.shape[1:], np.dtype("f8")

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._moments,)

    def read(self, region: Region) -> Array:
        return self._function(
            _moments_of(self._moments.read((slice(0, _NUMBERS), *region)))
        )


def _bias(moments: PairMoments) -> Array:
    return np.where(moments.weight > 0, moments.means[0], np.nan)


def _error(moments: PairMoments) -> Array:
    return np.where(moments.weight > 0, np.sqrt(moments.means[2]), np.nan)


_AREA_MEANS = {
    "bias_over_area": ("area mean of the difference", _bias),
    "error_over_area": ("root of the area mean of the squared difference", _error),
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
