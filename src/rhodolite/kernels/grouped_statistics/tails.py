"""Percentiles of groups of values, of which only the largest or the smallest are kept."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.available import can_compile
from rhodolite.kernels.grouped_statistics.base import Gathered, Statistic, count_unless
from rhodolite.kernels.order_statistics import bounds_of, find_places, interpolate
from rhodolite.kernels.sorting_networks import (
    Exchange,
    merging_network,
    sorting_network,
)
from rhodolite.kernels.unpacking import Unpacking

Array = NDArray[Any]
Network = Callable[[int], Iterable[Exchange]]


@dataclass(frozen=True)
class Tail(Statistic):
    """A percentile, by the values that can lie on its side of a group.

    The 95th percentile of 365 values lies between the 19th and the 20th from above, so that no more
    than 20 are kept, however many come. They are the bits of `order_statistics.percentile`.

    Parameters
    ----------
    share : float
        From 0 to 1.
    most : int
        Number of values in the largest group.
    kind : str
        Type of the values that are kept.
    unpack : Unpacking, optional
        What makes values of them, if they are stored numbers in the order of their values.
    """

    share: float
    most: int
    kind: str
    unpack: Unpacking | None = None

    @functools.cached_property
    def _depths(self) -> tuple[int, int]:
        """How many values from below, and from above, hold the percentile of any group."""
        counts = np.arange(1, self.most + 1)
        below, above, _ = find_places(counts, self.share)
        return int(above.max()) + 1, int((counts - below).max())

    @property
    def upper(self) -> bool:
        """Whether the largest values are kept, and not the smallest."""
        return self._depths[1] <= self._depths[0]

    @property
    def kept(self) -> int:
        """How many values of a group are kept at each cell."""
        return min(self._depths)

    @property
    def bytes_held(self) -> int:
        """See `Statistic.bytes_held`."""
        return 12 + self.kept * np.dtype(self.kind).itemsize

    @property
    def _end(self) -> float:
        """What stands where there is no value: on the other side of all values."""
        return bounds_of(np.dtype(self.kind))[0 if self.upper else 1]

    def start(
        self,
        shape: tuple[int, ...],
        *,
        weighted: bool = False,
        steps: int | None = None,
        dtype: np.dtype[Any] | None = None,  # noqa: ARG002
    ) -> Gathered:
        """See `Statistic.start`; the part has shape (kept, *shape), the outermost values last, and
        says nothing of a group before there are values."""
        steps_kept = self.kept if steps is None else min(self.kept, steps)
        tails = np.empty((steps_kept, *shape), self.kind)
        return Gathered(
            np.zeros(shape, np.int32),
            np.zeros(shape) if weighted else None,
            {"tails": tails},
        )

    def take(
        self, gathered: Gathered, group: int, values: Array, weights: Array | None
    ) -> None:
        """See `Statistic.take`."""
        self._add(gathered, group, values, np.isnan(values), weights)

    def take_numbers(
        self,
        gathered: Gathered,
        group: int,
        numbers: Array,
        unpack: Unpacking,
        weights: Array | None,
    ) -> None:
        """See `Statistic.take_numbers`."""
        if self.unpack is None:
            self.take(gathered, group, unpack(numbers), weights)
        else:
            self._add(gathered, group, numbers, unpack.find_missing(numbers), weights)

    def _add(
        self,
        gathered: Gathered,
        group: int,
        values: Array,
        missing: Array | None,
        weights: Array | None,
    ) -> None:
        is_new = not gathered.count[group].any()
        gathered.count[group] += count_unless(
            gathered, group, len(values), missing, weights
        )
        if missing is not None and missing.any():
            values = np.where(missing, np.asarray(self._end, self.kind), values)
        tails = gathered.parts["tails"]
        for first in range(0, len(values), len(tails)):
            rows = self._sort(values[first : first + len(tails)])
            if is_new and first == 0:
                self._begin(tails[:, group], rows)
            else:
                self._merge(tails, (group,), rows)

    def combine(
        self, into: Gathered, at: tuple[Any, ...], other: Gathered, row: int
    ) -> None:
        """See `Statistic.combine`."""
        ours, theirs = into.parts["tails"], other.parts["tails"][:, row]
        if not other.count[row].any():
            return
        if into.count[at].any():
            self._merge(ours, at, theirs)
        else:
            self._begin(ours[(slice(None), *at)], theirs)

    def _begin(self, tail: Array, rows: Array) -> None:
        """Fill a tail with some rows, which are in its order."""
        tail[: len(tail) - len(rows)] = self._end
        tail[len(tail) - len(rows) :] = rows.reshape(len(rows), *tail.shape[1:])

    def _sort(self, values: Array) -> Array:
        """Return values in the order of a tail."""
        rows = np.array(values, self.kind, order="C").reshape(len(values), -1)
        if not can_compile():
            return self._in_order(rows)
        from rhodolite.kernels.tail_update import sort_rows

        sort_rows(rows, _exchanges(sorting_network, len(rows), self.upper))
        return rows

    def _in_order(self, rows: Array) -> Array:
        """Return rows in the order of a tail, cell by cell, by NumPy."""
        ascending = np.sort(rows, axis=0)
        return ascending if self.upper else ascending[::-1]

    def _merge(self, tails: Array, at: tuple[Any, ...], rows: Array) -> None:
        """Put those of some rows, which are in the order of a tail, into it that belong there."""
        tail = tails[(slice(None), *at)]
        rows = np.ascontiguousarray(rows).reshape(len(rows), -1)
        if not can_compile():
            both = np.concatenate([tail.reshape(len(tail), -1), rows])
            tail[...] = self._in_order(both)[-len(tail) :].reshape(tail.shape)
            return
        from rhodolite.kernels.tail_update import merge_rows

        exchanges = _exchanges(merging_network, len(tails), self.upper)
        if tail.shape[1:] == tails.shape[2:] and tails.flags.c_contiguous:
            flat = tails.reshape(*tails.shape[:2], -1)
            merge_rows(flat, at[0], rows, exchanges, self.upper)
        else:
            flat = np.array(tail, order="C").reshape(len(tail), 1, -1)
            merge_rows(flat, 0, rows, exchanges, self.upper)
            tail[...] = flat.reshape(tail.shape)

    def finish(self, gathered: Gathered) -> dict[str, Array]:
        """See `Statistic.finish`."""
        scaled = np.empty(gathered.count.shape)
        for group, count in enumerate(gathered.count):
            tail = gathered.parts["tails"][:, group]
            low, high, part = self._around(tail, count)
            scaled[group] = interpolate(low, high, part, self.unpack)
            scaled[group, ...][count == 0] = np.nan
        return {"value": scaled}

    def _around(self, tail: Array, count: Array) -> tuple[Array, Array, Array]:
        """Return the values of a tail on both sides of the percentile of so many values, and how
        far it is from the first to the second."""
        alike = count.size > 0 and count.min() == count.max()
        number = count.reshape(-1)[0] if alike else count
        below, above, part = find_places(number, self.share)
        innermost = number - len(tail) if self.upper else len(tail) - 1
        places = [
            np.clip(abs(at - innermost), 0, len(tail) - 1) for at in (below, above)
        ]
        if alike:
            low, high = (tail[int(at)] for at in places)
        else:
            low, high = (np.take_along_axis(tail, at[None], axis=0)[0] for at in places)
        return low, high, part


@functools.cache
def _exchanges(network: Network, count: int, upper: bool) -> Array:
    """Return which rows get the smaller and the larger values, so that the outermost values come
    last."""
    pairs = np.array([exchange[:2] for exchange in network(count)], np.intp).reshape(
        -1, 2
    )
    return np.ascontiguousarray(pairs if upper else pairs[:, ::-1])
