"""What a lazy array is: a shape, a type, and a way to read any block of it."""

from __future__ import annotations

import math
import sys
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from rhodolite.errors import DataError
from rhodolite.kernels.unpacking import Unpacking

if TYPE_CHECKING:
    from rhodolite.arrays.visits import GroupsOfBlocks

Array = NDArray[Any]
Region = tuple[slice, ...]
"""A block of an array: one slice an axis, with start and stop given and step 1."""


class LazyArray(ABC):
    """An array whose values are computed or fetched only when a block of it is read.

    Attributes
    ----------
    shape : tuple of int
    dtype : numpy.dtype
    chunks : tuple of int or None
        Shape of the pieces in which the values come cheapest. A hint for planning: blocks
        whose edges lie on multiples of it cost least. None where any block is as good.
    """

    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    chunks: tuple[int, ...] | None = None

    @abstractmethod
    def read(self, region: Region) -> Array:
        """Return the values of one block.

        Must be safe to call from several threads at once. The caller may change what it gets,
        unless that is read-only.
        """

    def sources(self) -> tuple[LazyArray, ...]:
        """Return the arrays that this one reads from."""
        return ()

    @property
    def pending(self) -> bool:
        """Whether it can be read only after a pass over what it needs."""
        return False

    def needed(self) -> tuple[LazyArray, ...]:
        """Return what has to be readable before it is; nothing more where its pass has run."""
        return self.sources()

    @property
    def decoded_share(self) -> float:
        """How many values are decoded for each that is read; 1 where whole chunks are wanted."""
        return max((source.decoded_share for source in self.sources()), default=1.0)

    def rounded(self, dtype: np.dtype[Any]) -> LazyArray:  # noqa: ARG002
        """Return an array of the same values rounded to a type, where it saves work that they are
        rounded as soon as they are made; otherwise the array itself."""
        return self

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        """Return an array of fewer bytes, and the point-wise function that makes this one of it.

        Where there is none, it is the array itself, and None.
        """
        return self, None

    @property
    def groups_of_blocks(self) -> GroupsOfBlocks | None:
        """Which steps are read together at least cost, where that is not the order of storage."""
        return None

    @property
    def origin(self) -> str:
        """Which variable of which file the values come from, as far as that is one."""
        return next((source.origin for source in self.sources()), "")

    @property
    def ndim(self) -> int:
        return len(self.shape)

    @property
    def size(self) -> int:
        return math.prod(self.shape)

    @property
    def nbytes(self) -> int:
        return self.size * self.dtype.itemsize


def whole(shape: tuple[int, ...]) -> Region:
    """Return the region that covers an array of this shape.

    Parameters
    ----------
    shape : tuple of int
    """
    return tuple(slice(0, n) for n in shape)


def region_shape(region: Region) -> tuple[int, ...]:
    """Return the shape of the block that a region names.

    Parameters
    ----------
    region : Region
        Block of an array: one slice per axis.
    """
    return tuple(s.stop - s.start for s in region)


class InMemory(LazyArray):
    """A lazy array over values that are already there."""

    def __init__(self, values: Any) -> None:
        self._values = np.asarray(values)
        self.shape = self._values.shape
        self.dtype = self._values.dtype

    def read(self, region: Region) -> Array:
        return np.array(self._values[region], dtype=self.dtype)

    def put(self, region: Region, values: Array) -> None:
        """Replace the values of a block, while the array is being made."""
        self._values[region] = values


class Unreadable(LazyArray):
    """An array whose values are not known, and why; its description is.

    Parameters
    ----------
    shape : tuple of int
    dtype : dtype
    reason : str
        What is raised, as a DataError, when values are read; at once where an axis has more cells
        than can be counted.
    """

    def __init__(
        self, shape: tuple[int, ...], dtype: np.dtype[Any], reason: str
    ) -> None:
        if max(shape, default=0) > sys.maxsize:
            raise DataError(reason)
        self.shape, self.dtype, self.reason = shape, dtype, reason

    def read(self, region: Region) -> Array:  # noqa: ARG002
        raise DataError(self.reason)


class Mapped(LazyArray):
    """Values of another array put through a point-wise function, block by block.

    Parameters
    ----------
    source : LazyArray
    function : callable
        Takes a block and returns one of the same shape. Has to be picklable, so that blocks
        can be computed by another process.
    dtype : dtype
        Type of what the function returns.
    """

    def __init__(
        self, source: LazyArray, function: Callable[[Array], Array], dtype: DTypeLike
    ) -> None:
        self._source = source
        self._function = function
        self.shape = source.shape
        self.chunks = source.chunks
        self.dtype = np.dtype(dtype)

    def read(self, region: Region) -> Array:
        return self._function(self._source.read(region)).astype(self.dtype, copy=False)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def groups_of_blocks(self) -> GroupsOfBlocks | None:
        return self._source.groups_of_blocks

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        stored, decode = self._source.as_stored()
        if stored.dtype.itemsize >= self.dtype.itemsize:
            return self, None
        return stored, UnpackThenApply(decode, self._function, self.dtype)


@dataclass(frozen=True)
class UnpackThenApply:
    """What unpacks numbers, and a point-wise function of the values.

    Parameters
    ----------
    unpack : Unpacking, optional
        None where the numbers are the values already.
    function : callable
    dtype : dtype
        Type of what the function returns.
    """

    unpack: Unpacking | None
    function: Callable[[Array], Array]
    dtype: np.dtype[Any]

    def __call__(self, numbers: Array) -> Array:
        values = numbers if self.unpack is None else self.unpack(numbers)
        return self.function(values).astype(self.dtype, copy=False)

    @property
    def keeps_order(self) -> bool:
        """False, since nothing is known of the function."""
        return False

    def find_missing(self, numbers: Array) -> Array | None:
        """See `Unpacking.find_missing`."""
        missing = np.isnan(self(numbers))
        return missing if missing.any() else None

    def scale_of(self, numbers: Array) -> float | None:  # noqa: ARG002
        """Return None, since nothing is known of the function."""
        return None


class Unpacked(LazyArray):
    """The values that are made of an array of stored numbers.

    Parameters
    ----------
    stored : LazyArray
    unpack : Unpacking
    dtype : dtype
        Of the values.
    """

    def __init__(
        self, stored: LazyArray, unpack: Unpacking, dtype: np.dtype[Any]
    ) -> None:
        self._stored, self._unpack, self.dtype = stored, unpack, dtype
        self.shape, self.chunks = stored.shape, stored.chunks

    def read(self, region: Region) -> Array:
        return self._unpack(self._stored.read(region)).astype(self.dtype, copy=False)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._stored,)

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        return self._stored, self._unpack
