"""The passes over a field: products of its times, their eigenvectors, and maps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
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
from rhodolite.errors import warn
from rhodolite.kernels.principal_components import (
    centre_cells,
    coupled_components,
    principal_components,
    regress_on,
    time_products,
    varimax,
)


@dataclass
class _OfField(SeriesKernel):
    """What is done with whole series of a field, below which stands a row of weights."""

    label: str
    axis: int
    standardised: bool
    fewest: float

    def _departures(self, block: Array) -> tuple[Array, Array, Array]:
        """Return departures as they are and as they count, of shape (n, m), and the weights."""
        values = block[:-1].reshape(len(block) - 1, -1).astype(np.float64)
        # An infinite value would be the whole variance.
        values[np.isinf(values)] = np.nan
        departures = centre_cells(values, self.fewest)
        counted = departures
        if self.standardised:
            spread = np.sqrt((departures**2).sum(axis=0) / (len(values) - 1))
            counted = np.where(
                spread > 0, departures / np.where(spread > 0, spread, 1), 0
            )
            counted = np.where(np.isnan(departures), np.nan, counted)
        return departures, counted, block[-1].reshape(-1).astype(np.float64)


@dataclass
class Products(_OfField):
    """The products of all pairs of times, summed over cells."""

    steps: int = 0

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {}

    def totals(self) -> Mapping[str, tuple[int, ...]]:
        """See `SeriesKernel.totals`."""
        return {"products": (self.steps, self.steps)}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        departures, counted, weights = self._departures(block)
        known = ~np.isnan(block[:-1].reshape(len(block) - 1, -1)).all(axis=0)
        left_out = known & np.isnan(departures[0])
        counts = Counter(left_out=int(left_out.sum()), of=int(known.sum()))
        return {"products": time_products(counted, weights)}, counts

    def report(self, counts: Counter[str]) -> None:
        if counts["left_out"]:
            warn(
                f"{self.label}: {counts['left_out']:,} of {counts['of']:,} cells are left out, "
                "since values of theirs are missing or infinite; --min-coverage says how many may "
                "be"
            )


@dataclass
class Maps(_OfField):
    """The change of each cell with one standard deviation of each series."""

    series: LazyArray | None = None
    count: int = 0

    def needs(self) -> tuple[LazyArray, ...]:
        assert self.series is not None
        return (self.series,)

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        shape = ((self.count,), np.dtype("f8"))
        return {"maps": shape, "loadings": shape}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        assert self.series is not None
        departures, counted, weights = self._departures(block)
        series = self.series.read(whole(self.series.shape))
        shape = (self.count, *block.shape[1:])
        maps = regress_on(departures, series)
        loadings = regress_on(counted, series) * np.sqrt(np.maximum(weights, 0.0))
        results = {"maps": maps.reshape(shape), "loadings": loadings.reshape(shape)}
        return results, Counter()


@dataclass
class _Gathered(Accumulator):
    """An array that is put together whole, for what cannot be done in parts."""

    shape: tuple[int, ...]
    count: int
    parts: list[tuple[Region, Array]] = field(default_factory=list)

    def start(self) -> Self:
        return replace(self, parts=[])

    def add(self, block: Array, region: Region) -> None:
        self.parts = [(region, block.copy())]

    def merge(self, other: Self) -> None:
        self.parts += other.parts

    @property
    def _whole(self) -> Array:
        result = np.empty(self.shape)
        for region, block in self.parts:
            result[region] = block
        return result


@dataclass
class Eigenvectors(_Gathered):
    """The components of one field, of the products of its times."""

    def finish(self) -> dict[str, Array]:
        parts = principal_components(self._whole, self.count)
        return {"series": parts.series, "share": parts.share}


@dataclass
class CoupledVectors(_Gathered):
    """The components of two fields, of the products of the times of both, one above the other."""

    def finish(self) -> dict[str, Array]:
        ours, theirs = self._whole
        first, second, correlation = coupled_components(ours, theirs, self.count)
        return {
            "series": first.series,
            "other_series": second.series,
            "share": first.share,
            "correlation": correlation,
        }


@dataclass
class Rotation(_Gathered):
    """The rotation of loadings, and the variance of each after it, in falling order."""

    def finish(self) -> dict[str, Array]:
        loadings = self._whole.reshape(self.count, -1)
        complete = ~np.isnan(loadings).any(axis=0)
        if not complete.any():
            missing = np.full(self.count, np.nan)
            return {"rotation": np.eye(self.count), "part": missing}
        rotation = varimax(loadings[:, complete].T)
        variances = ((loadings[:, complete].T @ rotation) ** 2).sum(axis=0)
        order = np.argsort(-variances, kind="stable")
        before = (loadings[:, complete] ** 2).sum()
        return {"rotation": rotation[:, order], "part": variances[order] / before}


class Turned(LazyArray):
    """An array whose first or last axis, of components, is turned by a small matrix."""

    dtype = np.dtype("f8")

    def __init__(self, source: LazyArray, rotation: LazyArray, *, last: bool) -> None:
        self._source, self._rotation, self._last = source, rotation, last
        self.shape, self.chunks = source.shape, source.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source, self._rotation)

    def read(self, region: Region) -> Array:
        rotation = self._rotation.read(whole(self._rotation.shape))
        at = len(region) - 1 if self._last else 0
        wanted = [*region]
        wanted[at] = slice(0, self.shape[at])
        values = np.moveaxis(self._source.read(tuple(wanted)), at, -1)
        turned = values @ rotation[:, region[at]]
        return np.moveaxis(turned, -1, at)
