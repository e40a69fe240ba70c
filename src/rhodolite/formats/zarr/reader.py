"""Opening Zarr stores: metadata now, values when they are needed."""

from __future__ import annotations

import base64
import binascii
import copy
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import zarr

from rhodolite.arrays import Array, InMemory, LazyArray, Region, Unpacking, Unreadable
from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.formats.cf.check_attributes import check_attributes
from rhodolite.formats.cf.decode import Decoding, decode_variable
from rhodolite.formats.mirrored.mirrored_store import store_behind
from rhodolite.formats.zarr.checked_store import CheckedStore, codec_name
from rhodolite.limits import check_held, check_nesting, why_beyond_reading
from rhodolite.model.cf.vocabulary import STORAGE_ATTRIBUTES
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Variable

DIMENSIONS_ATTRIBUTE = "_ARRAY_DIMENSIONS"
"""Version 2 has no place of its own for the names of dimensions; programs agree on this attribute.

Version 3 has `dimension_names` in the metadata of an array."""


class ZarrVariable(LazyArray):
    """The values of one array of a store. Chunks are decoded by the library, which holds no
    lock."""

    def __init__(self, path: Path, name: str, stored: Any, decoding: Decoding) -> None:
        self.path = path
        self.name = name
        self.shape = stored.shape
        self.chunks = stored.chunks if stored.shape else None
        self.dtype = decoding.target
        self._decoding = decoding
        self._stored = stored

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "path": self.path.resolve(), "_stored": None}

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        if self._decoding.stored.itemsize >= self.dtype.itemsize:
            return self, None
        raw = copy.copy(self)
        raw._decoding = self._decoding.undone()
        raw.dtype = raw._decoding.target
        return raw, self._decoding

    @property
    def origin(self) -> str:
        return f"{self.path}: variable '{self.name}'"

    def read(self, region: Region) -> Array:
        try:
            if self._stored is None:
                store = CheckedStore(self.path)
                stored = zarr.open_array(store, path=self.name, mode="r")
                store.expect(stored)
                self._stored = stored
            raw = np.asarray(self._stored[region if self.shape else ...])
        except (DataError, MemoryError):
            raise
        except Exception as error:  # codecs raise whatever they like
            raise DataError(
                f"{self.path}: variable '{self.name}' is damaged: {error}"
            ) from None
        # The library may hand out views of values that it keeps.
        return self._decoding.decode(raw if raw.flags.writeable else raw.copy())


def read(path: Path, group: str | None = None) -> Dataset:
    """Open a Zarr store, or one group of it.

    Parameters
    ----------
    path : Path
    group : str, optional
        Group to read of files that have groups.

    Raises
    ------
    DataError
        If it is damaged, holds no arrays, or has no such group.
    """
    _check_metadata(path)
    try:
        store = CheckedStore(path)
        root = zarr.open(store, mode="r")
        if isinstance(root, zarr.Array):
            raise DataError(
                f"{path}: this is a single array without names; name the folder of the store it "
                "lies in"
            )
        # What is gathered in one place may be older than what lies with each array.
        root = zarr.open_group(store, mode="r", use_consolidated=False)
        chosen = root if group is None else _group(path, root, group.strip("/"))
        groups = _groups_with_arrays(root)
        arrays = dict(chosen.arrays())
        if group is None and arrays:
            arrays |= _fields_of_groups(arrays, groups)
        for stored in arrays.values():
            store.expect(stored)
    except (DataError, MemoryError):
        raise
    except Exception as error:  # the library raises whatever its parts do
        raise DataError(f"{path}: cannot be read as a Zarr store: {error}") from None
    if not arrays:
        inner = [f"{path}:{place}" for place in groups]
        hint = (
            f"its arrays are in groups; name one of {', '.join(inner)}"
            if inner
            else "it is empty"
        )
        raise DataError(f"{path}: no arrays at the top of the store; {hint}")
    size = _stored_size(path, arrays)
    variables = {
        name: _variable(path, stored.path, name, stored, size)
        for name, stored in arrays.items()
    }
    _check_lengths(path, variables)
    kind = f"Zarr version {root.metadata.zarr_format}"
    source = SourceFile(path, kind, size, groups=tuple(groups))
    return Dataset(
        variables, {**_attributes(root), **_attributes(chosen)}, frozenset(), (source,)
    )


def _stored_size(path: Path, arrays: Mapping[str, Any]) -> int:
    """Return the bytes of a store; of one that lies elsewhere, what its arrays declare."""
    if store_behind(path.resolve()) is not None:
        return sum(int(stored.nbytes) for stored in arrays.values())
    return sum(file.stat().st_size for file in path.rglob("*") if file.is_file())


def _check_lengths(path: Path, variables: Mapping[str, Variable]) -> None:
    """Refuse arrays whose dimensions of one name differ in length, which nothing else in a store
    holds together."""
    known: dict[str, tuple[int, str]] = {}
    for name, variable in sorted(
        variables.items()
    ):  # the order in a folder is that of the disk
        for dimension, length in zip(variable.dimensions, variable.shape, strict=True):
            other, first = known.setdefault(dimension, (length, name))
            if other != length:
                raise DataError(
                    f"{path}: the dimension {dimension} has a length of {other:,} in {first} and "
                    f"of {length:,} in {name}; write the store again, or give the dimensions of "
                    "one of them other names"
                )


def _groups_with_arrays(group: Any) -> dict[str, dict[str, Any]]:
    """Return the arrays of the groups inside a group, by the paths of those."""
    groups = {}
    for _, inner in sorted(group.groups()):  # the order in a folder is that of the disk
        if arrays := dict(sorted(inner.arrays())):
            groups[f"/{inner.path}"] = arrays
        groups |= _groups_with_arrays(inner)
    return groups


def _fields_of_groups(
    arrays: dict[str, Any], groups: dict[str, dict[str, Any]]
) -> dict[str, Any]:
    """Return the arrays of groups that run along dimensions at the top alone, by their names, or
    with that of their group before it where that is taken; says which groups are left out."""
    lengths = _lengths(arrays)
    inside = {
        place: inner
        for place, inner in groups.items()
        if _lengths(inner).items() <= lengths.items() and not set(inner) & set(lengths)
    }
    fields: dict[str, Any] = {}
    for place, inner in inside.items():
        before = place.strip("/").replace("/", "_")
        for name, stored in inner.items():
            taken = name in arrays or name in fields
            fields[f"{before}_{name}" if taken else name] = stored
    if left := [place for place in groups if place not in inside]:
        warn(
            f"groups with axes of their own are left out: {', '.join(left)}; name one as "
            f"FOLDER:{left[0]}"
        )
    return fields


def _lengths(arrays: dict[str, Any]) -> dict[str, int]:
    """Return the lengths of the dimensions that arrays run along."""
    return {
        dimension: length
        for name, stored in arrays.items()
        for dimension, length in zip(
            _dimensions(name, stored), stored.shape, strict=True
        )
    }


def _check_metadata(path: Path) -> None:
    """Refuse metadata that are not tables, or nested too deep for the library.

    Raises
    ------
    DataError
        Which names the file.
    """
    for file in [*path.rglob("zarr.json"), *path.rglob(".z*")]:
        content = file.read_bytes()
        check_nesting(content, file)
        try:
            parsed = json.loads(content)
        except ValueError as error:
            raise DataError(f"{file}: this is not valid JSON: {error}") from None
        attributes = parsed.get("attributes", {}) if isinstance(parsed, dict) else None
        if not isinstance(attributes, dict):
            raise DataError(
                f"{file}: holds no table of metadata, or one whose attributes are none"
            )


def _group(path: Path, root: Any, name: str) -> Any:
    member = root.get(name)
    if not isinstance(member, zarr.Group):
        names = [inner for inner, _ in root.groups()]
        raise DataError(f"{path}: no group '{name}'. {nearest_names(name, names)}")
    return member


def _without_storage(attributes: Mapping[str, Any]) -> dict[str, Any]:
    return {
        key: value for key, value in attributes.items() if key not in STORAGE_ATTRIBUTES
    }


def _variable(path: Path, place: str, name: str, stored: Any, size: int) -> Variable:
    """Describe an array of a store of so many bytes."""
    numeric = stored.dtype.kind in "fiub"
    dtype = np.dtype("i1") if stored.dtype.kind == "b" else stored.dtype
    given = _attributes(stored)
    if numeric:
        given = {
            key: _fill_number(value, dtype)
            if key in ("_FillValue", "missing_value")
            else value
            for key, value in given.items()
        }
    attributes = check_attributes(path, name, given, numeric=numeric)
    dimensions = _dimensions(name, stored)
    reason = why_beyond_reading(f"{path}: {name}", stored.shape, dtype.itemsize, size)
    if reason is not None:
        warn(reason)
        nothing = Unreadable(stored.shape, dtype, reason)
        return Variable(name, dimensions, nothing, _without_storage(given))
    if not numeric:
        check_held(stored.nbytes, f"{path}: variable '{name}'")
        text = InMemory(np.asarray(stored[...]).astype(object))
        return Variable(name, dimensions, text, _without_storage(attributes))
    fill = stored.metadata.fill_value
    # Zero is what arrays begin with unless told otherwise, and says nothing of missing values.
    means_missing = stored.metadata.zarr_format == 2 and fill not in (None, 0)
    if means_missing and "_FillValue" not in attributes:
        attributes["_FillValue"] = _fill_number(fill, dtype)
    return decode_variable(
        name,
        dimensions,
        attributes,
        Decoding.of(dtype, attributes, usual_fill=False),
        lambda decoding: ZarrVariable(path, place, stored, decoding),
        chunks=tuple(stored.chunks) if stored.shape else None,
        filters=tuple(codec_name(codec) for codec in stored.compressors),
    )


def _dimensions(name: str, stored: Any) -> tuple[str, ...]:
    """Return the names of an array's dimensions, made up from its own where the store gives
    none."""
    names = getattr(stored.metadata, "dimension_names", None) or stored.attrs.get(
        DIMENSIONS_ATTRIBUTE
    )
    known = isinstance(names, (list, tuple)) and all(
        isinstance(item, (str, type(None))) for item in names
    )
    if not known or len(names) != len(stored.shape):
        if len(stored.shape) == 1:
            return (name,)
        names = [None] * len(stored.shape)
    return tuple(given or f"{name}_axis_{at}" for at, given in enumerate(names))


def _attributes(holder: Any) -> dict[str, Any]:
    """Return attributes as NetCDF has them: lists of numbers as arrays, nothing for null."""
    marked = {}
    try:
        table = holder.attrs.asdict()
    except (TypeError, ValueError):
        place = str(holder.store_path).removeprefix("file://")
        raise DataError(f"{place}: its attributes are not a table") from None
    for key, value in table.items():
        if key != DIMENSIONS_ATTRIBUTE and value is not None:
            marked[key] = _plain_value(value)
    return marked


def _plain_value(value: Any) -> Any:
    """Return what JSON holds as text, a number or a list of these; as text where it is none."""
    if (
        isinstance(value, list)
        and value
        and all(isinstance(item, (int, float)) for item in value)
    ):
        numbers = np.asarray(value)
        return numbers if numbers.dtype.kind in "fiu" else str(value)
    nested = isinstance(value, list) and not all(
        isinstance(item, str) for item in value
    )
    if nested or isinstance(value, (dict, bool)):
        return str(value)
    too_long = isinstance(value, int) and not -(2**63) <= value < 2**64
    return str(value) if too_long else value


def _fill_number(value: Any, dtype: np.dtype[Any]) -> Any:
    """Return a fill value that JSON could hold only as text: NaN, infinity, or the bytes of a
    double."""
    if not isinstance(value, str):
        return value
    try:
        return float(value)
    except ValueError:
        pass
    try:
        return np.frombuffer(
            base64.b64decode(value, validate=True),
            "<f8" if dtype.kind == "f" else "<i8",
        )[0]
    except (binascii.Error, ValueError, IndexError):
        return value
