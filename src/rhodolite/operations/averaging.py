"""Means over the area and over time, each as one streaming pass."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from rhodolite.arrays import Accumulator, Array, LazyArray, Reduction, Region
from rhodolite.kernels.averages import weighted_sums
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.grid import area_weights
from rhodolite.model.variable import Variable


@dataclass
class WeightedMean(Accumulator):
    """Weighted mean over some axes.

    Parameters
    ----------
    shape : tuple of int
        Of the source.
    weights : dict of int to ndarray
        Weights along axes; 1 along those that are not listed.
    axes : tuple of int
        Axes to average over.
    """

    shape: tuple[int, ...]
    weights: dict[int, Array]
    axes: tuple[int, ...]
    _sums: tuple[Array, Array] | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _sums=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        weights = {axis: along[region[axis]] for axis, along in self.weights.items() if axis in self.axes}
        self._sums = weighted_sums(block, weights, self.axes)
        self._region = self._kept(region)

    def merge(self, other: Self) -> None:
        if self._sums is None:
            shape = tuple(n for axis, n in enumerate(self.shape) if axis not in self.axes)
            self._sums = np.zeros(shape), np.zeros(shape)
        assert other._sums is not None
        for ours, theirs in zip(self._sums, other._sums, strict=True):
            ours[other._region] += theirs

    def finish(self) -> dict[str, Array]:
        shape = tuple(n for axis, n in enumerate(self.shape) if axis not in self.axes)
        total, weight = self._sums or (np.zeros(shape), np.zeros(shape))
        return {"mean": np.divide(total, weight, out=np.full(shape, np.nan), where=weight > 0)}

    def _kept(self, region: Region) -> Region:
        return tuple(part for axis, part in enumerate(region) if axis not in self.axes)


def mean_over(dataset: Dataset, variable: Variable, roles: tuple[Role, ...]) -> Variable:
    """Return a variable's mean over the axes of some roles, cells weighted by their true area.

    Axes that the variable does not have are passed over. The result is float64, lazily computed.
    """
    places = _places(dataset, variable, roles)
    if not places:
        return variable.with_(data=variable.floats())
    weights = area_weights_along(dataset, variable)
    axes = tuple(sorted(places))
    mean = WeightedMean(variable.shape, {at: w for at, w in weights.items() if at in axes}, axes)
    kept = tuple(name for at, name in enumerate(variable.dimensions) if at not in axes)
    shape = tuple(n for at, n in enumerate(variable.shape) if at not in axes)
    data = Reduction(variable.floats(), mean).output("mean", shape)
    return variable.with_(dimensions=kept, data=data, missing=None)


@dataclass
class Overview(Accumulator):
    """Count, missing values, range and area-weighted mean of all values."""

    weights: dict[int, Array]
    shape: tuple[int, ...]
    count: int = 0
    missing: int = 0
    low: float = np.nan
    high: float = np.nan
    total: float = 0.0
    weight: float = 0.0

    def start(self) -> Self:
        return replace(self, count=0, missing=0, low=np.nan, high=np.nan, total=0.0, weight=0.0)

    def add(self, block: Array, region: Region) -> None:
        mean = WeightedMean(self.shape, self.weights, tuple(range(block.ndim)))
        mean.add(block, region)
        assert mean._sums is not None
        self.total, self.weight = (float(part) for part in mean._sums)
        self.count, self.missing = block.size, int(np.isnan(block).sum())
        self.low, self.high = (float(f.reduce(block, axis=None)) for f in (np.fmin, np.fmax))

    def merge(self, other: Self) -> None:
        self.count += other.count
        self.missing += other.missing
        self.low, self.high = float(np.fmin(self.low, other.low)), float(np.fmax(self.high, other.high))
        self.total += other.total
        self.weight += other.weight

    def finish(self) -> dict[str, Array]:
        mean = self.total / self.weight if self.weight > 0 else np.nan
        return {"overview": np.array([self.count, self.missing, self.low, self.high, mean])}


def overview(dataset: Dataset, variable: Variable) -> LazyArray:
    """Return count, missing, least, greatest and area-weighted mean as a lazy array of 5 numbers."""
    return Reduction(variable.floats(), Overview(area_weights_along(dataset, variable), variable.shape)).output(
        "overview", (5,)
    )


def _places(dataset: Dataset, variable: Variable, roles: tuple[Role, ...]) -> dict[int, Role]:
    found = {}
    for role in roles:
        coordinate = dataset.coordinate(role)
        if coordinate is not None and coordinate.dimension in variable.dimensions:
            found[variable.dimensions.index(str(coordinate.dimension))] = role
    return found


def area_weights_along(dataset: Dataset, variable: Variable) -> dict[int, Array]:
    """Return the weights of a variable's cells by their area, for each of its horizontal axes."""
    places = _places(dataset, variable, (Role.LATITUDE, Role.LONGITUDE))
    return {at: area_weights(dataset.need(role)) for at, role in places.items()}
