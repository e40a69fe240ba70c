"""Writing Zarr stores, chunk by chunk on all workers."""

from __future__ import annotations

import functools
import itertools
import platform
import time
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numcodecs
import zarr
from zarr.codecs import Crc32cCodec, ZstdCodec

from rhodolite.arrays import Engine, LazyArray, Region
from rhodolite.errors import DataError, OutputError
from rhodolite.formats.cf.encode import Encoding, encoding_for
from rhodolite.formats.layout import Compression, Layout, arrays_to_prepare, chunk_shape
from rhodolite.formats.zarr.plain_attributes import plain_attributes
from rhodolite.formats.zarr.reader import DIMENSIONS_ATTRIBUTE
from rhodolite.formats.zarr.stoppable_store import StoppableStore
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_VERSIONS: dict[str, Any] = {"zarr3": 3, "zarr2": 2}
_NO_NAMES = ("", ".", "..")


_LOOKS, _BETWEEN_LOOKS = 60, 1.0
"""How often, and after how many seconds, chunks that others have written are looked for."""


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write a dataset as a Zarr store, of version 3 unless the layout names the other.

    Raises
    ------
    OSError
        If the store cannot be written.
    """
    version = _VERSIONS[layout.variant or "zarr3"]
    engine.prepare(arrays_to_prepare(dataset, engine, layout))
    store = StoppableStore(path.resolve())
    try:
        root = zarr.create_group(
            store, zarr_format=version, attributes=plain_attributes(dataset.attributes)
        )
        for variable in dataset.variables.values():
            _write_variable(root, variable, dataset, engine, layout, version)
    finally:
        store.stop()
    with warnings.catch_warnings():
        # In version 3 what is gathered is an extension, which readers that do not know it pass by.
        warnings.simplefilter("ignore")
        zarr.consolidate_metadata(path, zarr_format=version)


def _write_variable(
    root: Any,
    variable: Variable,
    dataset: Dataset,
    engine: Engine,
    layout: Layout,
    version: int,
) -> None:
    encoding = encoding_for(variable, dataset, engine)
    chunks = chunk_shape(variable, encoding.dtype.itemsize, dataset, layout.chunks)
    settings = _settings_of(variable, encoding, chunks, version)
    settings["compressors"] = _compressors(layout, version)
    if variable.name in _NO_NAMES:
        raise DataError(
            f"a variable called '{variable.name}' cannot be written to Zarr, where names are parts "
            "of paths; annotate --rename gives it another name"
        )
    with warnings.catch_warnings():
        # Text of any length is newer than the first edition of the specification.
        warnings.simplefilter("ignore")
        stored = root.create_array(variable.name, **settings)
    if _is_text(encoding):
        stored[...] = engine.compute(variable.data).astype(object)
    elif not variable.shape:
        stored[...] = encoding.encode(engine.compute(variable.data))
    elif variable.data.size:
        _stream(stored, variable, encoding, engine)


def _settings_of(
    variable: Variable, encoding: Encoding, chunks: tuple[int, ...], version: int
) -> dict[str, Any]:
    """Return what an array of a store is described by, but for its compression."""
    attributes = {**variable.attributes, **encoding.attributes}
    if encoding.fill is not None:
        attributes["_FillValue"] = encoding.fill
    if version == 2:
        attributes = {DIMENSIONS_ATTRIBUTE: list(variable.dimensions), **attributes}
    settings: dict[str, Any] = {
        "shape": variable.shape,
        "chunks": tuple(max(1, n) for n in chunks) if variable.shape else (),
        "attributes": plain_attributes(attributes),
    }
    if _is_text(encoding):
        settings |= {"dtype": str, "fill_value": ""}
    else:
        settings["dtype"] = encoding.dtype.newbyteorder("=")
        settings["fill_value"] = encoding.dtype.type(encoding.fill or 0)
    if version == 3:
        settings["dimension_names"] = variable.dimensions
    return settings


def _is_text(encoding: Encoding) -> bool:
    return encoding.dtype.kind in "OUS"


def _stream(
    stored: Any, variable: Variable, encoding: Encoding, engine: Engine
) -> None:
    """Write an array chunk by chunk."""
    task = functools.partial(_put, stored, encoding)
    data = encoding.as_written(variable.data)
    pieces = engine.stream_units(
        task, data, stored.chunks, f"writing {variable.name}", takes_memory=False
    )
    written = sum(count for _, count in pieces)
    # Machines that share no disk would leave holes that nobody sees.
    if engine.executor is not None:
        _need_chunks(stored, written)


def _compressors(layout: Layout, version: int) -> Any:
    """Return what chunks go through; frames of Zstandard carry a checksum of their content."""
    if layout.compression is Compression.NONE:
        return Crc32cCodec() if layout.checksums and version == 3 else None
    level = 3 if layout.compression is Compression.FAST else 12
    compressor = numcodecs.Zstd if version == 2 else ZstdCodec
    return compressor(level=level, checksum=layout.checksums)


def _put(stored: Any, encoding: Encoding, data: LazyArray, region: Region) -> int:
    """Write a block of whole chunks, which no other block shares, and return how many of them are
    files then; of those that hold nothing but missing values there are none."""
    _need_store(stored)
    stored[region] = encoding.encode(data.read(region))
    return sum(path.exists() for path in _chunk_files(stored, region))


def _chunk_files(stored: Any, region: Region) -> Iterator[Path]:
    """Yield where the chunks of a region lie."""
    folder = Path(stored.store.root) / stored.path
    numbers = [
        range(part.start // size, -(-part.stop // size))
        for part, size in zip(region, stored.chunks, strict=True)
    ]
    for place in itertools.product(*numbers):
        yield folder / stored.metadata.encode_chunk_key(place)


def _need_chunks(stored: Any, written: int) -> None:
    """Refuse a store in which fewer chunks are seen than the workers of a cluster say that they
    have written.

    Raises
    ------
    OutputError
        If they have not come into view after a minute, which file systems of networks may need.
    """
    whole = tuple(slice(0, n) for n in stored.shape)
    for _ in range(_LOOKS):
        seen = sum(path.exists() for path in _chunk_files(stored, whole))
        if seen >= written:
            return
        time.sleep(_BETWEEN_LOOKS)
    raise OutputError(
        f"{stored.store.root}: workers have written {written:,} chunks of {stored.path}, and "
        f"{seen:,} are there; they may not share the folder with this machine"
    )


def _need_store(stored: Any) -> None:
    """Refuse to write where the store that was laid out is not seen, as on a machine of a cluster
    that shares no folder with the one that reads the commands: what it wrote would be lost.

    Raises
    ------
    OutputError
        With the name of the machine.
    """
    place = Path(stored.store.root) / stored.path
    described = "zarr.json" if stored.metadata.zarr_format == 3 else ".zarray"
    if not (place / described).exists():
        raise OutputError(
            f"the machine {platform.node()} does not see the folder {stored.store.root} that is to "
            "be written; a store is written by all workers of a cluster, so they have to share its "
            "folder (a .nc file is written by one)"
        )
