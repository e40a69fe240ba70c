"""Datasets as read-only Zarr version 3 stores, whose chunks are encoded when they are asked for
(Zarr core specification 3.0)."""

from __future__ import annotations

import gzip
import json
import math
import re
import struct
from typing import Any

import numpy as np

from rhodolite.formats.zarr.plain_attributes import plain_attributes
from rhodolite.model.variable import Variable
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served

_TYPES = {
    "b1": "bool",
    **{
        f"{kind}{size}": f"{word}{size * 8}"
        for kind, word in (("i", "int"), ("u", "uint"))
        for size in (1, 2, 4, 8)
    },
    "f2": "float16",
    "f4": "float32",
    "f8": "float64",
}
_CHUNK = re.compile(r"c((?:/\d{1,9})*)")
_CHUNK_VALUES = 1 << 20
_LEVEL = 1
"""Of compression; chunks are encoded for each request."""


def answer(served: Served, path: str) -> tuple[bytes, str]:
    """Return what lies under a key of the store, and its media type.

    Parameters
    ----------
    served : Served
    path : str
        Such as ``zarr.json``, ``tas/zarr.json`` or ``tas/c/0/1/2``.

    Raises
    ------
    Refused
        If there is no such key.
    """
    if path == "zarr.json":
        return _json(_group(served)), "application/json"
    name, _, key = path.partition("/")
    if name in served.variables and key:
        variable = served.variables[name]
        if key == "zarr.json":
            return _json(_array(variable)), "application/json"
        if (match := _CHUNK.fullmatch(key)) is not None:
            place = tuple(int(part) for part in match.group(1).split("/") if part)
            return _chunk(served, variable, place), "application/octet-stream"
    raise Refused(404, f"there is no key '{path}' in this store")


def _json(content: dict[str, Any]) -> bytes:
    return json.dumps(content, allow_nan=False).encode()


def _group(served: Served) -> dict[str, Any]:
    group = {
        "zarr_format": 3,
        "node_type": "group",
        "attributes": plain_attributes(dict(served.dataset.attributes)),
    }
    arrays = {name: _array(variable) for name, variable in served.variables.items()}
    gathered = {"kind": "inline", "must_understand": False, "metadata": arrays}
    return {**group, "consolidated_metadata": gathered}


def _array(variable: Variable) -> dict[str, Any]:
    dtype = variable.data.dtype
    text = dtype.kind in "OUS"
    attributes = dict(variable.attributes)
    fill: Any = "" if text else 0
    if dtype.kind == "f":
        fill = "NaN"
    elif dtype.kind == "b":
        fill = False
    elif variable.missing is not None:
        fill = attributes["_FillValue"] = int(variable.missing)
    first: dict[str, Any] = (
        {"name": "vlen-utf8", "configuration": {}}
        if text
        else {"name": "bytes", "configuration": {"endian": "little"}}
    )
    return {
        "zarr_format": 3,
        "node_type": "array",
        "shape": list(variable.shape),
        "data_type": "string" if text else _TYPES[f"{dtype.kind}{dtype.itemsize}"],
        "chunk_grid": {
            "name": "regular",
            "configuration": {"chunk_shape": list(chunk_shape(variable))},
        },
        "chunk_key_encoding": {"name": "default", "configuration": {"separator": "/"}},
        "fill_value": fill,
        "codecs": [first, {"name": "gzip", "configuration": {"level": _LEVEL}}],
        "attributes": plain_attributes(attributes),
        "dimension_names": list(variable.dimensions),
    }


def chunk_shape(variable: Variable) -> tuple[int, ...]:
    """Return the shape of chunks: that of the source, or cut smaller along the first axes."""
    shape = [max(n, 1) for n in variable.shape]
    chunks = [
        min(c, n) for c, n in zip(variable.data.chunks or shape, shape, strict=True)
    ]
    for axis in range(len(chunks)):
        others = math.prod(chunks) // chunks[axis]
        if others * chunks[axis] > _CHUNK_VALUES:
            chunks[axis] = max(1, _CHUNK_VALUES // others)
    return tuple(chunks)


def _chunk(served: Served, variable: Variable, place: tuple[int, ...]) -> bytes:
    chunks = chunk_shape(variable)
    if len(place) != len(chunks) or any(
        at * size >= max(n, 1)
        for at, size, n in zip(place, chunks, variable.shape, strict=True)
    ):
        raise Refused(404, f"{variable.name} has no chunk {'/'.join(map(str, place))}")
    slices = tuple(
        slice(at * size, min((at + 1) * size, n), 1)
        for at, size, n in zip(place, chunks, variable.shape, strict=True)
    )
    values = served.read(variable.data, slices)
    if values.dtype.kind in "OUS":
        full = np.full(chunks, "", dtype=object)
    else:
        fill = np.nan if values.dtype.kind == "f" else variable.missing or 0
        full = np.full(chunks, fill, values.dtype.newbyteorder("<"))
    full[tuple(slice(0, n) for n in values.shape)] = values
    return gzip.compress(_encode(full), _LEVEL, mtime=0)


def _encode(values: np.ndarray[Any, Any]) -> bytes:
    if values.dtype.kind != "O":
        return values.tobytes()
    texts = [str(item).encode() for item in values.reshape(-1)]
    return struct.pack("<I", len(texts)) + b"".join(
        struct.pack("<I", len(text)) + text for text in texts
    )
