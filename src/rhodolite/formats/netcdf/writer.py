"""Writing NetCDF files that every reader opens, compressed block by block on all workers.

The NetCDF library lays out the file and writes what is small. The chunks of large variables of
NetCDF-4 are encoded in the engine's tasks and put in place as they are.
"""

from __future__ import annotations

import functools
import itertools
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import netCDF4
import numpy as np

from rhodolite.arrays import Array, Engine, LazyArray, Region
from rhodolite.formats.cf.encode import Encoding, encoding_for
from rhodolite.formats.layout import Compression, Layout, arrays_to_prepare, chunk_shape
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK
from rhodolite.formats.netcdf.hdf5_filters import ChunkCodec
from rhodolite.formats.netcdf.variants import (
    LIBRARY_NAMES,
    as_characters,
    check_sizes,
    fit_into_variant,
    fitted_attributes,
    unlimited_in,
    with_free_fill,
)
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_SMALL = 1 << 16
"""Variables up to this many bytes go through the library, uncompressed."""
_WORTH_SUMMING = 1 << 12
"""Fields of fewer bytes take less room than a checksum would; coordinates always have one."""


@dataclass(frozen=True)
class _Plan:
    """What is written of one variable, and how.

    Parameters
    ----------
    values : ndarray or None
        Stored numbers to write with the layout; None where they are streamed afterwards.
    chunks : tuple of int or None
        None where the variable is stored in one piece.
    summed : bool
        Whether its chunks carry Fletcher-32 checksums. Deflated ones do not need them, since the
        streams of zlib end with a checksum of their own (RFC 1950).
    """

    variable: Variable
    encoding: Encoding
    chunks: tuple[int, ...] | None
    values: Array | None
    summed: bool = False


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write a dataset as NetCDF, NetCDF-4 unless the layout names another variant.

    Raises
    ------
    DataError
        If the variant cannot hold what is to be written.
    OSError
        If the file cannot be written.
    """
    variant = layout.variant or "netcdf4"
    engine.prepare(arrays_to_prepare(dataset, engine, layout))
    # All reading comes before the library is locked, since the engine's workers need it, too.
    plans = [
        _plan(variable, dataset, engine, variant, layout)
        for variable in dataset.variables.values()
    ]
    check_sizes(dataset, [plan.encoding for plan in plans], variant)
    try:
        with LIBRARY_LOCK:
            _lay_out(dataset, plans, path, layout)
        for plan in plans:
            if plan.values is not None:
                continue
            if plan.chunks is None:
                _stream_plain(path, plan, engine)
            else:
                _stream(path, plan, engine, layout.compression)
    except (RuntimeError, AttributeError) as error:
        # What the library raises for a full disk, and for names that NetCDF does not allow.
        raise OSError(str(error)) from error


def _plan(
    variable: Variable, dataset: Dataset, engine: Engine, variant: str, layout: Layout
) -> _Plan:
    encoding = fit_into_variant(
        variable, encoding_for(variable, dataset, engine), variant, engine
    )
    if variable.name not in dataset.axes.auxiliary and variable.shape:
        encoding = with_free_fill(variable, encoding, variant, engine)
    numeric = encoding.dtype.kind in "fiu"
    itemsize = encoding.dtype.itemsize
    chunks = None
    if numeric and variable.data.size * itemsize > _SMALL:
        if variant.startswith("netcdf4"):
            chunks = chunk_shape(variable, itemsize, dataset, layout.chunks)
        if _keeps_its_name(variable, dataset):
            compressed = layout.compression is not Compression.NONE
            summed = layout.checksums and chunks is not None and not compressed
            return _Plan(variable, encoding, chunks, None, summed)
    values = encoding.encode(engine.compute(variable.data))
    plan = _Plan(variable, encoding, chunks, values)
    return _in_chunks(plan, dataset, variant, layout) if numeric else plan


def _in_chunks(plan: _Plan, dataset: Dataset, variant: str, layout: Layout) -> _Plan:
    """Return the plan of numbers that are written at once, with chunks where they can grow or get
    checksums."""
    variable, values = plan.variable, plan.values
    assert values is not None
    if not (variant.startswith("netcdf4") and variable.shape and values.size):
        return plan
    growing = bool(unlimited_in(dataset, variant) & set(variable.dimensions))
    summed = _is_summed(variable, dataset, values, layout, growing)
    if not (growing or summed):
        return plan
    # Left to itself the library takes chunks of a single step along what can grow.
    chunks = chunk_shape(variable, plan.encoding.dtype.itemsize, dataset, None)
    return replace(plan, chunks=chunks, summed=summed)


def _keeps_its_name(variable: Variable, dataset: Dataset) -> bool:
    """Return whether the library can write a variable again that is there; one that is named like a
    dimension which it does not describe it puts under another name."""
    own_axis = variable.dimensions == (variable.name,)
    return own_axis or variable.name not in dataset.lengths


def _is_summed(
    variable: Variable, dataset: Dataset, values: Array, layout: Layout, growing: bool
) -> bool:
    """Return whether a variable that is written at once gets checksums: what describes others, and
    data that are worth it."""
    compressed = layout.compression is not Compression.NONE
    describes = variable.name in dataset.axes.auxiliary
    worth = describes or values.nbytes >= _WORTH_SUMMING
    return layout.checksums and worth and not (growing and compressed)


def _lay_out(dataset: Dataset, plans: list[_Plan], path: Path, layout: Layout) -> None:
    """Write all but the values of variables that are streamed."""
    variant = layout.variant or "netcdf4"
    growing = unlimited_in(dataset, variant)
    with netCDF4.Dataset(path, "w", format=LIBRARY_NAMES[variant]) as file:
        file.setncatts(fitted_attributes(dataset.attributes, variant))
        for name, size in dataset.lengths.items():
            file.createDimension(name, None if name in growing else size)
        compressed = layout.compression is not Compression.NONE
        # All are defined before the first is filled, since the library goes back and forth slowly.
        filled = [_define(file, plan, variant, compressed) for plan in plans]
        for stored, values in filled:
            if values is not None:
                stored[...] = values


def _define(
    file: Any, plan: _Plan, variant: str, compressed: bool
) -> tuple[Any, Array | None]:
    """Define a variable, and return it with the values that it holds from the beginning."""
    encoding, values = plan.encoding, plan.values
    dimensions = plan.variable.dimensions
    kind: Any = encoding.dtype.str[1:]
    if encoding.dtype.kind in "OUS":
        kind = str
        if variant != "netcdf4" and values is not None:
            kind = "S1"
            dimensions, values = as_characters(plan.variable.name, dimensions, values)
            file.createDimension(dimensions[-1], values.shape[-1])
    stored = file.createVariable(
        plan.variable.name,
        kind,
        dimensions,
        fill_value=encoding.fill,
        chunksizes=plan.chunks,
        compression="zlib" if plan.chunks and compressed else None,
        complevel=4,
        shuffle=plan.chunks is not None and compressed,
        fletcher32=plan.summed,
    )
    stored.set_auto_maskandscale(False)
    stored.setncatts(
        fitted_attributes({**plan.variable.attributes, **encoding.attributes}, variant)
    )
    return stored, values


def _stream_plain(path: Path, plan: _Plan, engine: Engine) -> None:
    """Put values through the library, block by block, where there are no chunks."""
    data = plan.variable.data
    _, total, regions = engine.blocks(data)
    task = functools.partial(_encoded_block, data, plan.encoding)
    with LIBRARY_LOCK:
        file = netCDF4.Dataset(path, "r+")
    try:
        stored = file[plan.variable.name]
        stored.set_auto_maskandscale(False)
        for region, values in engine.stream(
            task, regions, f"writing {plan.variable.name}", total, data.nbytes
        ):
            with LIBRARY_LOCK:
                stored[region] = values
    finally:
        with LIBRARY_LOCK:
            file.close()


def _encoded_block(data: LazyArray, encoding: Encoding, region: Region) -> Array:
    return encoding.encode(data.read(region))


def _stream(path: Path, plan: _Plan, engine: Engine, compression: Compression) -> None:
    """Encode a variable's chunks in the engine's tasks and put them in the file in order."""
    import h5py

    variable, chunks = plan.variable, plan.chunks
    assert chunks is not None
    with LIBRARY_LOCK:
        file = h5py.File(path, "r+")
    try:
        with LIBRARY_LOCK:
            stored = file[variable.name]
            if stored.shape != variable.shape:
                stored.resize(variable.shape)
            packed = () if compression is Compression.NONE else ("shuffle", "deflate")
            filters = (*packed, "fletcher32") if plan.summed else packed
            codec = ChunkCodec(
                stored.dtype, chunks, filters, compression is Compression.SMALL
            )
        task = functools.partial(_encoded_chunks, plan.encoding, codec)
        what = f"writing {variable.name}"
        data = plan.encoding.as_written(variable.data)
        for _, pieces in engine.stream_units(task, data, chunks, what):
            with LIBRARY_LOCK:
                for offset, encoded in pieces:
                    stored.id.write_direct_chunk(offset, encoded)
    finally:
        with LIBRARY_LOCK:
            file.close()


def _encoded_chunks(
    encoding: Encoding, codec: ChunkCodec, data: LazyArray, region: Region
) -> list[tuple[tuple[int, ...], Array]]:
    values = encoding.encode(data.read(region))
    pieces = []
    for corner in itertools.product(
        *(range(0, n, step) for n, step in zip(values.shape, codec.shape, strict=True))
    ):
        part = values[
            tuple(
                slice(at, at + step)
                for at, step in zip(corner, codec.shape, strict=True)
            )
        ]
        if part.shape != codec.shape:  # at the edge of the array chunks stand over
            padded = np.full(
                codec.shape,
                0 if encoding.fill is None else encoding.fill,
                encoding.dtype,
            )
            padded[tuple(slice(0, n) for n in part.shape)] = part
            part = padded
        offset = tuple(at + axis.start for at, axis in zip(corner, region, strict=True))
        # As an array, it goes from process to process without being copied.
        pieces.append((offset, np.frombuffer(codec.encode(part), np.uint8)))
    return pieces
