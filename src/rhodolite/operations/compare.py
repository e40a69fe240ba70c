"""Two datasets side by side: by how much they differ, where, when and overall."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import (
    Array,
    Broadcast,
    Concatenated,
    Elementwise,
    Engine,
    LazyArray,
    Mapped,
    Reduction,
    Region,
    Selected,
    SeriesKernel,
    Stacked,
    WithoutAxis,
)
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.kernels.correlation import correlate
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.units.conversion import Rescaling, of_differences, rescaling
from rhodolite.model.units.udunits import has_offset_zero, pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import WeightedMean, area_weights_of, one_axis_on
from rhodolite.operations.baseline.base_period import time_axis_of, variables_along_time
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.pairing.cells import counterpart, need_same_cells
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.parameters.other_dataset import OtherDataset

_CELL = {
    "bias": "mean difference",
    "mean_absolute_error": "mean absolute difference",
    "root_mean_square_error": "root of the mean squared difference",
    "correlation": "correlation over time",
    "variance_ratio": "ratio of variances",
}


class Contrast(StrEnum):
    """How two values are set against each other."""

    DIFFERENCE = "difference"
    RATIO = "ratio"
    PERCENT = "percent"


def _ratio(first: Array, second: Array) -> Array:
    return np.asarray(
        np.divide(
            first, second, out=np.full(first.shape, np.nan), where=second != 0, dtype=np.float64
        )
    )


def _percent(first: Array, second: Array) -> Array:
    return 100.0 * (_ratio(first, second) - 1.0)


@dataclass(frozen=True)
class Compare(Operation):
    """The difference to another dataset: everywhere, by cell over time, by time over the area, and
    overall.

    Differences are this dataset minus the other; ratios and percentages are relative to the other.
    Times are matched by the month, day or year that they stand for, phases of two climatologies by
    their names, and a single time or a map is compared with every time. Units are turned into those
    of this dataset; the cells have to be the same. Over the area cells are weighted by their true
    size. A table of the whole is printed.

    Examples
    --------
    >>> Compare(with_="observed.nc")  # doctest: +SKIP
    """

    with_: OtherDataset | None = parameter(
        "the other file or pattern; FILE:NAME for another variable", example="FILE[:NAME]"
    )

    kind: Contrast = parameter("how values are set against each other", default=Contrast.DIFFERENCE)

    speaks: ClassVar[bool] = True
    """Whether there is something to say in words."""

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
        made: list[Variable] = []
        tables = []
        for variable in along:
            its = (
                counterpart(variable, other)
                if self.with_.variable is None
                else other[self.with_.variable]
            )
            need_same_cells(dataset, variable, other, its, Role.TIME)
            second = _like(part, variable, other, its, steps)
            pair = _Pair(part, variable, second, other.label, self.kind)
            made += [pair.difference(), *pair.by_cell(), *pair.by_time()]
            tables.append(pair)
        axes = [v for v in part.variables.values() if v.name in part.axes.auxiliary]
        kept = {v.name: v for v in (*others, *axes)}
        return part.with_variables([*kept.values(), *made], remarks=(*dataset.remarks, *tables))


def _match_times(dataset: Dataset, other: Dataset) -> tuple[Dataset, Any]:
    """Return our part of what both have, and the steps of the other; None where it is one map for
    all of ours."""
    ours, theirs = (_times(one) for one in (dataset, other))
    if theirs is None or len(theirs) == 1:
        if ours is not None and theirs is not None and len(ours) == 1:
            first, second = (time_labels(axis)[0] for axis in (ours, theirs))
            if first != second:
                warn(f"{first} of {dataset.label} is compared with {second} of {other.label}")
        return dataset, None
    if ours is None:
        raise DataError(
            f"{dataset.label} has no times and {other.label} has {len(theirs):,}; compare the "
            "other way "
            "round, or choose or summarise --over time first"
        )
    name = str(dataset.need(Role.TIME).dimension)
    if ours.climatological or theirs.climatological:
        labels = [time_labels(axis) for axis in (ours, theirs)]
        if sorted(labels[0]) != sorted(labels[1]) or len(set(labels[0])) < len(labels[0]):
            held = (
                f"{dataset.label} holds {_shown(labels[0])} and {other.label} {_shown(labels[1])}"
            )
            raise DataError(
                f"{held}, which do not correspond; for departures from normals there is anomaly "
                "--climatology FILE"
            )
        return dataset, np.array([labels[1].index(label) for label in labels[0]])
    matched = MatchedTimes.of(dataset, other)
    picks, steps = matched.pairs(0)
    return take(dataset, {name: picks}), steps


def _times(dataset: Dataset) -> TimeAxis | None:
    """Return the time axis that data run along; None where there is none."""
    coordinate = dataset.coordinate(Role.TIME)
    if coordinate is None or coordinate.dimension is None:
        return None
    used = any(coordinate.dimension in v.dimensions for v in dataset.data_variables)
    return dataset.need_time() if used else None


def _shown(labels: list[str]) -> str:
    return labels[0] if len(labels) == 1 else f"{labels[0]} to {labels[-1]}"


def _to_compare(dataset: Dataset) -> tuple[list[Variable], list[Variable]]:
    """Return the variables to compare, those along time where there is an axis of it, and all
    others."""
    if _times(dataset) is not None:
        return variables_along_time(dataset)
    found = [v for v in dataset.data_variables if v.numeric and v.data.ndim]
    if not found:
        raise DataError(f"{dataset.label}: there is no variable of numbers to compare")
    return found, [
        v
        for v in dataset.variables.values()
        if v not in found and v.name not in dataset.axes.auxiliary
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
        if along != time_axis_of(dataset, variable):
            raise DataError(
                f"{its.name} of {other.label} has its time axis at another place than "
                f"{variable.name}"
            )
    if its.units != variable.units and its.units and variable.units:
        values = Mapped(values, rescaling(its, variable.units), values.dtype)
    if along is not None or values.ndim == len(variable.dimensions):
        return values
    ours = dataset.coordinate(Role.TIME)
    kept = tuple(name for name in variable.dimensions if ours is None or name != ours.dimension)
    return Broadcast(values, kept, variable.dimensions, variable.shape)


@dataclass(frozen=True, eq=False)
class _Pair:
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
                "there are "
                "no ratios; take --kind difference"
            )
        work: Any
        work, words = {
            Contrast.DIFFERENCE: (np.subtract, "difference"),
            Contrast.RATIO: (_ratio, "ratio"),
            Contrast.PERCENT: (_percent, "difference in percent"),
        }[self.kind]
        both = Elementwise([self.variable.floats(), self.second], work)
        return self._make_variables(self.kind.value, words, self.variable.dimensions, both, storage)

    @property
    def times(self) -> int:
        """How many times there are; 1 where there is no axis of time."""
        axis = _times(self.dataset)
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
        if ending == "difference" and self.variable.units and "K" in self.variable.units.split():
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
