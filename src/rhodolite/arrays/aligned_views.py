"""Arrays seen along the dimensions of others."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays.lazy import Array, LazyArray, Region


class Aligned(LazyArray):
    """An array seen along the dimensions of a larger one: those that it lacks have length 1 when it
    is read."""

    def __init__(
        self,
        source: LazyArray,
        own: tuple[str, ...],
        dimensions: tuple[str, ...],
        shape: tuple[int, ...],
    ) -> None:
        self._source = source
        self._places = [dimensions.index(name) for name in own]
        self.shape = shape
        self.dtype = source.dtype
        if source.chunks is not None:
            chunks = [1] * len(shape)
            for place, n in zip(self._places, source.chunks, strict=True):
                chunks[place] = n
            self.chunks = tuple(chunks)

    @property
    def places(self) -> int:
        """How many dimensions it has of its own."""
        return len(self._places)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        block = self._source.read(tuple(region[place] for place in self._places))
        order = np.argsort(self._places)
        block = block.transpose(order) if block.ndim > 1 else block
        present = iter(block.shape)
        return block.reshape(
            [
                next(present) if axis in self._places else 1
                for axis in range(len(region))
            ]
        )


class Broadcast(LazyArray):
    """An array repeated along the dimensions of a larger one that it lacks; arguments as for
    `Aligned`."""

    def __init__(
        self,
        source: LazyArray,
        own: tuple[str, ...],
        dimensions: tuple[str, ...],
        shape: tuple[int, ...],
    ) -> None:
        self._aligned = Aligned(source, own, dimensions, shape)
        self.shape, self.dtype, self.chunks = shape, source.dtype, self._aligned.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._aligned,)

    def read(self, region: Region) -> Array:
        return np.broadcast_to(
            self._aligned.read(region), [part.stop - part.start for part in region]
        )


class WithoutAxis(LazyArray):
    """Another array without an axis of length 1."""

    def __init__(self, source: LazyArray, axis: int) -> None:
        self._source, self._axis = source, axis
        self.dtype = source.dtype
        self.shape = source.shape[:axis] + source.shape[axis + 1 :]
        self.chunks = (
            None
            if source.chunks is None
            else source.chunks[:axis] + source.chunks[axis + 1 :]
        )

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    def read(self, region: Region) -> Array:
        return self._source.read(
            (*region[: self._axis], slice(0, 1), *region[self._axis :])
        ).squeeze(self._axis)
