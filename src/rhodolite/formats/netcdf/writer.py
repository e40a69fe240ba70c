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
from rhodolite.formats.netcdf.codec import ChunkCodec
from rhodolite.formats.netcdf.encoding import Encoding, chunk_shape, encoding_for
from rhodolite.formats.netcdf.handles import LIBRARY_LOCK
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_SMALL = 1 << 16
"""Variables up to this many bytes go through the library, uncompressed."""


@dataclass(frozen=True)
class _Plan:
    """What is written of one variable, and how.

    Parameters
    ----------
    values : ndarray or None
        Stored numbers to write with the layout; None where chunks are streamed afterwards.
    chunks : tuple of int or None
        None where the variable is stored in one piece.
    """

    variable: Variable
    encoding: Encoding
    chunks: tuple[int, ...] | None
    values: Array | None


def write(dataset: Dataset, path: Path, engine: Engine) -> None:
    """Write a dataset as NetCDF-4.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    engine.prepare([variable.data for variable in dataset.variables.values()])
    # All reading comes before the library is locked, since the engine's workers need it, too.
    plans = [_plan(variable, dataset, engine) for variable in dataset.variables.values()]
    try:
        with LIBRARY_LOCK:
            _lay_out(dataset, plans, path)
        streamed = [plan for plan in plans if plan.values is None]
        if streamed:
            with h5py.File(path, "r+") as file:
                for plan in streamed:
                    _stream(file[plan.variable.name], plan, engine)
    except RuntimeError as error:  # what the libraries raise for a full disk, among others
        raise OSError(str(error)) from error


def _plan(variable: Variable, dataset: Dataset, engine: Engine) -> _Plan:
    encoding = encoding_for(variable, dataset, engine)
    large = variable.data.size * encoding.dtype.itemsize > _SMALL and encoding.dtype.kind in "fiu"
    chunks = chunk_shape(variable, encoding) if large else None
    # The library writes a variable named like a dimension that it does not describe under another name.
    plain_name = variable.name not in dataset.sizes or variable.dimensions == (variable.name,)
    values = None if large and plain_name else encoding.encode(engine.compute(variable.data))
    return _Plan(variable, encoding, chunks, values)


def _lay_out(dataset: Dataset, plans: list[_Plan], path: Path) -> None:
    """Write all but the values of variables that are streamed."""
    with netCDF4.Dataset(path, "w", format="NETCDF4") as file:
        file.setncatts(_plain(dataset.attributes))
        for name, size in dataset.sizes.items():
            file.createDimension(name, None if name in dataset.unlimited else size)
        for plan in plans:
            encoding = plan.encoding
            stored = file.createVariable(
                plan.variable.name,
                str if encoding.dtype.kind in "OU" else encoding.dtype,
                plan.variable.dimensions,
                fill_value=encoding.fill,
                chunksizes=plan.chunks,
                compression="zlib" if plan.chunks else None,
                complevel=4,
                shuffle=plan.chunks is not None,
            )
            stored.set_auto_maskandscale(False)
            stored.setncatts(_plain(plan.variable.attributes))
            if encoding.packing is not None:
                stored.setncatts({"scale_factor": encoding.packing.scale, "add_offset": encoding.packing.offset})
            if plan.values is not None:
                stored[...] = plan.values


def _stream(stored: Any, plan: _Plan, engine: Engine) -> None:
    """Encode a variable's chunks in the engine's tasks and put them in the file in order."""
    variable, chunks = plan.variable, plan.chunks
    assert chunks is not None
    if stored.shape != variable.shape:
        stored.resize(variable.shape)
    codec = ChunkCodec(stored.dtype, chunks, shuffle=True, compressed=True)
    task = functools.partial(_encoded_chunks, variable.data, plan.encoding, codec)
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
