"""Limits of what is believed of files before it is read."""

from __future__ import annotations

import numpy as np

from rhodolite.errors import DataError

_DEEPEST = 100
"""Levels of lists and tables in JSON and TOML; what people write has a handful."""


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
