"""Whether another user of the machine could have written what a cache holds."""

from __future__ import annotations

import os
import stat
from pathlib import Path

_ROOT = 0


def is_trusted(path: Path) -> bool:
    """Return whether a file or folder, and the folder that it lies in, can be written to by nobody
    but this user and the administrator.

    Parameters
    ----------
    path : Path
        What is not there has been written by nobody.
    """
    if os.name != "posix":
        return True
    return all(_belongs_here(place) for place in (path, path.parent))


def _belongs_here(path: Path) -> bool:
    try:
        about = path.lstat()
    except OSError:
        return True
    if stat.S_ISLNK(about.st_mode) or about.st_uid not in (_ROOT, os.geteuid()):
        return False
    # A group with the number of its user is that user's alone, as many systems set up.
    open_to = about.st_mode & stat.S_IWOTH
    if about.st_gid != about.st_uid:
        open_to |= about.st_mode & stat.S_IWGRP
    return not open_to
