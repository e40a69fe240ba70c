"""Variables in NetCDF files as lazy arrays."""

from __future__ import annotations

import threading
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region, Unpacking
from rhodolite.errors import DataError
from rhodolite.formats.cf.decode import Decoding
from rhodolite.formats.mirrored.mirror import mirror_of, place_name
from rhodolite.formats.netcdf.direct_chunk_reader import (
    ContiguousReader,
    Identity,
    Placement,
    find_placement,
    identify,
)
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK, netcdf_files
from rhodolite.formats.netcdf.hdf5_filters import CorruptChunk
from rhodolite.formats.netcdf.netcdf3_header import Placed, find_values


class NetCDFVariable(LazyArray):
    """The values of one variable of a file.

    Numbers are read with `os.pread` or through a memory map and decoded in the calling thread,
    which holds no lock meanwhile. Where only the NetCDF library can read them, one thread at a time
    does.

    Parameters
    ----------
    path : Path or str
        A file, or the address of a server.
    name : str
        With the groups that the variable lies in.
    shape, chunks : tuple of int
    decoding : Decoding
    classic : bool
        Whether the file is in one of the variants of NetCDF-3.
    """

    def __init__(
        self,
        path: Path | str,
        name: str,
        shape: tuple[int, ...],
        chunks: tuple[int, ...] | None,
        decoding: Decoding,
        classic: bool = False,
    ) -> None:
        self.path = path
        self.name = name
        self.shape = shape
        self.chunks = chunks
        self.dtype = decoding.target
        self.decoding = decoding
        self.classic = classic
        self._placement: Placement | None = None
        self._searched = False
        self._lock = threading.Lock()

    def __getstate__(self) -> dict[str, Any]:
        if mirror_of(self.path) is not None:
            raise DataError(
                f"{place_name(self.path)}: what lies elsewhere is read by this process alone; "
                "copy the file first, or leave out --cluster"
            )
        # Another process may run in another folder.
        path = self.path.resolve() if isinstance(self.path, Path) else self.path
        return {
            **self.__dict__,
            "path": path,
            "_placement": None,
            "_searched": False,
            "_lock": None,
        }

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _lock=threading.Lock())

    def as_stored(self) -> tuple[LazyArray, Unpacking | None]:
        if self.decoding.stored.itemsize >= self.dtype.itemsize:
            return self, None
        raw = NetCDFVariable(
            self.path,
            self.name,
            self.shape,
            self.chunks,
            self.decoding.undone(),
            self.classic,
        )
        return raw, self.decoding

    @property
    def origin(self) -> str:
        return f"{place_name(self.path)}: variable '{self.name}'"

    def read(self, region: Region) -> Array:
        try:
            placement = self._find_placement()
            raw = (
                self._through_library(region)
                if placement is None
                else placement.read(region)
            )
            return self.decoding.decode(raw)
        except CorruptChunk as damage:
            raise DataError(
                f"{place_name(self.path)}: variable '{self.name}' is damaged: {damage}"
            ) from None
        except (OSError, RuntimeError) as error:
            raise DataError(
                f"{place_name(self.path)}: variable '{self.name}' cannot be read: {error}"
            ) from None

    def _through_library(self, region: Region) -> Array:
        mirror = mirror_of(self.path)
        if mirror is not None:  # where its values lie only the library knows
            mirror.fetch_all()
        with LIBRARY_LOCK:
            try:
                variable = netcdf_files.get(self.path)[self.name]
            except (
                IndexError,
                KeyError,
            ) as error:  # names such as "." mean a place to the library
                raise OSError(str(error)) from None
            return np.asarray(variable[region if self.shape else ...])

    def _find_placement(self) -> Placement | None:
        with self._lock:
            if not self._searched and isinstance(self.path, Path):
                if self.classic:
                    identity = identify(self.path)
                    self._placement = self._classic_placement(
                        find_values(self.path), identity
                    )
                else:
                    self._placement, why = find_placement(self.path, self.name)
                    if self._placement is None:
                        warnings.warn(
                            f"{place_name(self.path)}: {self.name} is read through the NetCDF "
                            f"library, since {why}",
                            stacklevel=1,
                        )
            self._searched = True
            return self._placement

    def _classic_placement(
        self, places: dict[str, Placed], identity: Identity
    ) -> Placement | None:
        placed = places.get(self.name)
        if placed is None or placed.shape != self.shape:
            return None
        assert isinstance(self.path, Path)
        return ContiguousReader(
            self.path, placed, self.decoding.stored.newbyteorder(">"), identity
        )
