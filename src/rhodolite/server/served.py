"""A dataset as protocols see it: variables by name, and their values by slices."""

from __future__ import annotations

import itertools
import math
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from email.utils import formatdate
from functools import cached_property
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, Engine, LazyArray, Selected
from rhodolite.arrays.chunk_cache import WithCache
from rhodolite.errors import DataError
from rhodolite.formats.netcdf.direct_chunk_reader import Identity, identify
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.server.gate import Gate
from rhodolite.server.limits import Deadline, Refused

_PIECE = 1 << 22
"""Bytes that are read and sent at once."""
Slices = tuple[slice, ...]
"""One for each dimension, with start, stop and step given."""


@dataclass
class Served:
    """A dataset under a name.

    Parameters
    ----------
    name : str
        As it stands in addresses.
    dataset : Dataset
        What a chain computes is computed when it is first asked for, and kept.
    engine : Engine
        All datasets of a server share one, and its cache of decoded chunks.
    gate : Gate
    version : str
        Changes with the files, for caches.
    changed : float
        When the newest of the files was changed, in seconds since 1970.
    states : tuple of (Path, Identity)
        Files, of few the state in which they were opened.
    """

    name: str
    dataset: Dataset
    engine: Engine
    gate: Gate
    version: str = ""
    changed: float = 0.0
    states: tuple[tuple[Path, Identity], ...] = ()
    _preparing: threading.Lock = field(default_factory=threading.Lock, repr=False)

    @property
    def title(self) -> str:
        """What the dataset is called for people."""
        return str(self.dataset.attributes.get("title", "")).strip() or self.name

    @property
    def last_modified(self) -> str:
        """The time of the last change as HTTP writes it."""
        return formatdate(self.changed, usegmt=True)

    @cached_property
    def variables(self) -> dict[str, Variable]:
        """All variables by name."""
        return dict(self.dataset.variables)

    def variable(self, name: str) -> Variable:
        """Return a variable.

        Raises
        ------
        Refused
            If there is none of that name.
        """
        if name not in self.variables:
            raise Refused(404, f"{self.name} has no variable '{name}'")
        return self.variables[name]

    def is_replaced(self) -> bool:
        """Return whether a file is another one than that which was opened."""
        try:
            return any(identify(path) != state for path, state in self.states)
        except OSError:
            return True

    def prepare(self) -> None:
        """Run all passes that the variables depend on."""
        with self._preparing:
            self.engine.prepare([variable.data for variable in self.variables.values()])

    def read(self, data: LazyArray, slices: Slices) -> Array:
        """Return the values of a part that is held as a whole.

        Raises
        ------
        Refused
            If it is too large, or takes too long.
        """
        size = math.prod(_lengths(slices))
        if size > self.gate.limits.cells:
            raise Refused(
                413,
                f"{size:,} values are asked for, and an answer holds "
                f"{self.gate.limits.cells:,}; ask for a smaller part",
            )
        pieces = list(self.stream(data, slices))
        shape = _lengths(slices)
        if not pieces:
            return np.empty(shape, data.dtype)
        return np.concatenate([piece.reshape(-1) for piece in pieces]).reshape(shape)

    def stream(self, data: LazyArray, slices: Slices) -> Iterator[Array]:
        """Yield the values of a part in pieces, in the order of storage.

        Raises
        ------
        Refused
            If it takes too long.
        DataError
            If the files are others than those that were opened.
        """
        shape = _lengths(slices)
        if 0 in shape:
            return
        clock = self.gate.clock()
        with clock.working():
            self._prepare_in_time(data)
        part = _part(data, slices)
        read = WithCache(part.read, self.engine.cache)
        for region in _pieces(shape, max(1, _PIECE // max(data.dtype.itemsize, 1))):
            # Who reads slowly keeps nobody else from computing.
            with clock.working():
                piece = np.asarray(read(region))
            if self.is_replaced():
                raise DataError(
                    f"{self.name}: its files were replaced or written to meanwhile; ask again"
                )
            yield piece

    def _prepare_in_time(self, data: LazyArray) -> None:
        """Run what a part depends on, unless that takes too long or others are at it as long."""
        seconds = self.gate.limits.seconds
        if not self._preparing.acquire(timeout=seconds):
            raise Refused(
                503, f"what this needs is being computed since {seconds:g} s; try again"
            )
        try:
            bounded = replace(self.engine, progress=Deadline(seconds))
            bounded.cache = self.engine.cache
            bounded.prepare([data])
        finally:
            self._preparing.release()


def whole(variable: Variable) -> Slices:
    """Return the slices that stand for all of a variable."""
    return tuple(slice(0, n, 1) for n in variable.shape)


def _lengths(slices: Sequence[slice]) -> tuple[int, ...]:
    return tuple(len(range(part.start, part.stop, part.step)) for part in slices)


def _part(data: LazyArray, slices: Slices) -> LazyArray:
    """Return a part of an array as an array of its own."""
    full = [
        (part.start, part.step, part.stop) == (0, 1, n)
        for part, n in zip(slices, data.shape, strict=True)
    ]
    if all(full):
        return data
    return Selected(
        data,
        [
            None if complete else np.arange(part.start, part.stop, part.step)
            for complete, part in zip(full, slices, strict=True)
        ],
    )


def _pieces(shape: tuple[int, ...], most: int) -> Iterator[Slices]:
    """Yield regions that follow each other in the order of storage, of at most so many cells."""
    axis, rest = len(shape), 1
    while axis > 0 and rest * shape[axis - 1] <= most:
        axis -= 1
        rest *= shape[axis]
    if axis == 0:
        yield tuple(slice(0, n) for n in shape)
        return
    step = max(1, most // rest)
    later = tuple(slice(0, n) for n in shape[axis:])
    for place in itertools.product(*(range(n) for n in shape[: axis - 1])):
        before = tuple(slice(at, at + 1) for at in place)
        for start in range(0, shape[axis - 1], step):
            yield (*before, slice(start, min(start + step, shape[axis - 1])), *later)
