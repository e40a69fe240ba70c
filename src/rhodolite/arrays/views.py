"""Views: parts of a lazy array, and several lazy arrays end to end."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays.lazy import Array, LazyArray, Region, region_shape
from rhodolite.kernels.unpacking import Unpacking

Indices = NDArray[np.intp]


@dataclass(frozen=True)
class _Run:
    """One stretch of the source along one axis, and where its values go."""

    source: slice
    inner: slice | Indices
    target: slice | Indices


class Selected(LazyArray):
    """The cells of another array at given indices along each axis.

    Parameters
    ----------
    source : LazyArray
    indices : sequence of (ndarray of int or None)
        One entry an axis: the indices wanted, in the order wanted, or None for all.
    """

    def __init__(self, source: LazyArray, indices: Sequence[Indices | None]) -> None:
        picks: list[Indices | None] = [
            None if pick is None else np.asarray(pick, dtype=np.intp)
            for pick in indices
        ]
        if isinstance(source, Selected):
            picks = [
                _compose(outer, pick)
                for outer, pick in zip(source._picks, picks, strict=True)
            ]
            source = source._source
        self._source: LazyArray = source
        self._picks: list[Indices | None] = picks
        self.dtype = source.dtype
        self.shape = tuple(
            n if pick is None else pick.size
            for n, pick in zip(source.shape, picks, strict=True)
        )
        if source.chunks is not None:
            self.chunks = tuple(
                max(1, min(c, n))
                for c, n in zip(source.chunks, self.shape, strict=True)
            )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        share = self._source.decoded_share
        if self._source.chunks is not None and self.chunks is not None and self.size:
            share *= math.prod(self._source.chunks) / math.prod(self.chunks)
        return share

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        stored, unpack = self._source.as_stored()
        return (
            (self, None) if unpack is None else (Selected(stored, self._picks), unpack)
        )

    def read(self, region: Region) -> Array:
        reach = self._source.chunks or (1,) * self.ndim
        runs = [
            [_Run(part, slice(None), slice(0, part.stop - part.start))]
            if pick is None
            else _runs(pick[part], chunk)
            for pick, part, chunk in zip(self._picks, region, reach, strict=True)
        ]
        return self._assemble(runs, (), region_shape(region))

    def _assemble(
        self, runs: list[list[_Run]], chosen: Region, shape: tuple[int, ...]
    ) -> Array:
        """Read every combination of runs, placing them axis by axis from the last to the first."""
        axis = len(chosen)
        if axis == len(runs):
            return self._source.read(chosen)
        out: Array | None = None
        for run in runs[axis]:
            part = self._assemble(runs, (*chosen, run.source), shape)
            part = _along(part, run.inner, axis)
            if len(runs[axis]) == 1 and isinstance(run.target, slice):
                return part
            if out is None:
                out = np.empty(
                    (*part.shape[:axis], shape[axis], *part.shape[axis + 1 :]),
                    self.dtype,
                )
            out[(slice(None),) * axis + (run.target,)] = part
        assert out is not None
        return out


class FirstAxisMoved(LazyArray):
    """Another array with its first axis moved to another place."""

    def __init__(self, source: LazyArray, place: int) -> None:
        self._source = source
        self._place = place
        self.dtype = source.dtype
        self.shape = self._back(source.shape)
        self.chunks = None if source.chunks is None else self._back(source.chunks)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        inner = (
            region[self._place],
            *region[: self._place],
            *region[self._place + 1 :],
        )
        return np.moveaxis(self._source.read(inner), 0, self._place)

    def _back(self, sizes: tuple[int, ...]) -> tuple[int, ...]:
        return (*sizes[1 : self._place + 1], sizes[0], *sizes[self._place + 1 :])


class Transposed(LazyArray):
    """Another array with its axes in another order; `order` has the source's axis for each of its
    own."""

    def __init__(self, source: LazyArray, order: tuple[int, ...]) -> None:
        self._source, self._order = source, order
        self.dtype = source.dtype
        self.shape = tuple(source.shape[axis] for axis in order)
        self.chunks = (
            None
            if source.chunks is None
            else tuple(source.chunks[axis] for axis in order)
        )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        return self._source.decoded_share

    def read(self, region: Region) -> Array:
        inner = tuple(
            region[self._order.index(axis)] for axis in range(len(self._order))
        )
        return self._source.read(inner).transpose(self._order)


class Flattened(LazyArray):
    """Another array with some axes run together into one, which comes first."""

    def __init__(self, source: LazyArray, axes: tuple[int, ...]) -> None:
        self._source, self._axes = source, axes
        self._lengths = tuple(source.shape[axis] for axis in axes)
        left = [axis for axis in range(source.ndim) if axis not in axes]
        self.dtype = source.dtype
        self.shape = (math.prod(self._lengths), *(source.shape[axis] for axis in left))
        if source.chunks is not None:
            self.chunks = (
                math.prod(self._lengths),
                *(source.chunks[axis] for axis in left),
            )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        wanted, rest = region[0], list(region[1:])
        within = math.prod(self._lengths[1:])
        rows = slice(wanted.start // within, -(-wanted.stop // within))
        inner = [rows, *(slice(0, n) for n in self._lengths[1:])]
        whole = [
            inner[self._axes.index(axis)] if axis in self._axes else rest.pop(0)
            for axis in range(self._source.ndim)
        ]
        block = np.moveaxis(
            self._source.read(tuple(whole)), self._axes, range(len(self._axes))
        )
        flat = block.reshape(-1, *block.shape[len(self._axes) :])
        first = rows.start * within
        return flat[wanted.start - first : wanted.stop - first]


class Elementwise(LazyArray):
    """Several arrays of the same shape put through a point-wise function, block by block, in
    float64.

    Parameters
    ----------
    parts : sequence of LazyArray
    function : callable
        Takes a block of each and returns one. Has to be picklable.
    """

    def __init__(
        self, parts: Sequence[LazyArray], function: Callable[..., Array]
    ) -> None:
        self._parts = tuple(parts)
        self._function = function
        self.shape, self.chunks = parts[0].shape, parts[0].chunks
        self.dtype = np.dtype("f8")

    def sources(self) -> tuple[LazyArray, ...]:
        return self._parts

    def read(self, region: Region) -> Array:
        return np.asarray(
            self._function(*(part.read(region) for part in self._parts)),
            dtype=np.float64,
        )


class Stacked(LazyArray):
    """Several arrays of the same shape on top of each other, along a new first axis."""

    def __init__(self, parts: Sequence[LazyArray]) -> None:
        self._parts = tuple(parts)
        self.shape = (len(parts), *parts[0].shape)
        self.dtype = np.result_type(*[part.dtype for part in parts])
        self.chunks = (
            None if parts[0].chunks is None else (len(parts), *parts[0].chunks)
        )

    def sources(self) -> tuple[LazyArray, ...]:
        return self._parts

    def read(self, region: Region) -> Array:
        return np.stack(
            [part.read(region[1:]) for part in self._parts[region[0]]], dtype=self.dtype
        )


class Concatenated(LazyArray):
    """Several lazy arrays of the same other dimensions, one after another along one axis."""

    def __init__(self, parts: Sequence[LazyArray], axis: int) -> None:
        first = parts[0]
        self._parts = tuple(parts)
        self._axis = axis
        self._starts = np.concatenate(
            [[0], np.cumsum([part.shape[axis] for part in parts])]
        )
        self.shape = (
            *first.shape[:axis],
            int(self._starts[-1]),
            *first.shape[axis + 1 :],
        )
        self.dtype = np.result_type(*[part.dtype for part in parts])
        self.chunks = first.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return self._parts

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        parts, decodes = zip(*(part.as_stored() for part in self._parts), strict=True)
        alike = all(
            decode == decodes[0] and part.dtype == parts[0].dtype
            for part, decode in zip(parts, decodes, strict=True)
        )
        if not alike or parts[0].dtype.itemsize >= self.dtype.itemsize:
            return self, None
        return Concatenated(parts, self._axis), decodes[0]

    def read(self, region: Region) -> Array:
        wanted = region[self._axis]
        first = int(np.searchsorted(self._starts, wanted.start, side="right")) - 1
        pieces = []
        for number in range(first, len(self._parts)):
            offset = int(self._starts[number])
            if offset >= wanted.stop:
                break
            stop = min(wanted.stop, int(self._starts[number + 1])) - offset
            start = max(wanted.start - offset, 0)
            if stop > start:
                inner = (
                    *region[: self._axis],
                    slice(start, stop),
                    *region[self._axis + 1 :],
                )
                pieces.append(self._parts[number].read(inner))
        if len(pieces) == 1:
            return pieces[0].astype(self.dtype, copy=False)
        return np.concatenate(pieces, axis=self._axis, dtype=self.dtype)


def _compose(outer: Indices | None, inner: Indices | None) -> Indices | None:
    if outer is None:
        return inner
    return outer if inner is None else outer[inner]


def _as_slice(indices: Indices) -> slice | Indices:
    """Return a slice that picks the same cells, where the indices are evenly spaced."""
    if indices.size == 1:
        return slice(int(indices[0]), int(indices[0]) + 1)
    step = int(indices[1] - indices[0])
    if step == 0 or np.any(np.diff(indices) != step):
        return indices
    stop = int(indices[-1]) + step
    return slice(int(indices[0]), None if stop < 0 else stop, step)


def _along(block: Array, picks: slice | Indices, axis: int) -> Array:
    return block[(slice(None),) * axis + (picks,)]


def _runs(wanted: Indices, reach: int) -> list[_Run]:
    """Split wanted indices into stretches to read: cells closer than `reach` come in one."""
    if wanted.size == 0:
        return [_Run(slice(0, 0), slice(None), slice(0, 0))]
    order = np.argsort(wanted, kind="stable")
    ascending = wanted[order]
    breaks = np.flatnonzero(np.diff(ascending) > max(reach, 1)) + 1
    if breaks.size == 0:
        low, high = int(ascending[0]), int(ascending[-1]) + 1
        return [_Run(slice(low, high), _as_slice(wanted - low), slice(0, wanted.size))]
    runs = []
    for places in np.split(order, breaks):
        places = np.sort(places)
        low, high = int(wanted[places].min()), int(wanted[places].max()) + 1
        runs.append(
            _Run(slice(low, high), _as_slice(wanted[places] - low), _as_slice(places))
        )
    return runs
