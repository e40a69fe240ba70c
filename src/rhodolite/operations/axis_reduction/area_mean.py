"""Means over the area and over time, each as one streaming pass."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    InMemory,
    LazyArray,
    Reduction,
    Region,
    read_small,
    whole,
)
from rhodolite.errors import DataError, collecting
from rhodolite.kernels.weighted_sums import Weights, axes_of, weighted_sums
from rhodolite.model.axes import Role
from rhodolite.model.cf.directions import warn_of_directions
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import area_weights
from rhodolite.model.space.cell_lists import cell_dimension
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.cell_areas import cell_measure
from rhodolite.operations.axis_reduction.layer_thickness import layer_weights
from rhodolite.operations.time_groups.totals import mean_weights


@dataclass
class WeightedMean(Accumulator):
    """Weighted mean over some axes.

    Parameters
    ----------
    shape : tuple of int
        Of the source.
    weights : mapping of int, or tuple of int, to ndarray
        Weights along axes, or of two axes together; 1 along those that are not listed.
    axes : tuple of int
        Axes to average over.
    """

    shape: tuple[int, ...]
    weights: Weights
    axes: tuple[int, ...]
    _sums: tuple[Array, Array] | None = None
    _region: Region = ()

    def start(self) -> Self:
        return replace(self, _sums=None, _region=())

    def add(self, block: Array, region: Region) -> None:
        self._sums = weighted_sums(
            block, weights_within(self.weights, region, self.axes), self.axes
        )
        self._region = self._without_reduced(region)

    def merge(self, other: Self) -> None:
        if self._sums is None:
            shape = tuple(
                n for axis, n in enumerate(self.shape) if axis not in self.axes
            )
            self._sums, self._region = (np.zeros(shape), np.zeros(shape)), whole(shape)
        assert other._sums is not None
        for ours, theirs in zip(self._sums, other._sums, strict=True):
            ours[other._region] += theirs

    def finish(self) -> dict[str, Array]:
        shape = tuple(n for axis, n in enumerate(self.shape) if axis not in self.axes)
        total, weight = self._sums or (np.zeros(shape), np.zeros(shape))
        return {
            "mean": np.divide(
                total, weight, out=np.full(shape, np.nan), where=weight > 0
            )
        }

    def _without_reduced(self, region: Region) -> Region:
        return tuple(part for axis, part in enumerate(region) if axis not in self.axes)


def mean_over(
    dataset: Dataset, variable: Variable, roles: tuple[Role, ...]
) -> Variable:
    """Return a variable's mean over the axes of some roles.

    Cells are weighted by their true area, times by the length of their steps (but for amounts,
    which count alike), levels by the thickness of their layers. Axes that the variable does not
    have are passed over. The result is float64, lazily computed.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    roles : tuple of Role
        Roles of axes.
    """
    if any(variable.shape[axis] > 1 for axis in _places(dataset, variable, roles)):
        warn_of_directions([variable])
    return weighted_mean(dataset, variable, roles)


def weighted_mean(
    dataset: Dataset, variable: Variable, roles: tuple[Role, ...]
) -> Variable:
    """Return what `mean_over` does, of what has been warned of before."""
    axes = _places(dataset, variable, roles)
    if not axes:
        return variable.replace(data=variable.floats())
    weights = {
        key: w
        for key, w in area_weights_of(dataset, variable).items()
        if set(axes_of(key)) & set(axes)
    }
    weights = {**weights, **_lengths_of(dataset, variable, roles)}
    mean = WeightedMean(variable.shape, weights, axes)
    left = tuple(name for at, name in enumerate(variable.dimensions) if at not in axes)
    shape = tuple(n for at, n in enumerate(variable.shape) if at not in axes)
    data = Reduction(variable.floats(), mean).output("mean", shape)
    return variable.replace(dimensions=left, data=data, missing=None)


def _lengths_of(
    dataset: Dataset, variable: Variable, roles: tuple[Role, ...]
) -> Weights:
    """Return the weights of a variable's times and levels, where these are among the roles."""
    lengths: dict[int | tuple[int, ...], Array] = {}
    for axis in _places(dataset, variable, (Role.TIME,)) if Role.TIME in roles else ():
        time = dataset.need_time()
        weights = mean_weights(variable, time)
        if weights is not None:
            lengths[axis] = weights
    for axis in (
        _places(dataset, variable, (Role.LEVEL,)) if Role.LEVEL in roles else ()
    ):
        lengths[axis] = layer_weights(dataset)[0]
    return lengths


def area_mean(
    dataset: Dataset, variable: Variable, values: Array, dimensions: tuple[str, ...]
) -> float:
    """Return the area-weighted mean of values of a variable along its horizontal dimensions
    alone.
    """
    field = variable.replace(data=InMemory(values), dimensions=dimensions, missing=None)
    total, weight = weighted_sums(
        values, area_weights_of(dataset, field), tuple(range(values.ndim))
    )
    return float(total / weight) if weight > 0 else float("nan")


@dataclass
class Overview(Accumulator):
    """Count, missing values, range and weighted mean of all values."""

    weights: Weights
    shape: tuple[int, ...]
    count: int = 0
    missing: int = 0
    low: float = np.nan
    high: float = np.nan
    total: float = 0.0
    weight: float = 0.0

    def start(self) -> Self:
        return replace(
            self, count=0, missing=0, low=np.nan, high=np.nan, total=0.0, weight=0.0
        )

    def add(self, block: Array, region: Region) -> None:
        mean = WeightedMean(self.shape, self.weights, tuple(range(block.ndim)))
        mean.add(block, region)
        assert mean._sums is not None
        self.total, self.weight = (float(part) for part in mean._sums)
        self.count, self.missing = block.size, int(np.isnan(block).sum())
        self.low, self.high = (
            float(f.reduce(block, axis=None)) for f in (np.fmin, np.fmax)
        )

    def merge(self, other: Self) -> None:
        self.count += other.count
        self.missing += other.missing
        self.low, self.high = (
            float(np.fmin(self.low, other.low)),
            float(np.fmax(self.high, other.high)),
        )
        self.total += other.total
        self.weight += other.weight

    def finish(self) -> dict[str, Array]:
        mean = self.total / self.weight if self.weight > 0 else np.nan
        return {
            "overview": np.array([self.count, self.missing, self.low, self.high, mean])
        }


def overview(dataset: Dataset, variable: Variable) -> LazyArray:
    """Return count, missing, minimum, maximum and mean, of cells by their area, levels by their
    thickness and times by their length, as a lazy array of 5 numbers.
    """
    weights = area_weights_of(dataset, variable)
    for role in (Role.LEVEL, Role.TIME):
        # Of times that cannot be read, and levels that are only numbered, all count alike.
        with suppress(DataError), collecting():
            weights = {**weights, **_lengths_of(dataset, variable, (role,))}
    gathered = Overview(weights, variable.shape)
    return Reduction(variable.floats(), gathered).output("overview", (5,))


def weights_within(weights: Weights, region: Region, axes: tuple[int, ...]) -> Weights:
    """Return the weights of a block, of those axes that are summed over and what belongs to them.

    Parameters
    ----------
    weights : Weights
    region : Region
        Of the block.
    axes : tuple of int
        That are summed over.
    """
    return {
        key: w[tuple(region[axis] for axis in axes_of(key))]
        for key, w in weights.items()
        if set(axes_of(key)) & set(axes)
    }


def horizontal_axes(dataset: Dataset, variable: Variable) -> tuple[int, ...]:
    """Return the axes of a variable along which latitude and longitude run."""
    return _places(dataset, variable, (Role.LATITUDE, Role.LONGITUDE))


def _places(
    dataset: Dataset, variable: Variable, roles: tuple[Role, ...]
) -> tuple[int, ...]:
    """Return the axes of a variable along which some roles run."""
    names = [
        c.dimension for role in roles if (c := dataset.coordinate(role)) is not None
    ]
    if {Role.LATITUDE, Role.LONGITUDE} <= set(roles) and dataset.axes.curvilinear:
        names += dataset.variables[dataset.axes.curvilinear[0]].dimensions
    if {Role.LATITUDE, Role.LONGITUDE} <= set(roles):
        names.append(cell_dimension(dataset))
    return tuple(at for at, name in enumerate(variable.dimensions) if name in names)


def area_weights_of(dataset: Dataset, variable: Variable) -> Weights:
    """Return the weights of a variable's cells by their area.

    Those that the variable names itself (`cell_measures`, CF 7.2) come first. Otherwise they are
    weights for each horizontal axis, or of both together where latitude and longitude have two
    dimensions.
    """
    measured = cell_measure(dataset, variable)
    if measured is not None:
        values = read_small(measured.floats()).astype(np.float64)
        places = tuple(variable.dimensions.index(name) for name in measured.dimensions)
        return {places: np.nan_to_num(values)}
    cells = cell_dimension(dataset)
    if cells is not None and cells in variable.dimensions:
        areas = mesh_of(dataset).areas.reshape(-1)
        return {(variable.dimensions.index(cells),): areas}
    if dataset.axes.curvilinear:
        latitude = dataset.variables[dataset.axes.curvilinear[0]]
        if min(latitude.shape) < 2 and "bounds" not in latitude.attributes:
            return {}  # a single row of cells, whose sizes are unknown and differ little
        mesh = mesh_of(dataset)
        if not set(mesh.dimensions) <= set(variable.dimensions):
            return {}
        return {
            tuple(
                variable.dimensions.index(name) for name in mesh.dimensions
            ): mesh.areas
        }
    weights: dict[int | tuple[int, ...], Array] = {}
    for role in (Role.LATITUDE, Role.LONGITUDE):
        for axis in _places(dataset, variable, (role,)):
            weights[axis] = area_weights(dataset.need(role))
    return weights
