"""Open files, kept for as long as they are in use, and the one lock of the HDF5 and NetCDF
libraries."""

from __future__ import annotations

import ctypes
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

from rhodolite.formats.mirrored.mirror import mirror_of

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

    def __init__(
        self, opener: Callable[[Path | str], Any], closer: Callable[[Any], None]
    ) -> None:
        self._opener = opener
        self._closer = closer
        self._open: OrderedDict[Path | str, tuple[tuple[int, int], Any]] = OrderedDict()

    def get(self, path: Path | str) -> Any:
        """Return the open file, or what is served at an address; the caller holds LIBRARY_LOCK
        while it uses it."""
        identity = (0, 0)
        mirror = mirror_of(path)
        if mirror is not None:
            identity = mirror.identity
        elif isinstance(path, Path):
            status = path.stat()  # a file replaced meanwhile is another file
            identity = (status.st_ino, status.st_mtime_ns)
        known, handle = self._open.get(path, (None, None))
        if known == identity:
            self._open.move_to_end(path)
            return handle
        # The library shares what it knows of a file among all handles, also of its old content.
        self.close(path)
        handle = self._opener(path)
        self._open[path] = (identity, handle)
        while len(self._open) > _MOST_OPEN:
            self._closer(self._open.popitem(last=False)[1][1])
        return handle

    def close(self, path: Path | str) -> None:
        """Close the handle of a path, if it is open."""
        if path in self._open:
            self._closer(self._open.pop(path)[1])


def _open_netcdf(path: Path | str) -> Any:
    import netCDF4

    dataset = netCDF4.Dataset.__new__(netCDF4.Dataset)
    try:
        netCDF4.Dataset.__init__(dataset, path)
    except (OSError, MemoryError):
        raise
    except (
        Exception
    ) as error:  # of a damaged file the library raises whatever comes first
        # It has opened the file; to close it may kill the process, even at its end, so this is
        # never freed.
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(dataset))
        if isinstance(error, RuntimeError):
            raise
        raise OSError(f"the NetCDF library cannot open it ({error})") from None
    dataset.set_auto_maskandscale(False)
    dataset.set_always_mask(False)
    return dataset


netcdf_files = HandleCache(_open_netcdf, lambda dataset: dataset.close())
