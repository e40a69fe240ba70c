"""Values of a list, put where they belong along several axes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays.lazy import Array, LazyArray, Region, region_shape

NOWHERE = -1
"""The place of a cell that the list has no value for."""


class LaidOut(LazyArray):
    """The values of a list at the places that each cell names.

    Parameters
    ----------
    source : LazyArray, shape (n,)
    places : ndarray of int64, shape (*cells)
        Where in the list the value of each cell is; `NOWHERE` where there is none.
    absent : number or str
        What such cells have.
    """

    def __init__(
        self, source: LazyArray, places: NDArray[np.int64], absent: Any
    ) -> None:
        self._source, self._places, self._absent = source, places, absent
        self.dtype, self.shape = source.dtype, places.shape

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        places = self._places[region]
        result = np.full(region_shape(region), self._absent, dtype=self.dtype)
        there = places != NOWHERE
        if there.any():
            wanted = places[there]
            # Of a list that is in order by sites, those of a region lie close together.
            first = int(wanted.min())
            values = self._source.read((slice(first, int(wanted.max()) + 1),))
            result[there] = values[wanted - first]
        return result
