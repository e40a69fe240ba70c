"""A store whose chunks are looked at before the library unpacks them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import zarr
from zarr.storage import LocalStore, ObjectStore

from rhodolite.errors import DataError
from rhodolite.formats.declared_sizes import expands_beyond
from rhodolite.formats.mirrored.mirrored_store import store_behind
from rhodolite.formats.stores.object_stores import saying_what_failed

_REQUESTS = 64
"""Chunks that are asked for at once of what lies elsewhere, where each answer takes a while."""


class CheckedStore(LocalStore):
    """A folder on disk, read-only.

    Parameters
    ----------
    path : Path
    """

    def __init__(self, path: Path) -> None:
        super().__init__(path, read_only=True)
        self._chunks: dict[str, tuple[str, int]] = {}
        self._home = path.resolve()
        behind = store_behind(self._home)
        self._elsewhere: ObjectStore[Any] | None = None
        if behind is not None:
            self._address, store = behind
            self._elsewhere = ObjectStore(store, read_only=True)
            zarr.config.set({"async.concurrency": _REQUESTS})

    def expect(self, array: Any) -> None:
        """Note what the chunks of an array may hold."""
        kind = array.dtype
        codec = codec_name(array.compressors[-1]) if array.compressors else ""
        pieces = array.shards or array.chunks
        size = kind.itemsize
        for length in pieces:
            size *= length
        # What lies in a shard is compressed one by one, so that only its size is known.
        self._chunks[array.path] = ("" if array.shards else codec, size)

    async def get(self, key: str, prototype: Any = None, byte_range: Any = None) -> Any:
        self._keep_inside(key)
        stored = await super().get(key, prototype, byte_range)
        if stored is None and self._elsewhere is not None:
            with saying_what_failed(f"{self._address}/{key}"):
                stored = await self._elsewhere.get(key, prototype, byte_range)
        if stored is not None and byte_range is None:
            self._check(key, stored)
        return stored

    def _keep_inside(self, key: str) -> None:
        """Refuse what a symbolic link within the store leads out of it to."""
        place = self.root / key
        if not place.resolve().is_relative_to(self._home):
            raise DataError(
                f"{self.root}: '{key}' is a link out of the store ({place.resolve()}), to what "
                "nobody named; copy it into the store first"
            )

    def _check(self, key: str, stored: Any) -> None:
        folder = key
        while folder and folder not in self._chunks:
            folder = folder.rpartition("/")[0]
        codec, limit = self._chunks.get(folder, ("", 0))
        is_chunk = limit and key.rpartition("/")[2][:1] not in (".", "z")
        if is_chunk and expands_beyond(
            memoryview(stored.as_numpy_array()), codec, limit
        ):
            raise DataError(
                f"{self.root}: chunk '{key}' is damaged: it would unpack to more than the "
                f"{limit:,} bytes of a chunk"
            )


def codec_name(codec: Any) -> str:
    """Return what a compression is called, in small letters.

    Parameters
    ----------
    codec : object
        Codec of the library.
    """
    name = getattr(codec, "codec_id", None) or type(codec).__name__.removesuffix(
        "Codec"
    )
    return str(name).lower()
