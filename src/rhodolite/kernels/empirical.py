"""The distribution of a sample at each cell as it is: places, probabilities and quantiles."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.available import can_compile

Array = NDArray[Any]
_EQUAL_PLACES = 1e-9
"""A place that is nearer to a whole one is that of a value itself, but for rounding."""
_WORTH_COMPILING = 1 << 13
"""Values that take longer one row after the other than to load what is compiled."""


class Empirical:
    """The distribution of a sample, linear between its values in order.

    Parameters
    ----------
    sample : ndarray of float64, shape (n, *cells)
        NaN where missing.

    Notes
    -----
    Probabilities (place - 0.5) / n (Hazen 1914); of equal values that in their middle. Beyond the
    outermost values it stays at theirs.

    Examples
    --------
    >>> known = Empirical(np.array([1.0, 3.0]))
    >>> known.below(np.array([1.0, 2.0, 9.0])).tolist(), known.quantile(np.array([0.5])).tolist()
    ([0.25, 0.5, 0.75], [2.0])
    """

    def __init__(self, sample: Array) -> None:
        nothing = np.full((1, *sample.shape[1:]), np.nan)
        rows = _rows_of(sample if len(sample) else nothing)
        self._ordered = np.sort(rows, axis=1)
        self._count = np.full(len(rows), rows.shape[1])
        # Missing values come last in order, and most series have none.
        lacking = np.isnan(self._ordered[:, -1])
        self._count[lacking] = (~np.isnan(self._ordered[lacking])).sum(axis=1)

    def count_below(self, values: Array) -> tuple[Array, Array]:
        """Return how many values of the sample lie below each value, and how many up to it.

        Parameters
        ----------
        values : ndarray of float64, shape (m, *cells)

        Returns
        -------
        tuple of ndarray of int64, shape (m, *cells)
            Whatever it may be where a value is missing.
        """
        rows = _rows_of(values)
        less, up_to = self._count_below(rows)
        return _back(less, values.shape), _back(up_to, values.shape)

    def below(self, values: Array) -> Array:
        """Return the probability below values, of shape (m, *cells)."""
        rows = _rows_of(values)
        if self._is_worth_compiling(rows):
            from rhodolite.kernels.compiled_empirical import find_shares

            shares = find_shares(self._ordered, self._count, rows)
        else:
            shares = self._find_shares(rows)
        return _back(shares, values.shape)

    def quantile(self, share: Array) -> Array:
        """Return the value that has a probability below it, of shape (m, *cells)."""
        rows = _rows_of(share)
        if self._is_worth_compiling(rows):
            from rhodolite.kernels.compiled_empirical import find_quantiles

            values = find_quantiles(self._ordered, self._count, rows, _EQUAL_PLACES)
        else:
            values = self._find_quantiles(rows)
        return _back(values, share.shape)

    def outermost(self) -> tuple[Array, Array]:
        """Return the lowest and the highest value of each cell; NaN where there is none."""
        last = np.maximum(self._count - 1, 0)
        return self._ordered[:, 0], _at(self._ordered, last[:, None])[:, 0]

    def _count_below(self, rows: Array) -> tuple[Array, Array]:
        if self._is_worth_compiling(rows):
            from rhodolite.kernels.compiled_empirical import count_below

            return count_below(self._ordered, self._count, rows)
        less, up_to = np.empty((2, *rows.shape), dtype=np.int64)
        for cell, count in enumerate(self._count):
            known = self._ordered[cell, :count]
            less[cell] = np.searchsorted(known, rows[cell], side="left")
            up_to[cell] = np.searchsorted(known, rows[cell], side="right")
        return less, up_to

    def _is_worth_compiling(self, rows: Array) -> bool:
        # Of a few values in a large sample the whole sample is gone through otherwise.
        size = max(rows.size, self._ordered.size)
        return size >= _WORTH_COMPILING and can_compile()

    def _find_shares(self, rows: Array) -> Array:
        less, up_to = self._count_below(rows)
        count = self._count[:, None]
        last = np.maximum(count - 1, 0)
        above, before = np.minimum(less, last), np.clip(less - 1, 0, last)
        middles = _middles_of_equals(self._ordered) / np.maximum(count, 1)
        low, high = _at(self._ordered, before), _at(self._ordered, above)
        low_share, high_share = _at(middles, before), _at(middles, above)
        part = np.zeros(rows.shape)
        np.divide(rows - low, high - low, out=part, where=high > low)
        between = low_share + np.clip(part, 0.0, 1.0) * (high_share - low_share)
        shares = np.where(up_to > less, high_share, between)
        return np.where(np.isnan(rows) | (count == 0), np.nan, shares)

    def _find_quantiles(self, rows: Array) -> Array:
        count = self._count[:, None]
        last = np.maximum(count - 1, 0)
        place = np.clip(np.nan_to_num(rows) * count - 0.5, 0.0, last)
        before = np.floor(place).astype(np.int64)
        low = _at(self._ordered, before)
        high = _at(self._ordered, np.minimum(before + 1, last))
        part = np.where(place - before < _EQUAL_PLACES, 0.0, place - before)
        return np.where(np.isnan(rows), np.nan, low + part * (high - low))


def _rows_of(values: Array) -> Array:
    """Return the values of each cell as a row."""
    flat = values.reshape(len(values), math.prod(values.shape[1:]))
    return np.ascontiguousarray(flat.T, dtype=np.float64)


def _back(rows: Array, shape: tuple[int, ...]) -> Array:
    """Return rows of cells as an array whose first axis goes along them."""
    return np.ascontiguousarray(rows.T).reshape(shape)


def _at(rows: Array, places: Array) -> Array:
    return np.take_along_axis(rows, places, axis=1)


def _middles_of_equals(ordered: Array) -> Array:
    """Return the place of each value in order, from 0.5; equal values have that of their middle."""
    places = np.broadcast_to(np.arange(ordered.shape[1]), ordered.shape)
    differs = np.ones(ordered.shape, dtype=bool)
    differs[:, 1:] = ordered[:, 1:] != ordered[:, :-1]
    first = np.maximum.accumulate(np.where(differs, places, 0), axis=1)
    ends = np.ones(ordered.shape, dtype=bool)
    ends[:, :-1] = differs[:, 1:]
    behind = np.where(ends, places, ordered.shape[1])[:, ::-1]
    last = np.minimum.accumulate(behind, axis=1)[:, ::-1]
    return np.asarray((first + last + 1) / 2)
