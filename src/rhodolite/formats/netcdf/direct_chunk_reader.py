"""Where the values of a variable lie in its file, read without the library and its lock."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from rhodolite.arrays import Array, Region, current_cache
from rhodolite.arrays.lazy import region_shape
from rhodolite.arrays.positional import BINARY, read_at
from rhodolite.errors import DataError
from rhodolite.formats.mirrored.hdf5_header import fetch_index
from rhodolite.formats.mirrored.mirror import mirror_of
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK
from rhodolite.formats.netcdf.hdf5_filters import (
    ChunkCodec,
    CorruptChunk,
    supported_filters,
)
from rhodolite.formats.netcdf.netcdf3_header import Placed

Identity = tuple[int, int]
"""Number and time of a file."""


class Placement(Protocol):
    """Reads the stored numbers of a region."""

    def read(self, region: Region) -> Array: ...


def find_placement(path: Path, name: str) -> tuple[Placement | None, str]:
    """Return where an HDF5 variable lies; None, and why, where only the library can read it."""
    import h5py

    identity = identify(path)
    mirror = mirror_of(path)
    with LIBRARY_LOCK, h5py.File(path, "r") as file:
        # A name that is also a dimension's, of a variable that is not a coordinate, is written so.
        folder, _, last = name.rpartition("/")
        renamed = f"{folder}/_nc4_non_coord_{last}"
        name_inside = renamed if renamed in file else name
        if mirror is not None:
            fetch_index(mirror, name_inside)
        stored = file[name_inside]
        if stored.dtype.kind not in "fiu":
            return None, f"its type is {stored.dtype}"
        if stored.chunks is None:
            offset = stored.id.get_offset()
            if offset is None:
                return None, "it has no place of its own in the file"
            steps = np.cumprod((stored.dtype.itemsize, *stored.shape[:0:-1]))[::-1]
            placed = Placed(offset, tuple(int(step) for step in steps), stored.shape)
            return ContiguousReader(path, placed, stored.dtype, identity), ""
        properties = stored.id.get_create_plist()
        filters = [properties.get_filter(at) for at in range(properties.get_nfilters())]
        names = supported_filters(filters)
        if names is None:
            return (
                None,
                f"its filters are {', '.join(f[3].decode() or str(f[0]) for f in filters)}",
            )
        codec = ChunkCodec(stored.dtype, stored.chunks, names)
        places = stored.id.chunk_iter
        return Chunked(
            path, name, codec, stored.shape, stored.fillvalue, places, identity
        ), ""


def identify(path: Path) -> Identity:
    """Return what is another number where a file is replaced or written to."""
    mirror = mirror_of(path)
    if mirror is not None:
        return mirror.identity
    status = path.stat()
    return status.st_ino, status.st_mtime_ns


def _refuse_changed(path: Path, before: Identity, status: os.stat_result) -> None:
    """Refuse a file whose chunks may be elsewhere by now.

    Raises
    ------
    DataError
        If it is not the one that was opened.
    """
    if mirror_of(path) is None and (status.st_ino, status.st_mtime_ns) != before:
        raise DataError(
            f"{path}: was replaced or written to while it was being read; run it again when "
            "nothing writes to it"
        )


class Chunked:
    """Chunks of a variable, found by the library and decoded here.

    Parameters
    ----------
    codec : ChunkCodec
    shape : tuple of int
        Of the variable.
    fill : number
        The value of chunks that were never written.
    each_chunk : callable
        Calls back with the description of every chunk.
    identity : tuple of int
        Of the file before the chunks were looked up.
    """

    def __init__(
        self,
        path: Path,
        name: str,
        codec: ChunkCodec,
        shape: tuple[int, ...],
        fill: Any,
        each_chunk: Callable[[Callable[[Any], None]], None],
        identity: Identity,
    ) -> None:
        self._path = path
        self._identity = identity
        self._key = (*self._identity, name)
        self._codec = codec
        self._shape = shape
        self._fill = fill
        self._places: dict[tuple[int, ...], tuple[int, int, int]] = {}
        each_chunk(self._note)

    def _note(self, chunk: Any) -> None:
        place = tuple(
            offset // size
            for offset, size in zip(chunk.chunk_offset, self._codec.shape, strict=True)
        )
        self._places[place] = (chunk.byte_offset, chunk.size, chunk.filter_mask)

    def read(self, region: Region) -> Array:
        """Return the stored numbers of a region.

        A chunk that lies in the region as a whole goes straight into the result. Of others, a part
        is likely to be wanted by the block beside, so they are kept for a while.
        """
        shape = self._codec.shape
        out = np.empty(region_shape(region), self._codec.dtype)
        touched = [
            range(part.start // size, -(-part.stop // size))
            if part.stop > part.start
            else range(0)
            for part, size in zip(region, shape, strict=True)
        ]
        self._fetch(touched)
        # Opened for each block, since a dataset may have more files than a process may hold open.
        descriptor = os.open(self._path, os.O_RDONLY | BINARY)
        try:
            _refuse_changed(self._path, self._identity, os.fstat(descriptor))
            for place in itertools.product(*touched):
                inside, target, whole = [], [], True
                for at, size, part, length in zip(
                    place, shape, region, self._shape, strict=True
                ):
                    low, high = (
                        max(part.start, at * size),
                        min(part.stop, (at + 1) * size),
                    )
                    whole = whole and high - low == min(size, length - at * size)
                    inside.append(slice(low - at * size, high - at * size))
                    target.append(slice(low - part.start, high - part.start))
                goal = out[tuple(target)]
                if whole:
                    straight = goal.shape == shape and goal.flags.c_contiguous
                    chunk = self._chunk(descriptor, place, goal if straight else None)
                    if not np.may_share_memory(chunk, goal):
                        goal[...] = chunk[tuple(inside)]
                else:
                    goal[...] = self._shared_chunk(descriptor, place)[tuple(inside)]
        finally:
            os.close(descriptor)
        return out

    def _fetch(self, touched: list[range]) -> None:
        """Have the chunks here, where the file is the copy of one that lies elsewhere."""
        mirror = mirror_of(self._path)
        if mirror is None:
            return
        places = (self._places.get(place) for place in itertools.product(*touched))
        mirror.fetch([place[:2] for place in places if place is not None])

    def _shared_chunk(self, descriptor: int, place: tuple[int, ...]) -> Array:
        return current_cache().get(
            (*self._key, place), lambda: self._chunk(descriptor, place)
        )

    def _chunk(
        self, descriptor: int, place: tuple[int, ...], into: Array | None = None
    ) -> Array:
        place_of_chunk = self._places.get(place)
        if place_of_chunk is None:  # never written: all fill value
            return np.broadcast_to(
                np.asarray(self._fill, self._codec.dtype), self._codec.shape
            )
        offset, size, mask = place_of_chunk
        data = read_at(descriptor, size, offset)
        try:
            if len(data) != size:
                raise CorruptChunk(
                    f"the file ends within it ({len(data)} of {size} bytes are there)"
                )
            return self._codec.decode(data, mask, into)
        except CorruptChunk as damage:
            first = ", ".join(
                str(at * size)
                for at, size in zip(place, self._codec.shape, strict=True)
            )
            raise CorruptChunk(
                f"the chunk that begins at index ({first}): {damage}"
            ) from None


class ContiguousReader:
    """Values that lie in a file as they are, in one piece or record by record."""

    def __init__(
        self, path: Path, placed: Placed, dtype: np.dtype[Any], identity: Identity
    ) -> None:
        self._path = path
        self._identity = identity
        self._placed = placed
        self._dtype = dtype

    def read(self, region: Region) -> Array:
        """Return the stored numbers of a region; only the pages that it lies on are read."""
        if not all(region_shape(region)):
            return np.empty(region_shape(region), self._dtype)
        placed = self._placed
        first = placed.offset + sum(
            part.start * step for part, step in zip(region, placed.steps, strict=True)
        )
        last = placed.offset + sum(
            (part.stop - 1) * step
            for part, step in zip(region, placed.steps, strict=True)
        )
        length = last + self._dtype.itemsize - first
        mirror = mirror_of(self._path)
        if mirror is not None:
            mirror.fetch([(first, length)])
        # What is asked who it is, is what is read, whatever takes its name in between.
        with self._path.open("rb") as file:
            _refuse_changed(self._path, self._identity, os.fstat(file.fileno()))
            try:
                mapped = np.memmap(file, np.uint8, "r", first, (length,))
            except ValueError:
                raise CorruptChunk("the file ends before its values do") from None
            return np.ndarray(
                region_shape(region), self._dtype, mapped, 0, placed.steps
            ).copy()
