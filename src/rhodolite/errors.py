"""The family of errors, each with the exit code of the command line, and the one kind of warning."""

from __future__ import annotations

import difflib
import warnings
from collections.abc import Iterable


class RhodoliteError(Exception):
    """What went wrong, in one or two lines for the person who has to mend it."""

    exit_code = 1


class UsageError(RhodoliteError):
    """What was asked for makes no sense, whatever the data are."""

    exit_code = 2


class DataError(RhodoliteError):
    """The data cannot serve what was asked for."""

    exit_code = 3


class OutputError(RhodoliteError):
    """The output cannot be written."""

    exit_code = 4


class RhodoliteWarning(UserWarning):
    """Something the user should know, although the work goes on."""


def warn(message: str) -> None:
    """Raise a warning that the command line collects and prints once, at the end."""
    warnings.warn(message, RhodoliteWarning, stacklevel=3)


def nearest_names(asked: str, offered: Iterable[str]) -> str:
    """Return a sentence with the nearest match to a misspelt name and all names there are.

    Examples
    --------
    >>> nearest_names("tass", ["tas", "pr"])
    'Did you mean tas? There are: tas, pr.'
    """
    names = list(offered)
    if not names:
        return "There are none."
    lowered = {name.lower(): name for name in names}
    close = difflib.get_close_matches(asked.lower(), lowered, n=1, cutoff=0.5)
    hint = f"Did you mean {lowered[close[0]]}? " if close else ""
    return f"{hint}There are: {', '.join(names)}."
