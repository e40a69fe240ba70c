"""Arrays at sites: the values that sites take from the cells of a grid."""

from __future__ import annotations

import numpy as np
from scipy import sparse

from rhodolite.arrays import Array, LazyArray, Region, read_small
from rhodolite.operations.regridding.remapped_array import Remapped, Weights

_HALF = 0.5
"""Share of a site's weight that has to have values."""


class SiteArray(LazyArray):
    """An array at sites: the axis of sites first, all axes but the horizontal ones after it.

    Parameters
    ----------
    source : LazyArray
    axes : tuple of int
        Of the rows and the columns of the grid.
    weights : Weights
        Of the cells for each site.
    cells : LazyArray, optional
        The cell of each site, shape (sites,), which is known after a pass only.
    moved : bool
        Whether a site takes the value of its cell, in place of what the weights say.
    """

    def __init__(
        self,
        source: LazyArray,
        axes: tuple[int, int],
        weights: Weights,
        cells: LazyArray | None = None,
        moved: bool = False,
    ) -> None:
        self._source, self._axes, self._weights = source, axes, weights
        self._cells, self._moved = cells, moved
        self._remapped: Remapped | None = None
        planned = self._remap(weights)
        self.dtype = source.dtype
        self.shape = self._put_sites_first(planned.shape)
        assert planned.chunks is not None
        self.chunks = self._put_sites_first(planned.chunks)
        self._share = planned.decoded_share

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,) if self._cells is None else (self._source, self._cells)

    @property
    def decoded_share(self) -> float:
        return self._share

    def read(self, region: Region) -> Array:
        if self._remapped is None:
            self._remapped = self._remap(self._final_weights())
        rows, columns = self._axes
        of_grid = {
            rows: region[0],
            columns: slice(0, 1),
        }  # sites lie along the rows alone
        rest = iter(region[1:])
        inner = [of_grid.get(axis) or next(rest) for axis in range(self._source.ndim)]
        block = np.moveaxis(self._remapped.read(tuple(inner)), self._axes, (0, 1))
        return block[:, 0]

    def _final_weights(self) -> Weights:
        if self._cells is None or not self._moved:
            return self._weights
        cells = read_small(self._cells)
        kept_cells = np.flatnonzero(cells >= 0)
        entries = (np.ones(kept_cells.size), (kept_cells, cells[kept_cells]))
        return Weights(sparse.csr_array(entries, shape=self._weights.matrix.shape))

    def _remap(self, weights: Weights) -> Remapped:
        return Remapped(
            self._source, self._axes, (weights.matrix.shape[0], 1), weights, _HALF
        )

    def _put_sites_first(self, sizes: tuple[int, ...]) -> tuple[int, ...]:
        others = (n for axis, n in enumerate(sizes) if axis not in self._axes)
        return (sizes[self._axes[0]], *others)
