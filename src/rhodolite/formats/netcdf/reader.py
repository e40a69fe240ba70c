"""Opening NetCDF files: metadata now, values when they are needed."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.errors import DataError
from rhodolite.formats.netcdf.classic import needed_size
from rhodolite.formats.netcdf.decoding import STORAGE_ATTRIBUTES, Decoding
from rhodolite.formats.netcdf.handles import LIBRARY_LOCK, netcdf_files
from rhodolite.formats.netcdf.stored import StoredArray
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Storage, Variable

_FORMATS = {
    "NETCDF4": "NetCDF-4",
    "NETCDF4_CLASSIC": "NetCDF-4 classic model",
    "NETCDF3_CLASSIC": "NetCDF-3 classic",
    "NETCDF3_64BIT_OFFSET": "NetCDF-3 64-bit offset",
    "NETCDF3_64BIT_DATA": "NetCDF-3 64-bit data",
}


def read(path: Path) -> Dataset:
    """Open a NetCDF file.

    Raises
    ------
    DataError
        If it is damaged or holds no variables.
    """
    with LIBRARY_LOCK:
        try:
            file = netcdf_files.get(path)
        except (OSError, RuntimeError) as error:
            raise DataError(f"{path}: {_why_unreadable(path, error)}") from None
        if file.data_model.startswith("NETCDF3"):
            _check_whole(path)
        if not file.variables:
            groups = ", ".join(file.groups)
            held = f"its variables are in groups ({groups}), which cannot be read yet" if groups else "it is empty"
            raise DataError(f"{path}: no variables at the top of the file; {held}")
        try:
            variables = {name: _variable(path, name, stored) for name, stored in file.variables.items()}
        except (OSError, RuntimeError, UnicodeDecodeError) as error:
            raise DataError(f"{path}: the description of its variables cannot be read: {error}") from None
        unlimited = frozenset(name for name, dimension in file.dimensions.items() if dimension.isunlimited())
        source = SourceFile(path, _FORMATS.get(file.data_model, file.data_model), path.stat().st_size)
        return Dataset(variables, _attributes(file), unlimited, (source,))


def _variable(path: Path, name: str, stored: Any) -> Variable:
    attributes = _attributes(stored)
    described = {key: value for key, value in attributes.items() if key not in STORAGE_ATTRIBUTES}
    dtype = stored.dtype
    if not isinstance(dtype, np.dtype) or dtype.kind not in "fiu":
        # Text is small, and lives outside the array machinery of the formats.
        values = np.asarray(stored[...] if stored.shape else stored.getValue())
        return Variable(name, stored.dimensions, InMemory(values), described)
    decoding = Decoding.of(dtype, attributes)
    chunks = stored.chunking()
    chunks = tuple(chunks) if isinstance(chunks, (list, tuple)) else None
    data = StoredArray(path, name, stored.shape, chunks, decoding)
    storage = Storage(
        dtype=_written_as(decoding),
        fill_value=attributes.get("_FillValue"),
        chunks=chunks,
        filters=_filters(stored),
        packing=decoding.packing,
    )
    missing = int(decoding.missing[0]) if decoding.missing and decoding.target.kind in "iu" else None
    return Variable(name, stored.dimensions, data, described, storage, missing)


def _written_as(decoding: Decoding) -> str | None:
    """Return the type to write values in where it is not theirs.

    Data unpacked from 16 bits or less need not be written in twice the size of float32, although
    they are calculated in the type CF gives them, as long as float32 tells all of them apart.
    """
    packing = decoding.packing
    if packing is None or decoding.stored.itemsize > 2:
        return None
    largest = abs(packing.offset) + abs(packing.scale) * 2.0 ** (8 * decoding.stored.itemsize)
    return "float32" if 2 * np.spacing(np.float32(largest)) < abs(packing.scale) else None


def _attributes(holder: Any) -> dict[str, Any]:
    return {name: holder.getncattr(name) for name in holder.ncattrs()}


def _filters(stored: Any) -> tuple[str, ...]:
    found = stored.filters() or {}
    words = [name for name in ("shuffle", "fletcher32") if found.get(name)]
    for name, word in (("zlib", "deflate"), ("zstd", "zstd"), ("bzip2", "bzip2"), ("szip", "szip"),
                       ("blosc", "blosc")):  # fmt: skip
        if found.get(name):
            words.append(f"{word} {found['complevel']}" if name in ("zlib", "zstd", "bzip2") else word)
    return tuple(words)


def _check_whole(path: Path) -> None:
    """Refuse a NetCDF-3 file that ends before its values do."""
    try:
        needed = needed_size(path)
    except ValueError as error:
        raise DataError(f"{path}: {error}; copy or download the file again") from None
    there = path.stat().st_size
    if there < needed:
        raise DataError(f"{path}: {_cut_short(there, needed)}")


def _cut_short(there: int, needed: int) -> str:
    return f"the file is cut short: {there:,} of {needed:,} bytes are there; copy or download it again"


def _why_unreadable(path: Path, error: Exception) -> str:
    """Say in people's words why the library could not open a file."""
    import h5py

    try:
        with h5py.File(path, "r"):
            return f"cannot be read as NetCDF: {error}"
    except OSError as detail:
        if found := re.search(r"eof = (\d+).*?stored_eof = (\d+)", str(detail)):
            there, expected = (int(number) for number in found.groups())
            return _cut_short(there, expected)
    return "the file is damaged or cut short and cannot be read as NetCDF; copy or download it again"
