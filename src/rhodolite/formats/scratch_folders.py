"""Folders for files that are needed for as long as the process runs, where scratch files lie."""

from __future__ import annotations

import tempfile
from pathlib import Path

_folders: list[tempfile.TemporaryDirectory[str]] = []
"""Removed when the process ends."""


def new_folder() -> Path:
    """Return an empty folder that is removed when the process ends."""
    folder = tempfile.TemporaryDirectory(prefix="rhodolite-")
    _folders.append(folder)
    return Path(folder.name)
