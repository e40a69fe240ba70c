"""Limits of what is believed of files before it is read."""

from __future__ import annotations

import math
import os
import sys
from functools import cache
from pathlib import Path

import numpy as np

from rhodolite.errors import DataError
from rhodolite.plain_text import file_size

_DEEPEST = 100
"""Levels of lists and tables in JSON and TOML; what people write has a handful."""
_UNKNOWN_MEMORY = 4 << 30
_MUCH = 1 << 42
_MOST = 1 << 52
"""Bytes that take an hour to go through, and a month."""
_UNUSUAL_SHARE = 100_000
"""No compression comes near to it, and hardly a store of which most was never written."""
_CONTROL_GROUPS = Path("/sys/fs/cgroup")
_OWN_GROUP = Path("/proc/self/cgroup")
"""Where Linux says what a container or the job of a batch system may use, and which it is."""


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
    limits = group_limits("memory.max")
    allowed = [int(text) for text in limits if text.isdecimal()]
    return min([machine, *allowed])


def usable_cores() -> int:
    """Return how many cores this process may use: of the machine, of its own affinity, and of the
    container or batch job that it runs in."""
    cores = os.cpu_count() or 1
    if hasattr(os, "sched_getaffinity"):
        cores = min(cores, len(os.sched_getaffinity(0)))
    for text in group_limits("cpu.max"):
        quota, _, period = text.partition(" ")
        if quota.isdecimal() and period.isdecimal():
            cores = min(cores, math.ceil(int(quota) / int(period)))
    return max(cores, 1)


@cache
def group_limits(name: str) -> list[str]:
    """Return what is said of a limit for the control group of this process, and all above it; read
    once in a run."""
    try:
        lines = _OWN_GROUP.read_text().splitlines()
    except OSError:  # another system
        return []
    own = next(
        (line.partition("::")[2] for line in lines if line.startswith("0::")), "/"
    )
    folder = _CONTROL_GROUPS / own.strip("/")
    said = []
    for group in (folder, *folder.parents):
        if not group.is_relative_to(_CONTROL_GROUPS):
            break
        try:
            said.append((group / name).read_text().strip())
        except OSError:  # there is no such limit
            continue
    return said


def why_beyond_reading(
    what: str, shape: tuple[int, ...], itemsize: int, stored: int
) -> str | None:
    """Return why values that are declared cannot be gone through in any time; None where they can.

    Parameters
    ----------
    what : str
        Name of the values, with their file.
    shape : tuple of int
    itemsize : int
        Bytes of a value.
    stored : int
        Bytes of the file or store that they lie in.
    """
    declared = math.prod(shape) * itemsize
    likely = declared <= _MUCH or declared <= min(
        _MOST, _UNUSUAL_SHARE * max(stored, 1)
    )
    if likely and max(shape, default=0) <= sys.maxsize:
        return None
    return (
        f"{what} is declared to have {' x '.join(f'{n:,}' for n in shape)} values, which cannot "
        f"be in the {file_size(stored)} that are stored; it is damaged, or was never written"
    )


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
