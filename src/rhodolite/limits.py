"""Limits of what is believed of files before it is read."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from rhodolite.errors import DataError
from rhodolite.plain_text import file_size

_DEEPEST = 100
"""Levels of lists and tables in JSON and TOML; what people write has a handful."""
_UNKNOWN_MEMORY = 4 << 30
_CONTROL_GROUP = Path("/sys/fs/cgroup/memory.max")
"""Where Linux says what a container may use."""


def check_nesting(content: bytes, label: object) -> None:
    """Refuse JSON or TOML that is nested too deep to be read.

    Parameters
    ----------
    content : bytes
        The whole text; brackets within quotes count, too.
    label : object
        What to call it in the message, such as its path.

    Raises
    ------
    DataError
        If it is nested deeper than a hundred levels.
    """
    signs = np.frombuffer(content, dtype=np.uint8)
    opens = (signs == ord("[")) | (signs == ord("{"))
    closes = (signs == ord("]")) | (signs == ord("}"))
    depth = np.cumsum(opens.astype(np.int64) - closes)
    if depth.size and depth.max() > _DEEPEST:
        raise DataError(
            f"{label}: lists are nested {int(depth.max()):,} levels deep, and at most {_DEEPEST} "
            "are read"
        )


def machine_memory() -> int:
    """Return the bytes of memory of the machine, or of the container that this runs in."""
    try:
        machine = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return _UNKNOWN_MEMORY
    try:
        return min(machine, int(_CONTROL_GROUP.read_text()))
    except (OSError, ValueError):  # there is no container, or one without a limit
        return machine


def check_held(nbytes: int, what: str) -> None:
    """Refuse values that would have to be held at once and are more than half of the memory.

    Parameters
    ----------
    nbytes : int
        As declared; nothing of it has been read.
    what : str
        What is too large, with its file.

    Raises
    ------
    DataError
        With both sizes.
    """
    memory = machine_memory()
    if nbytes > memory // 2:
        raise DataError(
            f"{what}: {file_size(nbytes)} would have to be held in memory at once, and this "
            f"machine has {file_size(memory)}; take a smaller part of it"
        )
