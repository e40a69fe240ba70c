"""Opening NetCDF files: metadata now, values when they are needed."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import netCDF4
import numpy as np

from rhodolite.arrays import InMemory, LazyArray, Unreadable
from rhodolite.errors import DataError, warn
from rhodolite.formats.cf.check_attributes import check_attributes
from rhodolite.formats.cf.decode import Decoding, decode_variable
from rhodolite.formats.netcdf.eos_grids import only_grid, place_on_grid
from rhodolite.formats.netcdf.eos_swaths import only_swath, place_on_swath, positions_of
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK, netcdf_files
from rhodolite.formats.netcdf.groups import (
    all_groups,
    choose_group,
    fields_of_groups,
    in_scope_of,
    up_from,
)
from rhodolite.formats.netcdf.lazy_variable import NetCDFVariable
from rhodolite.formats.netcdf.netcdf3_header import is_classic, needed_size
from rhodolite.formats.netcdf.oddities import (
    Oddities,
    find_oddities,
    is_held_by_caller,
    tell_type,
)
from rhodolite.formats.netcdf.other_floats import OtherFloats, widened
from rhodolite.formats.netcdf.ragged import read_lists
from rhodolite.formats.netcdf.watched_call import call_watched
from rhodolite.limits import check_held, why_beyond_reading
from rhodolite.model.cf.vocabulary import STORAGE_ATTRIBUTES
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Variable

_SMALL = 1 << 14
"""Variables up to this many bytes are read at once."""
_TEXT_BYTES = 100
"""What a text of any length takes in memory, at least."""
_FORMATS = {
    "NETCDF4": "NetCDF-4",
    "NETCDF4_CLASSIC": "NetCDF-4 classic model",
    "NETCDF3_CLASSIC": "NetCDF-3 classic",
    "NETCDF3_64BIT_OFFSET": "NetCDF-3 64-bit offset",
    "NETCDF3_64BIT_DATA": "NetCDF-3 64-bit data",
}


def read(path: Path, group: str | None = None) -> Dataset:
    """Open a NetCDF file, or one group of it.

    Parameters
    ----------
    path : Path
    group : str, optional
        Group to read of files that have groups.

    Raises
    ------
    DataError
        If it is damaged, holds no variables, or has no such group.
    """
    # The library believes what a classic header says of sizes, and may crash.
    if is_classic(path):
        _check_whole(path)
        return call_watched(lambda: _read_locked(path, group, Oddities()), path)
    if (
        is_held_by_caller()
    ):  # a thread beside it may wait for that lock, to free what is unused
        return _read_locked(path, group, find_oddities(path))
    return call_watched(lambda: _read_locked(path, group, find_oddities(path)), path)


def _read_locked(path: Path, group: str | None, oddities: Oddities) -> Dataset:
    with LIBRARY_LOCK:
        try:
            file = netcdf_files.get(path)
        except (OSError, RuntimeError) as error:
            raise DataError(f"{path}: {_why_unreadable(path, error)}") from None
        groups = tuple(inner.path for inner in all_groups(file) if inner.variables)
        source = SourceFile(
            path, _format_name(file), path.stat().st_size, groups=groups
        )
        known = group or only_grid(file) or only_swath(file)
        chosen = choose_group(file, path, known)
        dataset = _dataset(file, chosen, source, oddities)
        positions = positions_of(file, chosen.path)
        if positions is not None:
            placed = _dataset(file, positions, source, oddities)
            return place_on_swath(dataset, file, chosen.path, placed)
        return place_on_grid(dataset, file, chosen.path)


def read_remote(address: str) -> Dataset:
    """Open what a DAP2 server offers at an address; only the parts asked for are fetched.

    Parameters
    ----------
    address : str
        URL of the dataset.

    Raises
    ------
    DataError
        If there is no server, or it does not offer this.
    """
    with LIBRARY_LOCK:
        try:
            file = netcdf_files.get(address)
        except (OSError, RuntimeError) as error:
            raise DataError(
                f"{address}: no dataset is served there over DAP2 ({_reason(error)}); check the "
                "address, without a suffix such as .html or .dds, and that the server runs"
            ) from None
        return _dataset(
            file, file, SourceFile(Path(address), "DAP2", None, address), Oddities()
        )


def _reason(error: Exception) -> str:
    return str(getattr(error, "strerror", None) or error)


def _dataset(file: Any, chosen: Any, source: SourceFile, oddities: Oddities) -> Dataset:
    """Describe the variables of a group of an open file."""
    place = source.address or source.path
    try:
        scope = in_scope_of(chosen)
        scope = (
            {**scope, **fields_of_groups(chosen, scope)} if chosen is file else scope
        )
        described = {
            name: _describe(place, name, stored, oddities)
            for name, stored in scope.items()
        }
        variables = {name: variable for name, variable in described.items() if variable}
        _name_unlisted(chosen, oddities)
    except (OSError, RuntimeError) as error:
        raise DataError(
            f"{place}: the description of its variables cannot be read: {error}"
        ) from None
    growing = {
        name
        for level in up_from(chosen)
        for name, dimension in level.dimensions.items()
        if dimension.isunlimited()
    }
    used = {name for variable in variables.values() for name in variable.dimensions}
    attributes = {**_attributes(file), **_attributes(chosen)}
    return Dataset(variables, attributes, frozenset(growing & used), (source,))


def _name_unlisted(chosen: Any, oddities: Oddities) -> None:
    """Warn of what lies in a group and the NetCDF library does not list, since it knows no such
    type."""
    for place, odd in oddities.types.items():
        group, _, name = place.rpartition("/")
        if group == chosen.path.strip("/") and name not in chosen.variables:
            warn(
                f"{name} is left out, since its values are of the type {tell_type(odd)}"
            )


def _format_name(file: Any) -> str:
    """Return what a file is called; HDF5 where the NetCDF library has not left its mark."""
    if file.data_model == "NETCDF4":
        try:
            file.getncattr("_NCProperties")
        except (AttributeError, RuntimeError):
            return "HDF5"
    return _FORMATS.get(file.data_model, str(file.data_model))


def _describe(
    place: Path | str, name: str, stored: Any, oddities: Oddities
) -> Variable | None:
    """Describe a variable; None, with a warning, where its values are neither numbers nor text."""
    inner = _place_of(stored)
    if (others := oddities.elsewhere.get(inner)) is not None:
        return _in_other_files(place, name, stored, others)
    kind, odd = stored.datatype, oddities.types.get(inner)
    if stored.dtype is str and odd is not None:
        wider = widened(odd)
        if wider is not None and isinstance(place, Path):
            return _of_other_floats(place, name, stored, wider)
        warn(f"{name} is left out, since its values are of the type {tell_type(odd)}")
        return None
    if stored.dtype is str or not isinstance(
        kind, (netCDF4.CompoundType, netCDF4.VLType)
    ):
        return _variable(place, name, stored)
    words: Variable | str = "records"
    if isinstance(kind, netCDF4.VLType):
        words = read_lists(
            f"{place}: variable '{name}'", name, stored, _attributes(stored)
        )
    if isinstance(words, Variable):
        return words
    warn(f"{name} is left out, since its values are {words}")
    return None


def _place_of(stored: Any) -> str:
    """Return the name of a variable, with the groups that it lies in."""
    inside = stored.group().path.strip("/")
    return f"{inside}/{stored.name}" if inside else str(stored.name)


def _variable(path: Path | str, name: str, stored: Any) -> Variable:
    is_plain = isinstance(stored.dtype, np.dtype)
    numeric = is_plain and stored.dtype.kind in "fiu"
    try:
        attributes = check_attributes(path, name, _attributes(stored), numeric=numeric)
    except DataError as error:  # what the rest is can still be said
        return _described_alone(name, stored, str(error))
    width = stored.dtype.itemsize if is_plain else _TEXT_BYTES
    if isinstance(path, Path):
        length = path.stat().st_size
        reason = why_beyond_reading(f"{path}: {name}", stored.shape, width, length)
        if reason is not None:
            return _described_alone(name, stored, reason)
    if numeric:
        return _numbers(path, name, stored, attributes)
    check_held(math.prod(stored.shape) * width, f"{path}: variable '{name}'")
    return _text(name, stored, attributes)


def _text(name: str, stored: Any, attributes: Mapping[str, Any]) -> Variable:
    """Return a variable of text, which is small, and lives outside the array machinery of the
    formats."""
    described = {
        key: value for key, value in attributes.items() if key not in STORAGE_ATTRIBUTES
    }
    values = np.asarray(stored[...] if stored.shape else stored.getValue())
    dimensions = stored.dimensions
    if values.dtype.str[1:] == "S1" and values.ndim:
        values, dimensions = _joined_characters(values), dimensions[:-1]
    return Variable(name, dimensions, InMemory(values), described)


def _numbers(
    path: Path | str, name: str, stored: Any, attributes: Mapping[str, Any]
) -> Variable:
    """Return a variable of numbers, which are read when they are needed."""
    chunking, shape = stored.chunking(), stored.shape
    chunks = tuple(chunking) if isinstance(chunking, (list, tuple)) else None
    place = _place_of(stored)
    classic = stored.group().data_model.startswith("NETCDF3")
    small = math.prod(shape) * stored.dtype.itemsize <= _SMALL and len(shape) <= 2
    # Read now that the file is open, since most small variables are coordinates.
    content = np.asarray(stored[...]) if small else None

    def lazy(decoding: Decoding) -> LazyArray:
        if content is not None:
            return InMemory(decoding.decode(content))
        return NetCDFVariable(path, place, shape, chunks, decoding, classic)

    return decode_variable(
        name,
        stored.dimensions,
        attributes,
        Decoding.of(stored.dtype, attributes),
        lazy,
        chunks=chunks,
        filters=_filters(stored),
    )


def _in_other_files(path: Path | str, name: str, stored: Any, others: str) -> Variable:
    """Describe a variable whose values lie in files that nobody named."""
    return _described_alone(
        name,
        stored,
        f"{path}: the values of {name} lie in another file ({others}), which nobody named; copy "
        "them into one file first",
    )


def _described_alone(name: str, stored: Any, reason: str) -> Variable:
    """Describe a variable whose values cannot be known, with a warning that says why."""
    warn(reason)
    attributes = {
        k: v for k, v in _attributes(stored).items() if k not in STORAGE_ATTRIBUTES
    }
    return Variable(
        name,
        stored.dimensions,
        Unreadable(stored.shape, np.dtype("f8"), reason),
        attributes,
    )


def _of_other_floats(
    path: Path, name: str, stored: Any, wider: np.dtype[Any]
) -> Variable:
    """Describe a variable of floating-point numbers that the library does not read."""
    attributes = check_attributes(path, name, _attributes(stored), numeric=True)
    decoding = Decoding.of(wider, attributes)
    return decode_variable(
        name,
        stored.dimensions,
        attributes,
        decoding,
        lambda decoding: OtherFloats(path, _place_of(stored), stored.shape, decoding),
        chunks=None,
        filters=(),
    )


def _joined_characters(values: Any) -> Any:
    """Return text for an array of single characters, whose last dimension is the text's length."""
    joined = netCDF4.chartostring(values, encoding="none")
    decode = np.vectorize(
        lambda raw: bytes(raw).decode("utf-8", "replace").rstrip("\0 "), otypes=[object]
    )
    return decode(joined) if joined.size else joined.astype(object)


def _attributes(holder: Any) -> dict[str, Any]:
    return {name: _attribute(holder, name) for name in holder.ncattrs()}


def _attribute(holder: Any, name: str) -> Any:
    value = holder.getncattr(name)
    if isinstance(value, str) and "\ufffd" in value:
        # CF asks for UTF-8; older files have Latin-1, which the library reads as signs of
        # replacement.
        warn(f"the attribute {name} is not in UTF-8 and was read as Latin-1")
        return holder.getncattr(name, encoding="latin-1")
    return value


def _filters(stored: Any) -> tuple[str, ...]:
    filters = stored.filters() or {}
    words = [name for name in ("shuffle", "fletcher32") if filters.get(name)]
    for name, word in (
        ("zlib", "deflate"),
        ("zstd", "zstd"),
        ("bzip2", "bzip2"),
        ("szip", "szip"),
        ("blosc", "blosc"),
    ):
        if filters.get(name):
            words.append(
                f"{word} {filters['complevel']}"
                if name in ("zlib", "zstd", "bzip2")
                else word
            )
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
    return (
        f"the file is cut short: {there:,} of {needed:,} bytes are there; copy or "
        "download it again"
    )


def _why_unreadable(path: Path, error: Exception) -> str:
    """Say in people's words why the library could not open a file."""
    import h5py

    try:
        with h5py.File(path, "r"):
            return f"cannot be read as NetCDF: {error}"
    except OSError as detail:
        if match := re.search(r"eof = (\d+).*?stored_eof = (\d+)", str(detail)):
            there, expected = (int(number) for number in match.groups())
            return _cut_short(there, expected)
    return (
        "the file is damaged or cut short and cannot be read as NetCDF; copy or "
        "download it again"
    )
