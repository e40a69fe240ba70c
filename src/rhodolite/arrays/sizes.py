"""Sizes of memory and numbers of workers as people type them."""

from __future__ import annotations

import re

from rhodolite.errors import UsageError

_MEMORY = re.compile(r"(\d+(?:\.\d+)?)\s*([KMGT]?)i?B?", re.IGNORECASE)
_POWERS = {"": 0, "K": 1, "M": 2, "G": 3, "T": 4}
_LEAST_MEMORY = 1 << 20


def parse_memory(text: str, option: str = "--memory") -> int:
    """Return bytes for a size such as 512MiB or 1GB; both count in powers of 1024.

    Raises
    ------
    UsageError
        If it is not a size of at least 1 MiB.
    """
    match = _MEMORY.fullmatch(text.strip())
    size = (
        float(match.group(1)) * 1024 ** _POWERS[match.group(2).upper()] if match else 0
    )
    if size < _LEAST_MEMORY:
        raise UsageError(
            f"{option}: '{text}' is not a size of at least 1MiB; write it like 512MiB or 2GiB"
        )
    return int(size)


def parse_workers(text: str, option: str = "--workers") -> int:
    """Return a number of workers.

    Raises
    ------
    UsageError
        If it is not a whole number above zero.
    """
    if not text.isdecimal() or int(text) < 1:
        raise UsageError(
            f"{option}: '{text}' is not a number of workers; write 1, 2, 3 ..."
        )
    return int(text)
