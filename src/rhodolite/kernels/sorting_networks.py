"""Sorting the few values at each of many cells by exchanges between whole rows of cells.

Which rows are compared with each other is the same for all cells, so that the values of many are
compared at once, several by each instruction of a processor.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_IN_CACHE = 1 << 19
"""Bytes of rows that are exchanged while a processor's cache holds them."""
_LEAST_ROW = 1 << 15
"""Bytes of a row, of which fewer take less time than the call that works on them."""


class Exchange(NamedTuple):
    """Two rows, of whose values the first gets the smaller at each cell, and the second the
    larger, where they are wanted."""

    low: int
    high: int
    keeps_low: bool = True
    keeps_high: bool = True


@functools.cache
def sorting_network(
    count: int, wanted: tuple[int, ...] | None = None
) -> tuple[Exchange, ...]:
    """Return the exchanges that bring so many rows into ascending order, or at least those that
    are wanted into their places.

    Parameters
    ----------
    count : int
    wanted : tuple of int, optional
        All by default.

    Notes
    -----
    Merge exchange, algorithm M in section 5.2.2 of Knuth 1998, The Art of Computer Programming,
    volume 3.

    Examples
    --------
    >>> [(exchange.low, exchange.high) for exchange in sorting_network(3)]
    [(0, 2), (0, 1), (1, 2)]
    """
    exchanges: list[tuple[int, int]] = []
    half = 1 << max((count - 1).bit_length() - 1, 0)
    p = half if count > 1 else 0
    while p:
        q, r, d = half, 0, p
        while d:
            exchanges.extend((at, at + d) for at in range(count - d) if at & p == r)
            d, q, r = q - p, q >> 1, p
        p >>= 1
    return _needed(exchanges, range(count) if wanted is None else wanted)


@functools.cache
def merging_network(count: int) -> tuple[Exchange, ...]:
    """Return the exchanges that bring rows into ascending order that first descend and then
    ascend.

    Notes
    -----
    The bitonic merge of Batcher 1968, Proceedings of the AFIPS Spring Joint Computer Conference 32,
    307-314, as if the rows were followed by infinite ones, up to a power of two.
    """
    exchanges: list[tuple[int, int]] = []
    stride = 1 << max((count - 1).bit_length() - 1, 0) if count > 1 else 0
    while stride:
        exchanges.extend(
            (at, at + stride) for at in range(count - stride) if not at & stride
        )
        stride >>= 1
    return _needed(exchanges, range(count))


def _needed(
    pairs: Sequence[tuple[int, int]], wanted: Iterable[int]
) -> tuple[Exchange, ...]:
    """Return those of some exchanges on which what is wanted depends."""
    live, needed = set(wanted), []
    for low, high in reversed(pairs):
        if low in live or high in live:
            needed.append(Exchange(low, high, low in live, high in live))
            live |= {low, high}
    return tuple(reversed(needed))


def exchange(rows: list[Array], network: Iterable[Exchange]) -> None:
    """Carry out exchanges between rows of cells.

    Parameters
    ----------
    rows : list of ndarray, each of shape (*cells)
        Are overwritten, and come into another order.
    network : iterable of Exchange
    """
    spare = np.empty_like(rows[0])
    for low, high, keeps_low, keeps_high in network:
        first, second = rows[low], rows[high]
        if not keeps_low:
            np.maximum(first, second, out=second)
        elif not keeps_high:
            np.minimum(first, second, out=first)
        else:
            rows[low] = np.minimum(first, second, out=spare)
            np.maximum(first, second, out=second)
            spare = first


def sort_cells(values: Array, wanted: Sequence[int] | None = None) -> list[Array]:
    """Return the values at each cell in ascending order.

    Parameters
    ----------
    values : ndarray, shape (n, cells)
        None of them NaN.
    wanted : sequence of int, optional
        Places of which the values are needed; all by default.

    Returns
    -------
    list of ndarray, each of shape (cells)
        For each place that is wanted.

    Examples
    --------
    >>> [row.tolist() for row in sort_cells(np.array([[3.0], [1.0], [2.0]]))]
    [[1.0], [2.0], [3.0]]
    """
    places = range(len(values)) if wanted is None else wanted
    network = sorting_network(len(values), tuple(places))
    out = [np.empty(values.shape[1:], values.dtype) for _ in places]
    for part in _parts(len(values), values.shape[1], values.dtype.itemsize):
        rows = list(np.array(values[:, part]))
        exchange(rows, network)
        for place, sorted_row in zip(places, out, strict=True):
            sorted_row[part] = rows[place]
    return out


def _parts(rows: int, cells: int, itemsize: int) -> list[slice]:
    """Return stretches of cells, of about the same length, of which so many rows, and as many
    again, fit into a cache."""
    row = max(_LEAST_ROW, _IN_CACHE // max(rows, 1))
    length = -(-cells // max(1, round(cells * itemsize / row)))
    return [slice(start, start + length) for start in range(0, cells, length)]
