"""Into which pieces a variable is cut on disk."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

import numpy as np

from rhodolite.arrays import Engine, LazyArray
from rhodolite.errors import UsageError, nearest_names
from rhodolite.formats.table_style import USUAL_STYLE, TableStyle
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_CHUNK_BYTES = 1 << 20
_LEAST_BYTES = 1 << 18
"""Smaller chunks cost more to find than to read."""
T = TypeVar("T", bound=StrEnum)


class ChunkUse(StrEnum):
    """The access pattern to optimise chunking for."""

    MAP = "map"
    SERIES = "series"
    BALANCED = "balanced"


class Compression(StrEnum):
    """The compression level."""

    NONE = "none"
    FAST = "fast"
    SMALL = "small"


@dataclass(frozen=True)
class Layout:
    """How a dataset is to lie on disk, as far as that was asked for.

    Parameters
    ----------
    variant : str, optional
        Which of a format's variants, such as ``netcdf3-classic``.
    chunks : ChunkUse, optional
        The access pattern to optimise chunking for; by default those of the source stay.
    compression : Compression
    unlimited : bool
        Whether time is to be a dimension that can grow, whatever it was in the input.
    checksums : bool
        Whether chunks carry checksums, by which readers notice damage.
    table : TableStyle
        How a table is written.
    """

    variant: str | None = None
    chunks: ChunkUse | None = None
    compression: Compression = Compression.FAST
    unlimited: bool = False
    checksums: bool = True
    table: TableStyle = USUAL_STYLE

    @property
    def in_chunks(self) -> bool:
        """Whether a format that can store variables in chunks does so; NetCDF-3 cannot."""
        return self.variant is None or not self.variant.startswith("netcdf3")


USUAL_LAYOUT = Layout()


def make_layout(
    variant: str | None,
    chunks: str | None,
    compression: str | None,
    unlimited: bool = False,
    option: str = "--compression",
    checksums: bool = True,
    table: TableStyle = USUAL_STYLE,
) -> Layout:
    """Return the layout that was asked for in words.

    Parameters
    ----------
    variant : str, optional
        Variant of the format, such as ``netcdf3-classic``.
    chunks : str, optional
        ``map``, ``series`` or ``balanced``.
    compression : str, optional
        ``none``, ``fast`` or ``small``.
    unlimited : bool
        Whether time is a dimension that can grow.
    option : str
        What to call it in messages.

    Raises
    ------
    UsageError
        If there is no such use of chunks or compression.
    """
    use = None if chunks is None else _word("--chunks", chunks, ChunkUse)
    return Layout(
        variant,
        use,
        _word(option, compression or Compression.FAST, Compression),
        unlimited,
        checksums,
        table,
    )


def _word(option: str, text: str, offered: type[T]) -> T:
    if text not in list(offered):
        raise UsageError(
            f"{option}: '{text}' is not offered. {nearest_names(text, offered)}"
        )
    return offered(text)


def chunk_shape(
    variable: Variable, itemsize: int, dataset: Dataset, use: ChunkUse | None
) -> tuple[int, ...]:
    """Return the shape of the chunks of a variable.

    Parameters
    ----------
    itemsize : int
        Bytes of one stored number.
    use : ChunkUse or None
        ``map`` holds whole maps of one time, ``series`` all times of a few cells, and ``balanced``
        as many pieces of a map as of a series, each in about 1 MiB. None keeps the chunks of the
        source, together where a choice has left little of each, and otherwise holds whole maps.
        What describes the data is not cut for their use.
    """
    limit = max(1, _CHUNK_BYTES // itemsize)
    if use is None or variable.name in dataset.axes.auxiliary:
        return _chunks_of_source(variable, itemsize, limit)
    time = dataset.coordinate(Role.TIME)
    at = None
    if time is not None and time.dimension in variable.dimensions:
        at = variable.dimensions.index(time.dimension)
    if use is ChunkUse.MAP or at is None:
        return _filled_from_last(variable.shape, limit, single=at)
    steps = variable.shape[at]
    length = min(steps, limit)
    if use is ChunkUse.BALANCED:
        pieces = max(1.0, math.prod(variable.shape) / limit)
        length = max(1, round(steps / math.sqrt(pieces)))
    rest = _even(variable.shape, at, max(1, limit // length))
    return (*rest[:at], length, *rest[at + 1 :])


def _chunks_of_source(variable: Variable, itemsize: int, limit: int) -> tuple[int, ...]:
    """Return the chunks that a variable had, put together where a choice has left little of
    each."""
    stored, shape = variable.storage.chunks, variable.shape
    if stored is None or len(stored) != len(shape):
        return _filled_from_last(shape, limit)
    chunks = [max(1, min(c, n)) for c, n in zip(stored, shape, strict=True)]
    if math.prod(chunks) * itemsize < _LEAST_BYTES:
        return _merge_chunks(chunks, shape, limit)
    return tuple(chunks)


def arrays_to_prepare(
    dataset: Dataset, engine: Engine, layout: Layout
) -> list[LazyArray]:
    """Return the arrays of a dataset whose passes are run before the first is written; what others
    need is computed while they are.
    """
    return [
        variable.data
        for variable in dataset.variables.values()
        if not layout.in_chunks
        or not engine.visits(variable.data, stored_chunks(variable, dataset, layout))
    ]


def stored_chunks(
    variable: Variable, dataset: Dataset, layout: Layout
) -> tuple[int, ...]:
    """Return the shape of the chunks that a variable is going to have."""
    itemsize = np.dtype(variable.storage.dtype or variable.data.dtype).itemsize
    return chunk_shape(variable, itemsize, dataset, layout.chunks)


def _merge_chunks(
    chunks: list[int], shape: tuple[int, ...], limit: int
) -> tuple[int, ...]:
    """Return chunks that hold several smaller ones, along the last axes first, up to a number of
    cells."""
    for axis in reversed(range(len(shape))):
        times = limit // math.prod(chunks)
        chunks[axis] = max(1, min(shape[axis], chunks[axis] * max(1, times)))
    return tuple(chunks)


def _filled_from_last(
    shape: tuple[int, ...], limit: int, single: int | None = None
) -> tuple[int, ...]:
    """Return chunks that take whole axes from the last on, as far as `limit` cells go."""
    chunks = [1] * len(shape)
    for axis in reversed(range(len(shape))):
        if axis != single:
            chunks[axis] = max(1, min(shape[axis], limit))
            limit = max(1, limit // chunks[axis])
    return tuple(chunks)


def _even(shape: tuple[int, ...], at: int, limit: int) -> list[int]:
    """Return chunks cut alike along the last two axes other than `at`, and singly along the
    others."""
    chunks = [1] * len(shape)
    axes = [axis for axis in range(len(shape)) if axis != at][-2:]
    for left, axis in zip(range(len(axes), 0, -1), axes, strict=True):
        area = math.prod(shape[other] for other in axes[-left:])
        part = min(1.0, limit / max(area, 1)) ** (1 / left)
        pieces = -(-shape[axis] // max(1, min(limit, int(shape[axis] * part + 1e-9))))
        chunks[axis] = -(-shape[axis] // pieces) if shape[axis] else 1
        limit = max(1, limit // chunks[axis])
    return chunks
