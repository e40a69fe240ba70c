"""What a user says of how inputs are to be read, in force while they are opened."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True)
class ReadingRules:
    """How inputs are read, where they do not say it themselves.

    Parameters
    ----------
    missing_text : tuple of str
        What stands for missing values in tables, besides what is usual.
    columns : tuple of str
        What the columns of a table are called that has no header; with units in brackets.
    skip_unreadable : bool
        Whether files that cannot be read are left out, with a warning.
    """

    missing_text: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    skip_unreadable: bool = False

    @property
    def of_tables(self) -> bool:
        """Whether tables are read in another way than usually."""
        return bool(self.missing_text or self.columns)

    def settings(self) -> dict[str, list[str] | bool]:
        """Return what differs from the usual, by the names under which people ask for it."""
        asked: dict[str, list[str] | bool] = {
            "missing-text": list(self.missing_text),
            "columns": list(self.columns),
            "skip-unreadable": self.skip_unreadable,
        }
        return {name: value for name, value in asked.items() if value}

    def words(self) -> list[str]:
        """Return the options that ask for it, for a shell."""
        words = []
        for name, value in self.settings().items():
            words.append(f"--{name}")
            if isinstance(value, list):
                words.append(shlex.quote(",".join(value)))
        return words


USUAL_RULES = ReadingRules()
_in_force: ContextVar[ReadingRules] = ContextVar("reading_rules", default=USUAL_RULES)


def rules_in_force() -> ReadingRules:
    """Return the rules by which files are opened now."""
    return _in_force.get()


@contextmanager
def reading_by(rules: ReadingRules | None) -> Iterator[None]:
    """Open files by these rules; by those of the caller where there are none.

    Parameters
    ----------
    rules : ReadingRules, optional
    """
    if rules is None:
        yield
        return
    before = _in_force.set(rules)
    try:
        yield
    finally:
        _in_force.reset(before)
