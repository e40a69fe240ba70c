"""A Zarr store that lies elsewhere, as a folder with its metadata; chunks are read from there."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.formats.mirrored.mirror import new_place
from rhodolite.formats.stores.object_stores import open_store, saying_what_failed

_GATHERED = ("zarr.json", ".zmetadata")
"""Where the metadata of all arrays may be told in one place, in versions 3 and 2."""
_METADATA = ("zarr.json", ".zgroup", ".zarray", ".zattrs")
_mirrors: dict[Path, tuple[str, Any]] = {}


def mirror_store(address: str) -> Path | None:
    """Return a folder with the metadata of a store; None where there is no store.

    Raises
    ------
    DataError
        If what is there cannot be read, or its metadata are not told in one place where nothing
        can be listed.
    """
    store = open_store(address.rstrip("/"))
    for name in (*_GATHERED, ".zgroup", ".zarray"):
        content = _get(address, store, name)
        if content is not None:
            break
    else:
        return None
    folder = new_place(address)
    folder.mkdir(parents=True, exist_ok=True)
    try:
        described = json.loads(content)
    except ValueError as error:
        raise DataError(f"{address}/{name}: this is not valid JSON: {error}") from None
    gathered = _gathered(described)
    if gathered:
        # The group that tells of all is described there, too, or tells itself.
        own = (
            {}
            if name == ".zmetadata"
            else {name: {**described, "consolidated_metadata": None}}
        )
        for key, about in {**gathered, **own}.items():
            _put(folder, key, json.dumps(about).encode())
    else:
        _copy_listed(address, store, folder)
    _mirrors[folder.resolve()] = address, store
    return folder


def _gathered(described: Any) -> dict[str, Any]:
    """Return the metadata of all groups and arrays by their place, where they are told together."""
    if not isinstance(described, dict):
        return {}
    if isinstance(described.get("metadata"), dict):
        return dict(described["metadata"])
    together = described.get("consolidated_metadata") or {}
    inner = together.get("metadata") if isinstance(together, dict) else None
    return {f"{place}/zarr.json": about for place, about in (inner or {}).items()}


def _copy_listed(address: str, store: Any, folder: Path) -> None:
    """Copy all metadata of a store whose objects can be listed."""
    import obstore

    with saying_what_failed(address):
        try:
            listed = [entry["path"] for part in obstore.list(store) for entry in part]
        except obstore.exceptions.BaseError:
            raise DataError(
                f"{address}: the metadata of this store are not gathered in one place, and nothing "
                "can be listed here; have them consolidated by whoever serves it"
            ) from None
    for key in listed:
        if key.rpartition("/")[2] in _METADATA:
            _put(folder, key, _get(address, store, key) or b"")


def _put(folder: Path, key: str, content: bytes) -> None:
    place = folder / key
    if not place.resolve().is_relative_to(folder.resolve()):
        raise DataError(f"{folder}: '{key}' leads out of the store")
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(content)


def _get(address: str, store: Any, key: str) -> bytes | None:
    import obstore

    with saying_what_failed(f"{address}/{key}"):
        try:
            return bytes(obstore.get(store, key).bytes())
        except (obstore.exceptions.NotFoundError, FileNotFoundError):
            return None


def store_behind(folder: Path) -> tuple[str, Any] | None:
    """Return address and store of a folder that is the copy of one; None for all other folders."""
    return _mirrors.get(folder)
