"""Open files, kept for as long as they are in use, and the one lock of the HDF5 and NetCDF
libraries."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

LIBRARY_LOCK = threading.RLock()
"""The HDF5 and NetCDF libraries are not safe to call from two threads at once."""

_MOST_OPEN = 64


class HandleCache:
    """Keeps the files used last open, closing the one unused for longest.

    Parameters
    ----------
    opener : callable
        Opens a path.
    closer : callable
        Closes what the opener returned.
    """

    def __init__(self, opener: Callable[[Path | str], Any], closer: Callable[[Any], None]) -> None:
        self._opener = opener
        self._closer = closer
        self._open: OrderedDict[tuple[Path | str, int, int], Any] = OrderedDict()

    def get(self, path: Path | str) -> Any:
        """Return the open file, or what is served at an address; the caller holds LIBRARY_LOCK
        while it uses it."""
        key: tuple[Path | str, int, int] = (path, 0, 0)
        if isinstance(path, Path):
            status = path.stat()  # a file replaced meanwhile is another file
            key = (path, status.st_ino, status.st_mtime_ns)
        if key in self._open:
            self._open.move_to_end(key)
            return self._open[key]
        if isinstance(path, Path):
            # The library shares what it knows of a file among all handles, also of its old content.
            self.close(path)
        handle = self._open[key] = self._opener(path)
        while len(self._open) > _MOST_OPEN:
            self._closer(self._open.popitem(last=False)[1])
        return handle

    def close(self, path: Path) -> None:
        """Close every handle of a path."""
        for key in [key for key in self._open if key[0] == path]:
            self._closer(self._open.pop(key))


def _open_netcdf(path: Path | str) -> Any:
    import netCDF4

    try:
        dataset = netCDF4.Dataset(path)
    except (OSError, RuntimeError, MemoryError):
        raise
    except Exception as error:  # of a damaged file the library raises whatever comes first
        raise OSError(f"the NetCDF library cannot open it ({error})") from None
    dataset.set_auto_maskandscale(False)
    dataset.set_always_mask(False)
    return dataset


netcdf_files = HandleCache(_open_netcdf, lambda dataset: dataset.close())
