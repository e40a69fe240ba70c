"""Writing NetCDF-4 files that every reader opens, compressed block by block on all workers.

The NetCDF library lays out the file and writes what is small. The chunks of large variables are
encoded in the engine's tasks and put in place as they are.
"""

from __future__ import annotations

import functools
import itertools
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import h5py
import netCDF4
import numpy as np

from rhodolite.arrays import Array, Engine, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.formats.netcdf.codec import ChunkCodec
from rhodolite.formats.netcdf.handles import LIBRARY_LOCK
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Packing, Variable

_SMALL = 1 << 16
"""Variables up to this many bytes go through the library, uncompressed."""
_CHUNK_BYTES = 1 << 20


@dataclass(frozen=True)
class Encoding:
    """How the values of one variable become stored numbers.

    Parameters
    ----------
    name : str
        Name of the variable, for messages.
    dtype : dtype
        Type in the file.
    fill : number or None
        What stands for NaN.
    packing : Packing or None
    """

    name: str
    dtype: np.dtype[Any]
    fill: Any
    packing: Packing | None

    def encode(self, values: Array) -> Array:
        """Return stored numbers for values.

        Raises
        ------
        DataError
            If packed integers cannot hold a value.
        """
        if values.dtype.kind != "f" or self.fill is None:
            return values.astype(self.dtype, copy=False)
        gaps = np.isnan(values)
        if self.packing is not None:
            values = np.rint((values.astype(np.float64) - self.packing.offset) / self.packing.scale)
            limits = np.iinfo(self.dtype)
            beyond = (values < limits.min) | (values > limits.max)
            if beyond.any():
                value = float(values[beyond][0]) * self.packing.scale + self.packing.offset
                raise DataError(f"{self.name}: the value {value:g} does not fit the packing to {self.dtype}")
        if gaps.any():
            values = np.where(gaps, self.fill, values)
        return values.astype(self.dtype, copy=False)


def write(dataset: Dataset, path: Path, engine: Engine) -> None:
    """Write a dataset as NetCDF-4.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    engine.prepare([variable.data for variable in dataset.variables.values()])
    try:
        with LIBRARY_LOCK:
            deferred = _lay_out(dataset, path, engine)
        if deferred:
            with h5py.File(path, "r+") as file:
                for variable, encoding, chunks in deferred:
                    _stream(file[variable.name], variable, encoding, chunks, engine)
    except RuntimeError as error:  # what the libraries raise for a full disk, among others
        raise OSError(str(error)) from error


def _lay_out(dataset: Dataset, path: Path, engine: Engine) -> list[tuple[Variable, Encoding, tuple[int, ...]]]:
    """Write all but the values of large variables, and return those."""
    deferred = []
    with netCDF4.Dataset(path, "w", format="NETCDF4") as file:
        file.setncatts(_plain(dataset.attributes))
        for name, size in dataset.sizes.items():
            file.createDimension(name, None if name in dataset.unlimited else size)
        for variable in dataset.variables.values():
            encoding = _encoding(variable, dataset)
            large = variable.data.size * encoding.dtype.itemsize > _SMALL and encoding.dtype.kind in "fiu"
            chunks = _chunks(variable, encoding) if large else None
            stored = file.createVariable(
                variable.name,
                str if encoding.dtype.kind in "OU" else encoding.dtype,
                variable.dimensions,
                fill_value=encoding.fill,
                chunksizes=chunks,
                compression="zlib" if large else None,
                complevel=4,
                shuffle=large,
            )
            stored.set_auto_maskandscale(False)
            stored.setncatts(_plain(variable.attributes))
            if encoding.packing is not None:
                stored.setncatts({"scale_factor": encoding.packing.scale, "add_offset": encoding.packing.offset})
            if chunks and (variable.name not in dataset.sizes or variable.dimensions == (variable.name,)):
                deferred.append((variable, encoding, chunks))
            else:
                stored[...] = encoding.encode(engine.compute(variable.data))
    return deferred


def _encoding(variable: Variable, dataset: Dataset) -> Encoding:
    storage = variable.storage
    dtype = np.dtype(storage.dtype or variable.data.dtype)
    packing = storage.packing if dtype.kind in "iu" and variable.data.dtype.kind == "f" else None
    fill = None
    if variable.data.dtype.kind == "f" and variable.name not in dataset.axes.auxiliary:
        kept = storage.fill_value if storage.packing is None or packing else None
        fill = dtype.type(netCDF4.default_fillvals[dtype.str[1:]] if kept is None else kept)
    elif variable.missing is not None and storage.fill_value is not None:
        fill = dtype.type(storage.fill_value)
    return Encoding(variable.name, dtype, fill, packing)


def _chunks(variable: Variable, encoding: Encoding) -> tuple[int, ...]:
    """Return the chunk shape: that of the source where it still fits, else whole maps of about 1 MiB."""
    if variable.storage.chunks is not None and len(variable.storage.chunks) == len(variable.shape):
        return tuple(max(1, min(c, n)) for c, n in zip(variable.storage.chunks, variable.shape, strict=True))
    shape = [1] * len(variable.shape)
    volume = encoding.dtype.itemsize
    for axis in reversed(range(len(shape))):
        shape[axis] = max(1, min(variable.shape[axis], _CHUNK_BYTES // volume))
        volume *= shape[axis]
    return tuple(shape)


def _stream(stored: Any, variable: Variable, encoding: Encoding, chunks: tuple[int, ...], engine: Engine) -> None:
    """Encode a variable's chunks in the engine's tasks and put them in the file in order."""
    if stored.shape != variable.shape:
        stored.resize(variable.shape)
    codec = ChunkCodec(stored.dtype, chunks, shuffle=True, compressed=True)
    task = functools.partial(_encoded_chunks, variable.data, encoding, codec)
    _, total, regions = engine.blocks(variable.data, _block_unit(variable.data, chunks))
    for _, pieces in engine.stream(task, regions, f"writing {variable.name}", total):
        with LIBRARY_LOCK:
            for offset, data in pieces:
                stored.id.write_direct_chunk(offset, data)


def _block_unit(data: LazyArray, chunks: tuple[int, ...]) -> tuple[int, ...]:
    """Return the least block that is made of whole output chunks and covers a chunk of the source."""
    source = data.chunks or chunks
    return tuple(out * -(-min(there, n) // out) for out, there, n in zip(chunks, source, data.shape, strict=True))


def _encoded_chunks(
    data: LazyArray, encoding: Encoding, codec: ChunkCodec, region: Region
) -> list[tuple[tuple[int, ...], bytes]]:
    values = encoding.encode(data.read(region))
    pieces = []
    for corner in itertools.product(*(range(0, n, step) for n, step in zip(values.shape, codec.shape, strict=True))):
        part = values[tuple(slice(at, at + step) for at, step in zip(corner, codec.shape, strict=True))]
        if part.shape != codec.shape:  # at the edge of the array chunks stand over
            padded = np.full(codec.shape, 0 if encoding.fill is None else encoding.fill, encoding.dtype)
            padded[tuple(slice(0, n) for n in part.shape)] = part
            part = padded
        offset = tuple(at + axis.start for at, axis in zip(corner, region, strict=True))
        pieces.append((offset, codec.encode(part)))
    return pieces


def _plain(attributes: Any) -> dict[str, Any]:
    """Return attributes that the library takes: no None, lists as arrays or text."""
    return {key: value for key, value in attributes.items() if value is not None}
