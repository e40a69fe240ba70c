"""What is known of an open NetCDF file as text, from which it can be opened without its library.

The text is JSON in two parts. The first describes the variables; it is the same for the many files
of one data set, which then share what it stands for. The second holds what each file has for
itself: its lengths, its attributes and its small variables, most of which are coordinates.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory, whole
from rhodolite.formats.cf.decode import Decoding
from rhodolite.formats.netcdf.lazy_variable import NetCDFVariable
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Packing, Storage, Variable

_VERSION = 2
_SHARED = 4096
"""Descriptions and sets of values that are kept to be shared among files."""


class NotDescribed(ValueError):
    """A dataset is not of a kind that text can stand for, or a text stands for none."""


@dataclass(frozen=True)
class _Described:
    """A variable without its values, as the first part of the text has it."""

    name: str
    dimensions: tuple[str, ...]
    attributes: dict[str, Any]
    storage: Storage
    missing: int | None
    place: str
    chunks: tuple[int, ...] | None
    decoding: Decoding | None
    classic: bool


def describe_header(dataset: Dataset) -> str:
    """Return the text that stands for a dataset read from one file.

    Raises
    ------
    NotDescribed
        If it was not read from a NetCDF file, or holds what JSON cannot hold.
    """
    described, values = [], []
    for variable in dataset.variables.values():
        data = variable.data
        if not isinstance(data, (NetCDFVariable, InMemory)):
            raise NotDescribed(f"{variable.name} is not a variable of a file")
        described.append(
            {
                "name": variable.name,
                "dimensions": variable.dimensions,
                "attributes": _pack_table(variable.attributes),
                "storage": _pack_storage(variable.storage),
                "missing": variable.missing,
                **(_pack_reading(data) if isinstance(data, NetCDFVariable) else {}),
            }
        )
        lazy = isinstance(data, NetCDFVariable)
        values.append(list(data.shape) if lazy else _pack(data.read(whole(data.shape))))
    (source,) = dataset.files
    own = {
        "attributes": _pack_table(dataset.attributes),
        "unlimited": sorted(dataset.unlimited),
        "format": source.format,
        "size": source.size,
        "groups": source.groups,
        "values": values,
    }
    common = json.dumps([_VERSION, described], ensure_ascii=False)
    return json.dumps([common, own], ensure_ascii=False)


def open_header(text: str, path: Path) -> Dataset:
    """Return the dataset that a text stands for, in a file.

    Parameters
    ----------
    text : str
    path : Path
        Where the file lies now.

    Raises
    ------
    NotDescribed
        If the text is not what `describe_header` makes.
    """
    try:
        common, own = json.loads(text)
        variables = {
            described.name: _with_values(described, content, path)
            for described, content in zip(
                _read_description(common), own["values"], strict=True
            )
        }
        groups = tuple(str(group) for group in own["groups"])
        source = SourceFile(path, str(own["format"]), int(own["size"]), groups=groups)
        return Dataset(
            variables,
            _unpack_table(own["attributes"]),
            frozenset(own["unlimited"]),
            (source,),
        )
    except (
        ValueError,
        TypeError,
        KeyError,
        AttributeError,
        IndexError,
        RecursionError,
    ) as error:
        raise NotDescribed(f"not a header: {error}") from None


def _with_values(described: _Described, content: Any, path: Path) -> Variable:
    data: InMemory | NetCDFVariable
    if described.decoding is None:
        data = _shared_values(json.dumps(content))
    else:
        shape = tuple(int(length) for length in content)
        data = NetCDFVariable(
            path,
            described.place,
            shape,
            described.chunks,
            described.decoding,
            described.classic,
        )
    return Variable(
        described.name,
        described.dimensions,
        data,
        described.attributes,
        described.storage,
        described.missing,
    )


@lru_cache(_SHARED)
def _shared_values(text: str) -> InMemory:
    values = _unpack(json.loads(text))
    values.flags.writeable = False
    return InMemory(values)


@lru_cache(_SHARED)
def _read_description(text: str) -> tuple[_Described, ...]:
    version, described = json.loads(text)
    if version != _VERSION:
        raise NotDescribed("of another version")
    return tuple(
        _Described(
            str(entry["name"]),
            tuple(map(str, entry["dimensions"])),
            _unpack_table(entry["attributes"]),
            _unpack_storage(entry["storage"]),
            None if entry["missing"] is None else int(entry["missing"]),
            str(entry.get("place", "")),
            None if entry.get("chunks") is None else tuple(map(int, entry["chunks"])),
            _unpack_decoding(entry["decoding"]) if "decoding" in entry else None,
            bool(entry.get("classic")),
        )
        for entry in described
    )


def _pack_table(table: Any) -> dict[str, Any]:
    return {str(key): _pack(value) for key, value in table.items()}


def _unpack_table(table: dict[str, Any]) -> dict[str, Any]:
    return {key: _unpack(value) for key, value in table.items()}


def _pack(value: Any) -> Any:
    """Return a value as JSON has it: numbers of NumPy with their types, arrays as their bytes."""
    if value is None or isinstance(value, (str, bool)) or type(value) in (int, float):
        return value
    if isinstance(value, np.generic) and value.dtype.kind in "fiub":
        return {"type": value.dtype.str, "number": _bytes(np.asarray(value))}
    if isinstance(value, np.ndarray):
        if value.dtype.kind in "fiubSU":
            data = _bytes(value)
            return {"type": value.dtype.str, "shape": value.shape, "bytes": data}
        if _are_texts(value.reshape(-1)):
            return {"texts": value.reshape(-1).tolist(), "shape": value.shape}
    if isinstance(value, (list, tuple)) and _are_texts(value):
        return list(value)
    raise NotDescribed(f"a value of type {type(value).__name__}")


def _are_texts(values: Iterable[Any]) -> bool:
    return all(isinstance(value, str) for value in values)


def _unpack(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    if "texts" in value:
        texts = np.empty(len(value["texts"]), dtype=object)
        texts[:] = [str(text) for text in value["texts"]]
        return texts.reshape(value["shape"])
    dtype = np.dtype(value["type"])
    if dtype.kind not in "fiubSU":
        raise NotDescribed(f"values of type {dtype}")
    if "number" in value:
        return np.frombuffer(base64.b64decode(value["number"]), dtype)[0]
    return np.frombuffer(bytearray(base64.b64decode(value["bytes"])), dtype).reshape(
        value["shape"]
    )


def _bytes(values: Array) -> str:
    return base64.b64encode(np.ascontiguousarray(values).tobytes()).decode()


def _pack_storage(storage: Storage) -> dict[str, Any]:
    return {
        "dtype": storage.dtype,
        "fill_value": _pack(storage.fill_value),
        "chunks": storage.chunks,
        "filters": storage.filters,
        "packing": _pack_packing(storage.packing),
        "limits": _pack_table(storage.limits),
    }


def _unpack_storage(table: dict[str, Any]) -> Storage:
    return Storage(
        table["dtype"],
        _unpack(table["fill_value"]),
        None if table["chunks"] is None else tuple(map(int, table["chunks"])),
        tuple(map(str, table["filters"])),
        _unpack_packing(table["packing"]),
        _unpack_table(table["limits"]),
    )


def _pack_packing(packing: Packing | None) -> list[Any] | None:
    return None if packing is None else [packing.dtype, packing.scale, packing.offset]


def _unpack_packing(packed: list[Any] | None) -> Packing | None:
    return (
        None
        if packed is None
        else Packing(str(packed[0]), float(packed[1]), float(packed[2]))
    )


def _pack_reading(data: NetCDFVariable) -> dict[str, Any]:
    """Return how a variable is found in its file and decoded."""
    return {
        "place": data.name,
        "chunks": data.chunks,
        "classic": data.classic,
        "decoding": _pack_decoding(data.decoding),
    }


def _pack_decoding(decoding: Decoding) -> dict[str, Any]:
    return {
        "stored": decoding.stored.str,
        "target": decoding.target.str,
        "missing": [_pack(number) for number in decoding.missing],
        "lowest": _pack(decoding.lowest),
        "highest": _pack(decoding.highest),
        "packing": _pack_packing(decoding.packing),
    }


def _unpack_decoding(table: dict[str, Any]) -> Decoding:
    return Decoding(
        np.dtype(table["stored"]),
        np.dtype(table["target"]),
        tuple(_unpack(number) for number in table["missing"]),
        _unpack(table["lowest"]),
        _unpack(table["highest"]),
        _unpack_packing(table["packing"]),
    )
