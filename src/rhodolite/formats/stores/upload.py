"""Outputs in object stores: whole there under their names, or not at all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError, OutputError
from rhodolite.formats.stores.object_stores import (
    is_of_object_store,
    open_store,
    saying_what_failed,
    split_address,
)

_AT_ONCE = 16
"""Objects that are under way together."""
_ROOTS = (".zattrs", ".zgroup", ".zmetadata", "zarr.json")
"""Objects by which a store is found, the last of which makes it whole."""


def check_address(address: str, overwrite: bool) -> None:
    """Refuse to write to an address before any work is done for it.

    Parameters
    ----------
    address : str
    overwrite : bool
        Whether what is there may be replaced.

    Raises
    ------
    OutputError
        If it is that of a web server, cannot be reached, or has something already and `overwrite`
        is false.
    """
    if not is_of_object_store(address):
        raise OutputError(
            f"{address}: a web server takes no files; write to a folder, or to s3://, gs:// or "
            "az://"
        )
    with _as_output_error():
        if _keys_of(address) and not overwrite:
            raise OutputError(
                f"{address}: exists already; choose another name or add --overwrite"
            )


def upload(local: Path, address: str) -> None:
    """Put a file or a store where others find it, once all of it is there.

    Of a store the metadata at its root come last, and what lay there before loses its own first:
    so nobody opens one that is half written.

    Parameters
    ----------
    local : Path
    address : str
        In place of what may lie there.

    Raises
    ------
    OutputError
        If it cannot be written; then nothing of it is left.
    """
    folder, name = split_address(address)
    with _as_output_error():
        store = open_store(folder)
        if local.is_file():
            _put(store, {name: local}, address)
            return
        new = {
            f"{name}/{file.relative_to(local).as_posix()}": file
            for file in local.rglob("*")
            if file.is_file()
        }
        roots = [f"{name}/{root}" for root in _ROOTS]
        before = _keys_of(address)
        _delete(store, [key for key in roots if key in before], address)
        _put_or_nothing(store, new, roots, address)
        _delete(store, [key for key in before if key not in new], address)


def _put_or_nothing(
    store: Any, files: dict[str, Path], roots: list[str], address: str
) -> None:
    """Put files into a store, those at its root last; nothing of them where one cannot be."""
    try:
        _put(store, {k: f for k, f in files.items() if k not in roots}, address)
        for key in roots:
            if key in files:
                _put(store, {key: files[key]}, address)
    except BaseException:
        # Also when it was interrupted: chunks that nobody names are in everybody's way.
        with suppress(DataError):
            _delete(store, list(files), address)
        raise


def _keys_of(address: str) -> list[str]:
    """Return the objects of an address, in the folder that it lies in: one, or all of a store."""
    import obstore

    folder, name = split_address(address)
    store = open_store(folder)
    with saying_what_failed(address, "written"):
        # What is listed lies below a name; the object of the name itself is asked for.
        listed = obstore.list(store, prefix=name)
        keys = [entry["path"] for part in listed for entry in part]
        with suppress(obstore.exceptions.NotFoundError, FileNotFoundError):
            obstore.head(store, name)
            keys.append(name)
    return keys


def _put(store: Any, files: dict[str, Path], address: str) -> None:
    """Put files under their names, some of them at once."""
    import obstore

    def put(key: str) -> None:
        with saying_what_failed(address, "written"):
            obstore.put(store, key, files[key])

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        try:
            for future in [pool.submit(put, key) for key in files]:
                future.result()
        finally:
            # Of a store that will not be whole no more objects are put.
            pool.shutdown(cancel_futures=True)


def _delete(store: Any, keys: Sequence[str], address: str) -> None:
    import obstore

    if keys:
        with saying_what_failed(address, "written"):
            obstore.delete(store, list(keys))


@contextmanager
def _as_output_error() -> Iterator[None]:
    """Turn errors of the store into those of an output."""
    try:
        yield
    except DataError as error:
        raise OutputError(str(error)) from None
