"""Variables in NetCDF files as lazy arrays."""

from __future__ import annotations

import itertools
import os
import threading
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.arrays.lazy import region_shape
from rhodolite.errors import DataError
from rhodolite.formats.decoding import Decoding
from rhodolite.formats.netcdf.codec import ChunkCodec, CorruptChunk, supported
from rhodolite.formats.netcdf.handles import LIBRARY_LOCK, netcdf_files


class StoredArray(LazyArray):
    """The values of one variable of a file.

    Compressed NetCDF-4 chunks are read with `os.pread` and decoded in the calling thread, which
    holds no lock meanwhile. Everything else goes through the NetCDF library, one thread at a time.
    """

    def __init__(
        self,
        path: Path | str,
        name: str,
        shape: tuple[int, ...],
        chunks: tuple[int, ...] | None,
        decoding: Decoding,
    ) -> None:
        self.path = path
        self.name = name
        self.shape = shape
        self.chunks = chunks
        self.dtype = decoding.target
        self._decoding = decoding
        self._index: ChunkIndex | None = None
        self._index_lock = threading.Lock()

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_index": None, "_index_lock": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _index_lock=threading.Lock())

    def read(self, region: Region) -> Array:
        try:
            by_chunks = isinstance(self.path, Path) and self.chunks is not None
            if by_chunks and (index := self._chunk_index()).codec is not None:
                return self._decoding.decode(index.read(region))
            return self._decoding.decode(self._through_library(region))
        except CorruptChunk as damage:
            raise DataError(f"{self.path}: variable '{self.name}' is damaged: {damage}") from None
        except (OSError, RuntimeError) as error:
            raise DataError(f"{self.path}: variable '{self.name}' cannot be read: {error}") from None

    def _through_library(self, region: Region) -> Array:
        with LIBRARY_LOCK:
            variable = netcdf_files.get(self.path)[self.name]
            return np.asarray(variable[region if self.shape else ...])

    def _chunk_index(self) -> ChunkIndex:
        with self._index_lock:
            if self._index is None:
                self._index = ChunkIndex(Path(self.path), self.name)
            return self._index


class ChunkIndex:
    """Where the chunks of a variable lie in its file, and how to decode them.

    Attributes
    ----------
    codec : ChunkCodec or None
        None where the chunks need a filter that only the library has.
    """

    def __init__(self, path: Path, name: str) -> None:
        import h5py

        self._path = path
        self.codec: ChunkCodec | None = None
        self._places: dict[tuple[int, ...], tuple[int, int, int]] = {}
        if not hasattr(os, "pread"):
            return
        with LIBRARY_LOCK, h5py.File(path, "r") as file:
            # A name that is also a dimension's, of a variable that is no coordinate, is written so.
            folder, _, last = name.rpartition("/")
            renamed = f"{folder}/_nc4_non_coord_{last}"
            stored = file[renamed if renamed in file else name]
            properties = stored.id.get_create_plist()
            filters = [properties.get_filter(at) for at in range(properties.get_nfilters())]
            pipeline = supported(filters)
            if pipeline is None or stored.chunks is None or stored.dtype.kind not in "fiu":
                return
            self.codec = ChunkCodec(stored.dtype, stored.chunks, *pipeline)
            self._fill = stored.fillvalue
            stored.id.chunk_iter(self._note)

    def _note(self, chunk: Any) -> None:
        assert self.codec is not None
        place = tuple(offset // size for offset, size in zip(chunk.chunk_offset, self.codec.shape, strict=True))
        self._places[place] = (chunk.byte_offset, chunk.size, chunk.filter_mask)

    def read(self, region: Region) -> Array:
        """Return the stored numbers of a region, decoding each chunk that it touches once."""
        assert self.codec is not None
        shape = self.codec.shape
        out = np.empty(region_shape(region), self.codec.dtype)
        touched = [range(part.start // size, -(-part.stop // size)) if part.stop > part.start else range(0)
                   for part, size in zip(region, shape, strict=True)]  # fmt: skip
        # Opened for each block, since a dataset may have more files than a process may hold open.
        descriptor = os.open(self._path, os.O_RDONLY)
        try:
            for place in itertools.product(*touched):
                inside, target = [], []
                for at, size, part in zip(place, shape, region, strict=True):
                    low, high = max(part.start, at * size), min(part.stop, (at + 1) * size)
                    inside.append(slice(low - at * size, high - at * size))
                    target.append(slice(low - part.start, high - part.start))
                out[tuple(target)] = self._chunk(descriptor, place)[tuple(inside)]
        finally:
            os.close(descriptor)
        return out

    def _chunk(self, descriptor: int, place: tuple[int, ...]) -> Array:
        assert self.codec is not None
        found = self._places.get(place)
        if found is None:  # never written: all fill value
            return np.broadcast_to(np.asarray(self._fill, self.codec.dtype), self.codec.shape)
        offset, size, mask = found
        data = os.pread(descriptor, size, offset)
        try:
            if len(data) != size:
                raise CorruptChunk(f"the file ends within it ({len(data)} of {size} bytes are there)")
            return self.codec.decode(data, mask)
        except CorruptChunk as damage:
            first = ", ".join(str(at * size) for at, size in zip(place, self.codec.shape, strict=True))
            raise CorruptChunk(f"the chunk that begins at index ({first}): {damage}") from None
