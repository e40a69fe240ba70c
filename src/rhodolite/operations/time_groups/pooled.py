"""Measures of groups that share their steps, as the days around each calendar day do."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, Unpacking
from rhodolite.kernels.available import can_compile
from rhodolite.kernels.grouped_statistics import Gathered, Statistic
from rhodolite.kernels.moving_quantiles import (
    Changes,
    changes_of_groups,
    find_moving_quantiles,
)
from rhodolite.kernels.order_statistics import find_missing
from rhodolite.operations.time_groups.groups import cache_slices, rows_of_groups
from rhodolite.operations.time_groups.reduction import GroupedSeries

Indices = NDArray[np.intp]
_WORTH_COMPILING = 1 << 16
"""Values in all groups, whose quantiles take longer one by one than to load what is compiled."""


@dataclass
class PooledSeries(GroupedSeries):
    """A measure of each group at each cell, where a step belongs to several groups.

    Attributes
    ----------
    rows : ndarray of int
        For each entry of the steps of the groups, the row of the series that it is of.
    """

    rows: Indices = field(kw_only=True)

    def of_stored(
        self, numbers: Array, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Counter[str]]:
        """See `SeriesKernel.of_stored`."""
        groups, cells = self.groups, numbers.shape[1:]
        flat = numbers.reshape(len(numbers), -1)
        merges = isinstance(self.measure, Statistic)
        if unpack is not None and (merges or not unpack.keeps_order):
            flat, unpack = unpack(flat), None
        out = {
            name: np.full((groups.size, flat.shape[1]), np.nan)
            for name in self.outputs()
        }
        members, lost = self._members, 0
        most = max(map(len, members), default=1)
        for part in cache_slices(flat.shape[1], most):
            block = np.ascontiguousarray(flat[:, part])
            results, gathered = self._measure(block, unpack)
            lost += groups.blank(results, gathered)
            for name, values in results.items():
                out[name][:, part] = values
        shaped = {name: v.reshape(groups.size, *cells) for name, v in out.items()}
        return shaped, Counter(lost=lost, of=groups.size * flat.shape[1])

    @cached_property
    def _members(self) -> list[Indices]:
        """Return the rows of each group."""
        entries = rows_of_groups(self.groups.steps, self.groups.size)
        return [self.rows[some] for some in entries]

    @cached_property
    def _changes(self) -> Changes:
        return changes_of_groups(self._members)

    def _measure(
        self, block: Array, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Gathered]:
        """Return the measure of each group of some cells, and how many values it is of."""
        if not isinstance(self.measure, Statistic) and self.measure.share is not None:
            entries = self.rows.size * block.shape[1]
            if entries >= _WORTH_COMPILING and can_compile():
                return self._quantiles(block, self.measure.share, unpack)
        return self._measure_each(block, unpack)

    def _quantiles(
        self, block: Array, share: float, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Gathered]:
        """Return the quantile of each group, from that of the group before."""
        values, numbers = block, None
        if unpack is not None:
            values, numbers = unpack(block), block
        if values.dtype.kind != "f":
            values = values.astype(np.float64)
        quantiles, sizes = find_moving_quantiles(values, self._changes, share, numbers)
        return {"value": quantiles}, Gathered(sizes.astype(np.int32), None)

    def _measure_each(
        self, block: Array, unpack: Unpacking | None
    ) -> tuple[dict[str, Array], Gathered]:
        missing, members = find_missing(block, unpack), self._members
        shape = (len(members), block.shape[1])
        results = {name: np.full(shape, np.nan) for name in self.outputs()}
        count = np.zeros(shape, dtype=np.int32)
        for group, rows in enumerate(members):
            if not rows.size:
                continue
            count[group] = rows.size
            if missing is not None:
                count[group] -= missing[rows].sum(axis=0, dtype=np.int32)
            of_group = self._of_group(block[rows], unpack, whole=missing is None)
            for name, values in of_group.items():
                results[name][group] = np.where(count[group] > 0, values, np.nan)
        return results, Gathered(count, None)

    def _of_group(
        self, numbers: Array, unpack: Unpacking | None, *, whole: bool
    ) -> dict[str, Array]:
        if isinstance(self.measure, Statistic):
            gathered = self.measure.gather(
                numbers, np.zeros(len(numbers), int), 1, None
            )
            finished = self.measure.finish(gathered)
            return {name: values[0] for name, values in finished.items()}
        return {"value": self.measure.of_all(numbers, unpack, whole=whole)}
