"""The moments of pairs of values as passes over data: of each cell over time, over the area at each
time, and of all together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    LazyArray,
    Region,
    SeriesKernel,
    whole,
)
from rhodolite.kernels.pair_moments import MEANS, PRODUCTS, PairMoments
from rhodolite.kernels.weighted_sums import Weights
from rhodolite.operations.axis_reduction.area_mean import weights_within

NUMBERS = 1 + len(MEANS) + len(PRODUCTS)
"""Of each pair of values, as `OverArea` puts them one after another."""


def mean_difference(moments: PairMoments) -> Array:
    """Return the bias, NaN where there is no pair."""
    return _where_paired(moments, moments.means[0])


def mean_absolute(moments: PairMoments) -> Array:
    """Return the mean size of the difference, NaN where there is no pair."""
    return _where_paired(moments, moments.means[1])


def root_mean_square(moments: PairMoments) -> Array:
    """Return the root of the mean squared difference, NaN where there is no pair."""
    return _where_paired(moments, np.sqrt(moments.means[2]))


def centred_error(moments: PairMoments) -> Array:
    """Return the error that is left when the means of both are taken away (Taylor 2001, Journal of
    Geophysical Research 106, equation 2)."""
    difference, _, square, *_ = moments.means
    return _where_paired(moments, np.sqrt(np.maximum(square - difference**2, 0.0)))


def variance_ratio(moments: PairMoments) -> Array:
    """Return the variance of the first over that of the second, NaN where that is 0."""
    ours, theirs = moments.variances()
    none = np.full(ours.shape, np.nan)
    return np.asarray(np.divide(ours, theirs, out=none, where=theirs > 0))


def _where_paired(moments: PairMoments, values: Array) -> Array:
    return np.where(moments.weight > 0, values, np.nan)


_OF_A_CELL: Mapping[str, Callable[[PairMoments], Array]] = {
    "bias": mean_difference,
    "mean_absolute_error": mean_absolute,
    "root_mean_square_error": root_mean_square,
    "centred_error": centred_error,
    "correlation": PairMoments.correlation,
    "variance_ratio": variance_ratio,
}


@dataclass
class OverTime(SeriesKernel):
    """What sums up pairs at each cell; those of the second half of the times belong to the first.

    Attributes
    ----------
    axis : int
    lengths : ndarray of float64, shape (n,), or None
        What each time counts; None where all count alike.
    """

    axis: int
    lengths: Array | None

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {name: ((), np.dtype("f8")) for name in _OF_A_CELL}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        weights: Weights = {} if self.lengths is None else {0: self.lengths}
        first, second = np.split(block, 2)
        moments = PairMoments.of(first, second, weights, (0,))
        return {name: work(moments) for name, work in _OF_A_CELL.items()}, Counter()


@dataclass
class OverArea(Accumulator):
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


class OfMoments(LazyArray):
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
            _moments_of(self._moments.read((slice(0, NUMBERS), *region)))
        )


def _flat(moments: PairMoments) -> Array:
    return np.concatenate([moments.weight[None], moments.means, moments.products])


def _moments_of(flat: Array) -> PairMoments:
    """Return the moments that `_flat` has put one after another."""
    return PairMoments(flat[0], flat[1 : 1 + len(MEANS)], flat[1 + len(MEANS) :])


def merge_times(flat: Array, weights: Array) -> PairMoments:
    """Return the moments of all times together.

    Parameters
    ----------
    flat : ndarray, shape (NUMBERS, *left)
        Moments over the area, as `OverArea` gives them.
    weights : ndarray of float64, shape (*left)
        What each counts, however much of its area is there.
    """
    each = _moments_of(flat.reshape(NUMBERS, -1))
    total = PairMoments.empty(())
    for at in np.flatnonzero(each.weight > 0):
        total = total.merged(_weighing(each, int(at), float(weights.reshape(-1)[at])))
    return total


def _weighing(each: PairMoments, at: int, weight: float) -> PairMoments:
    """Return the moments of one time, of a weight."""
    share = weight / each.weight[at]
    return PairMoments(
        np.asarray(weight), each.means[:, at], each.products[:, at] * share
    )
