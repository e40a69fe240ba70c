"""Floating-point numbers that the NetCDF library takes for text, such as those of 16 bits, which
HDF5 files may hold: read through h5py."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.formats.cf.decode import Decoding
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK


class OtherFloats(LazyArray):
    """The values of one variable, widened to single or double precision.

    Parameters
    ----------
    path : Path
    name : str
        With the groups that the variable lies in.
    shape : tuple of int
    decoding : Decoding
        Of the wider type.
    """

    def __init__(
        self, path: Path, name: str, shape: tuple[int, ...], decoding: Decoding
    ) -> None:
        self.path, self.name, self.shape = path.resolve(), name, shape
        self.dtype, self._decoding = decoding.target, decoding

    def read(self, region: Region) -> Array:
        import h5py

        try:
            with LIBRARY_LOCK, h5py.File(self.path, "r") as file:
                raw = np.asarray(file[self.name][region if self.shape else ()])
        except (OSError, KeyError, RuntimeError) as error:
            raise DataError(
                f"{self.path}: variable '{self.name}' is damaged: {error}"
            ) from None
        return self._decoding.decode(raw.astype(self._decoding.stored))


def widened(dtype: np.dtype[Any] | str | None) -> np.dtype[Any] | None:
    """Return the type that holds numbers of a floating-point type of any length; None for what are
    no numbers."""
    if not isinstance(dtype, np.dtype) or dtype.kind != "f":
        return None
    return np.dtype("f4") if dtype.itemsize < 4 else np.dtype("f8")
