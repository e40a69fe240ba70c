"""How the system's memory allocator is set up for arrays of many megabytes."""

from __future__ import annotations

import ctypes
import sys

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
"""The numbers of these parameters in glibc's malloc.h."""
_MOST_ON_THE_HEAP = 32 << 20
_KEPT = 1 << 30


def keep_freed_memory() -> None:
    """Have blocks that are freed kept for the next ones, in place of giving each back.

    Every block of an array that comes new from the system is filled with zeros page by page when
    it is first touched, which takes as long as adding it up does. Only glibc is told; elsewhere
    nothing changes.
    """
    if not sys.platform.startswith("linux"):
        return
    library = ctypes.CDLL(None)
    if hasattr(library, "mallopt") and hasattr(library, "gnu_get_libc_version"):
        library.mallopt(_MMAP_THRESHOLD, _MOST_ON_THE_HEAP)
        library.mallopt(_TRIM_THRESHOLD, _KEPT)
