"""Differences of two variables: everywhere, by cell, by time, and as a table of the whole."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
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
    Region,
    SeriesKernel,
    Stacked,
)
from rhodolite.errors import DataError
from rhodolite.kernels.correlation import correlate
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.udunits import has_offset_zero, is_temperature, pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import WeightedMean, area_weights_of, one_axis_on
from rhodolite.operations.variables.along_time import time_axis_of


class Contrast(StrEnum):
    """How two values are set against each other."""

    DIFFERENCE = "difference"
    RATIO = "ratio"
    PERCENT = "percent"


_CELL = {
    "bias": "mean difference",
    "mean_absolute_error": "mean absolute difference",
    "root_mean_square_error": "root of the mean squared difference",
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
        storage = Storage(dtype=self.variable.storage.dtype, chunks=self.variable.storage.chunks)
        if self.kind is not Contrast.DIFFERENCE and has_offset_zero(self.variable.units or "1"):
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
        return self._make_variables(self.kind.value, words, self.variable.dimensions, both, storage)

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
        dimensions = (*self.variable.dimensions[:along], *self.variable.dimensions[along + 1 :])
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
            self._make_variables(name, words, dimensions, _OfMeans(self.means, function))
            for name, (words, function) in _AREA_MEANS.items()
        ]

    @cached_property
    def _area(self) -> tuple[int, ...]:
        """The axes of latitude and longitude."""
        found = (self.dataset.coordinate(role) for role in (Role.LATITUDE, Role.LONGITUDE))
        names = [c.dimension for c in found if c is not None]
        return tuple(at for at, name in enumerate(self.variable.dimensions) if name in names)

    @cached_property
    def means(self) -> LazyArray:
        """Area means of what `_PairMeans` computes, which come first, over the axes that are
        left."""
        shape = self.variable.shape
        kept = tuple(n for at, n in enumerate(shape) if at not in self._area)
        both = Stacked([self.variable.floats(), self.second])
        weights = one_axis_on(area_weights_of(self.dataset, self.variable))
        means = _PairMeans((_QUANTITIES, *shape), weights, tuple(at + 1 for at in self._area))
        return Reduction(both, means).output("mean", (_QUANTITIES, *kept))

    def text(self, engine: Engine) -> str:
        """Return a table of all differences together."""
        values = engine.compute(self.means).reshape(_QUANTITIES, -1)
        means = (
            values[:, ~np.isnan(values).any(axis=0)].mean(axis=1)
            if np.isfinite(values).any()
            else values[:, 0]
        )
        difference, absolute, square, first, second, first2, second2, product = (
            float(value) for value in means
        )
        units, own = pretty(self._units("bias")), pretty(self.variable.units)
        spread = [float(part) for part in (_variance(first2, first), _variance(second2, second))]
        r = (
            (product - first * second) / np.sqrt(spread[0] * spread[1])
            if min(spread) > 0
            else np.nan
        )
        ratio = spread[0] / spread[1] if spread[1] > 0 else np.nan
        rows = [
            ("mean of this", first, own),
            ("mean of the other", second, own),
            ("bias", difference, units),
            ("mean absolute error", absolute, units),
            ("root-mean-square error", np.sqrt(square), units),
            ("correlation", r, ""),
            ("ratio of variances", ratio, ""),
        ]
        times = f"{self.times:,} time{'s' * (self.times != 1)}"
        title = f"{self.variable.name}: {self.dataset.label} minus {self.label}, {times}"
        lines = [f"  {words:<24}{value:>12.5g} {unit}".rstrip() for words, value, unit in rows]
        return "\n".join([title, *lines])

    def _units(self, ending: str) -> str | None:
        if ending == Contrast.PERCENT:
            return "%"
        if ending in ("correlation", "variance_ratio", "pattern_correlation", Contrast.RATIO):
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
        kept = {
            key: value
            for key, value in self.variable.attributes.items()
            if key in ("grid_mapping", "coordinates")
        }
        units = self._units(ending)
        factor = of_differences(self.variable.units)[0]
        if factor != 1.0 and units not in (UNITS_OF_ONE, "%"):
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        about = {
            "long_name": f"{words} of {self.variable.quantity} to {self.label}",
            **({"units": units} if units else {}),
            **kept,
        }
        if ending == "difference" and is_temperature(units or UNITS_OF_ONE):
            about["units_metadata"] = "temperature: difference"
        storage = storage or Storage(dtype=self.variable.storage.dtype)
        return Variable(f"{self.variable.name}_{ending}", dimensions, data, about, storage)


@dataclass
class _OverTime(SeriesKernel):
    axis: int

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {name: ((), np.dtype("f8")) for name in _CELL}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        half = len(block) // 2
        first, second = (part.astype(np.float64) for part in (block[:half], block[half:]))
        missing = np.isnan(first) | np.isnan(second)
        first[missing] = second[missing] = np.nan
        difference = first - second
        count = (~missing).sum(axis=0)
        absolute, square, total = (
            np.nansum(part, axis=0) for part in (np.abs(difference), difference**2, difference)
        )
        held = np.where(count > 0, count, np.nan)
        one_group = np.zeros(half, int)
        ours, theirs = (
            Spread().finish(Spread().gather(part, one_group, 1))["variance"][0]
            for part in (first, second)
        )
        ratio = np.divide(ours, theirs, out=np.full(count.shape, np.nan), where=theirs > 0)
        return {
            "bias": total / held,
            "mean_absolute_error": absolute / held,
            "root_mean_square_error": np.sqrt(square / held),
            "correlation": correlate(first, second)[0],
            "variance_ratio": ratio,
        }, Counter()


@dataclass
class _PairMeans(WeightedMean):
    """Weighted means of two quantities, their difference, its size and square, their squares and
    their product."""

    def add(self, block: Array, region: Region) -> None:
        first, second = block.astype(np.float64)
        missing = np.isnan(first) | np.isnan(second)
        first[missing] = second[missing] = np.nan
        difference = first - second
        made = [
            difference,
            np.abs(difference),
            difference**2,
            first,
            second,
            first**2,
            second**2,
            first * second,
        ]
        super().add(np.stack(made), (slice(0, _QUANTITIES), *region[1:]))


_QUANTITIES = 8
"""How many `_PairMeans` computes."""


class _OfMeans(LazyArray):
    """What a function makes of the means that `_PairMeans` computes."""

    def __init__(self, means: LazyArray, function: Callable[[Array], Array]) -> None:
        self._means, self._function = means, function
        self.shape, self.dtype = means.shape[1:], np.dtype("f8")

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._means,)

    def read(self, region: Region) -> Array:
        return self._function(self._means.read((slice(0, _QUANTITIES), *region)))


def _bias(means: Array) -> Array:
    return np.asarray(means[0])


def _error(means: Array) -> Array:
    return np.asarray(np.sqrt(means[2]))


def _variance(square: Array | float, mean: Array | float) -> Array:
    """Return a mean square less the square of the mean; 0 where no more than rounding is left of
    equal values."""
    left = np.subtract(square, np.square(mean))
    return np.where(left > 64 * np.finfo(np.float64).eps * np.square(mean), left, 0.0)


def _pattern_correlation(means: Array) -> Array:
    first, second, first2, second2, product = means[3:]
    spread = _variance(first2, first) * _variance(second2, second)
    return np.asarray(
        np.divide(
            product - first * second,
            np.sqrt(spread),
            out=np.full(spread.shape, np.nan),
            where=spread > 0,
        )
    )


_AREA_MEANS = {
    "bias_over_area": ("area mean of the difference", _bias),
    "error_over_area": ("root of the area mean of the squared difference", _error),
    "pattern_correlation": ("correlation over the area", _pattern_correlation),
}


def ratio(first: Array, second: Array) -> Array:
    return np.asarray(
        np.divide(
            first, second, out=np.full(first.shape, np.nan), where=second != 0, dtype=np.float64
        )
    )


def percent(first: Array, second: Array) -> Array:
    return 100.0 * (ratio(first, second) - 1.0)


def times(dataset: Dataset) -> TimeAxis | None:
    """Return the time axis that data run along; None where there is none.

    Parameters
    ----------
    dataset : Dataset
    """
    coordinate = dataset.coordinate(Role.TIME)
    if coordinate is None or coordinate.dimension is None:
        return None
    used = any(coordinate.dimension in v.dimensions for v in dataset.fields)
    return dataset.need_time() if used else None
