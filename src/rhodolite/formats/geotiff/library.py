"""The library that reads and writes GeoTIFF, imported when it is needed."""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from types import ModuleType
from typing import Any

from rhodolite.errors import DataError

_CACHE_MB = 64
"""Of decoded blocks that the library keeps, beside what the engine counts."""


@cache
def library() -> ModuleType:
    """Return the library, with those of its modules that are used."""
    import rasterio
    import rasterio.shutil
    import rasterio.windows

    return rasterio  # type: ignore[no-any-return]


@contextlib.contextmanager
def open_file(path: Path) -> Iterator[Any]:
    """Open a file for reading, for one thread.

    Raises
    ------
    DataError
        If it is damaged.
    """
    rasterio = library()
    with warnings.catch_warnings():
        # That a file does not say where it lies is said in our own words.
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        try:
            with (
                rasterio.Env(GDAL_CACHEMAX=_CACHE_MB, GDAL_PAM_ENABLED="NO"),
                rasterio.open(path, driver="GTiff") as file,
            ):
                yield file
        except (rasterio.errors.RasterioError, UnicodeDecodeError) as error:
            raise DataError(f"{path}: this is no whole GeoTIFF: {error}") from None
