"""Arrays at other levels than those of their source."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.kernels.vertical_interpolation import at_levels
from rhodolite.operations.vertical.coordinate import Vertical


class Releveled(LazyArray):
    """Another array at other levels.

    Parameters
    ----------
    source : LazyArray
    axis : int
        Of its levels.
    vertical : Vertical
    terms : list of LazyArray
        What heights are computed from, where they differ from column to column.
    wanted : ndarray of float64
        New heights, in the units of the vertical.
    logarithmic, extrapolate : bool
    """

    def __init__(
        self,
        source: LazyArray,
        axis: int,
        vertical: Vertical,
        terms: list[LazyArray],
        wanted: Array,
        logarithmic: bool,
        extrapolate: bool,
    ) -> None:
        self._source, self._axis, self._terms, self._wanted = (
            source,
            axis,
            terms,
            wanted,
        )
        self._values, self._formula = vertical.values, vertical.formula
        self._logarithmic, self._extrapolate = logarithmic, extrapolate
        self.shape = tuple(
            wanted.size if at == axis else n for at, n in enumerate(source.shape)
        )
        self.dtype = source.dtype
        if source.chunks is not None:
            self.chunks = tuple(
                wanted.size if at == axis else n for at, n in enumerate(source.chunks)
            )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source, *self._terms)

    @property
    def decoded_share(self) -> float:
        count = self._source.shape[self._axis] * (1 + len(self._terms))
        return self._source.decoded_share * max(1.0, count / self._wanted.size)

    def read(self, region: Region) -> Array:
        whole = slice(0, self._source.shape[self._axis])
        inner = tuple(
            whole if at == self._axis else part for at, part in enumerate(region)
        )
        values = np.moveaxis(self._source.read(inner), self._axis, 0)
        wanted = self._wanted[region[self._axis]]
        heights = self._values
        if heights is None:
            assert self._formula is not None
            blocks = [
                np.moveaxis(term.read(inner).astype(np.float64), self._axis, 0)
                for term in self._terms
            ]
            heights = np.broadcast_to(self._formula(*blocks), values.shape)
        if self._logarithmic:
            heights, wanted = np.log(np.maximum(heights, 1e-30)), np.log(wanted)
        interpolated = at_levels(values, heights, wanted, extrapolate=self._extrapolate)
        return np.moveaxis(interpolated, 0, self._axis).astype(self.dtype)
