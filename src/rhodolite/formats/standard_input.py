"""What is piped into a command, kept in a file for as long as it runs, since data are read in any
order."""

from __future__ import annotations

import shutil
import sys
from functools import cache
from pathlib import Path

from rhodolite.errors import DataError
from rhodolite.formats.scratch_folders import new_folder

STREAMS = ("-", "/dev/stdin", "/dev/fd/0")
_SIGNATURES = (b"\x89hdf", b"cdf", b"ncols", b"nrows")


@cache
def keep_standard_input() -> Path:
    """Return the file that holds what was piped in: a table, unless its first bytes say that it is
    something else.

    Raises
    ------
    DataError
        If nothing is piped in.
    """
    if sys.stdin is None or sys.stdin.isatty():
        raise DataError(
            "-: nothing is piped in; name a file, or pipe one in: ... | rhodolite ..."
        )
    spooled = new_folder() / "stdin"
    with spooled.open("wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file)
    with spooled.open("rb") as file:
        start = file.read(16).lower().lstrip()
    if not start:
        raise DataError("-: what is piped in is empty")
    suffix = ".nc" if start.startswith(_SIGNATURES) else ".csv"
    return spooled.rename(spooled.with_suffix(suffix))
