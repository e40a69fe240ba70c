"""Handles of the decoding library: messages of fields, opened for as long as they are needed."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from types import ModuleType
from typing import IO, Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.arrays.positional import read_at
from rhodolite.errors import DataError
from rhodolite.formats.grib.sections import (
    Field,
    compose_description,
    compose_message,
)


@cache
def library() -> ModuleType:
    """Return the library that decodes GRIB."""
    # Both bring a copy of the same library for projections; loaded after that of the decoder, the
    # other one crashes.
    import pyproj  # noqa: F401, I001
    import eccodes

    # What it writes to the terminal beside its errors says nothing that these do not.
    eccodes.codes_context_set_logging(_nowhere())
    return eccodes  # type: ignore[no-any-return]


@cache
def _nowhere() -> IO[bytes]:
    """Return a file that is open as long as the process, and swallows what is written to it."""
    return Path(os.devnull).open("wb")


@contextlib.contextmanager
def open_message(path: Path, field: Field) -> Iterator[Any]:
    """Open the message of a field.

    Raises
    ------
    DataError
        If the library refuses it.
    """
    with open_content(path, field, _read_message(path, field)) as handle:
        yield handle


@contextlib.contextmanager
def open_content(path: Path, field: Field, content: bytes) -> Iterator[Any]:
    """Open what was read of a message."""
    codes = library()
    try:
        handle = codes.codes_new_from_message(content)
        try:
            yield handle
        finally:
            codes.codes_release(handle)
    except codes.CodesInternalError as error:
        raise DataError(
            f"{path}: the message at byte {field.spans[0][0]:,} cannot be decoded: {error}"
        ) from None


def read_description(path: Path, field: Field) -> bytes:
    """Return the message of a field, without its data where it can do without."""
    if not field.description:
        return _read_message(path, field)
    return _described(path, field)


def _read_message(path: Path, field: Field) -> bytes:
    parts = _read_spans(path, field)
    return compose_message(parts) if field.is_part else parts[0]


def _described(path: Path, field: Field) -> bytes:
    spans, left = [], field.description
    for start, size in field.spans:
        spans.append((start, min(size, left)))
        left -= spans[-1][1]
        if not left:
            break
    return compose_description(b"".join(_read_spans(path, Field(tuple(spans)))))


def _read_spans(path: Path, field: Field) -> list[bytes]:
    with path.open("rb", buffering=0) as file:
        parts = [read_at(file.fileno(), size, start) for start, size in field.spans]
    if any(
        len(part) < size for part, (_, size) in zip(parts, field.spans, strict=True)
    ):
        raise DataError(f"{path}: the file has become shorter since it was opened")
    return parts


def read_key(handle: Any, key: str, kind: type | None = None) -> Any:
    """Return what a key says; None where the message has no such key, or does not say it."""
    codes = library()
    try:
        if codes.codes_is_missing(handle, key):
            return None
        return codes.codes_get(handle, key, kind)
    except codes.CodesInternalError:
        return None


def read_numbers(handle: Any, key: str) -> Array:
    """Return the numbers of a key that has several, as doubles."""
    return np.asarray(library().codes_get_double_array(handle, key))
