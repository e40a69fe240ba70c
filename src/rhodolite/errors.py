"""The family of errors, each with the exit code of the command line, and the one kind of
warning."""

from __future__ import annotations

import contextlib
import difflib
import threading
import warnings
from collections.abc import Iterable, Iterator


class RhodoliteError(Exception):
    """What went wrong, in one or two lines for the person who has to repair it."""

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


class BusyError(OutputError):
    """Another process is writing the output, so that it may go later."""

    exit_code = 5


class RhodoliteWarning(UserWarning):
    """Something the user should know, although the work goes on.

    Parameters
    ----------
    template : str
        The message, with a field for each count and word.
    **fields : int or str
        What to fill in, or tells apart what else would be the same. Numbers are added up where the
        same warning comes several times.
    """

    def __init__(self, template: str, **fields: int | str) -> None:
        self.template = template
        self.fields = fields
        super().__init__(template.format(**fields) if fields else template)


_collector = threading.local()
_keepers: list[list[RhodoliteWarning]] = []


def warn(message: str, **fields: int | str) -> None:
    """Raise a warning that the command line collects and prints once, at the end."""
    collected = getattr(_collector, "held", None)
    if collected is not None:
        collected.append((message, fields))
        return
    warning = RhodoliteWarning(message, **fields)
    for keeper in _keepers:
        keeper.append(warning)
    warnings.warn(warning, stacklevel=3)


@contextlib.contextmanager
def keeping_warnings() -> Iterator[list[RhodoliteWarning]]:
    """Keep what is warned of meanwhile, by any thread, for the record; it is said as well."""
    caught: list[RhodoliteWarning] = []
    _keepers.append(caught)
    try:
        yield caught
    finally:
        _keepers[:] = [keeper for keeper in _keepers if keeper is not caught]


@contextlib.contextmanager
def collecting() -> Iterator[list[tuple[str, dict[str, int | str]]]]:
    """Collect what this thread warns of, so that it can be said where somebody listens."""
    _collector.held = []
    try:
        yield _collector.held
    finally:
        _collector.held = None


def sum_up_warnings(caught: Iterable[RhodoliteWarning]) -> list[str]:
    """Return the messages of warnings, those that differ in numbers alone as one with their
    sums.

    Parameters
    ----------
    caught : iterable of RhodoliteWarning
        Warnings that were caught.
    """
    places: dict[tuple[object, ...], dict[str, int | str]] = {}
    times: dict[tuple[object, ...], int] = {}
    for warning in caught:
        words = {
            name: value
            for name, value in warning.fields.items()
            if isinstance(value, str)
        }
        key = (warning.template, *words.items())
        sums = places.setdefault(key, dict(words))
        times[key] = times.get(key, 0) + 1
        for name, value in warning.fields.items():
            if not isinstance(value, str):
                sums[name] = int(sums.get(name, 0)) + value
    messages = [
        str(RhodoliteWarning(str(key[0]), **sums))
        + (f" ({times[key]} times)" if not sums and times[key] > 1 else "")
        for key, sums in places.items()
    ]
    # The same may be true of several results, which fields that are not shown tell apart.
    return list(dict.fromkeys(messages))


def nearest_names(asked: str, offered: Iterable[str]) -> str:
    """Return a sentence with the nearest match to a misspelt name and all names there are.

    Parameters
    ----------
    asked : str
        What was asked for.
    offered : iterable of str
        What there is.

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
