"""The cells of tables: what numbers and missing values are written as."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array
from rhodolite.formats.reading_rules import rules_in_force

PLAIN_MARKS = ("", "NA", "N/A", "NaN", "nan", "null", "missing")
"""What stands for missing values everywhere, and is taken without a word."""
_OTHER_MARKS = {
    "n/a",
    "na",
    "nan",
    "null",
    "none",
    "missing",
    "#n/a",
    "-",
    "--",
    "---",
    "*",
    "**",
}
_OTHER_MARKS |= {"***", "****", "m", ".", "?", "#null!", "#div/0!"}
"""What many programs and people write for missing values, in small letters; that it is taken for
that is said."""
_NINES = re.compile(r"(?:99+\.?9*|9\.99+)")
_QUOTED_FORMULA = re.compile(r"^'(?=[=+\-@])")
"""The apostrophe that keeps spreadsheets from running text."""


def plain_cell(cell: Any) -> str:
    """Return the text of a cell without spaces around it, nor what keeps spreadsheets from running
    it."""
    return _QUOTED_FORMULA.sub("", cell).strip() if isinstance(cell, str) else ""


def is_mark(cell: str) -> bool:
    """Return whether a cell stands for a missing value."""
    return (
        cell in PLAIN_MARKS or cell.lower() in _OTHER_MARKS or cell in declared_marks()
    )


def declared_marks() -> tuple[str, ...]:
    """Return what the user says that stands for missing values."""
    return rules_in_force().missing_text


def parse_numbers(text: Array, decimal: str) -> tuple[Array, Array]:
    """Return numbers, NaN for what is none, and where cells stand for missing values.

    Parameters
    ----------
    text : ndarray of str, shape (n,)
    decimal : str
        The decimal mark.

    Returns
    -------
    values : ndarray of float64, shape (n,)
    empty : ndarray of bool, shape (n,)
    """
    codes, words = pandas.factorize(text)
    empty = np.array([is_mark(word) for word in words], dtype=bool)
    if decimal == ",":
        words = np.array([word.replace(",", ".") for word in words], dtype=object)
    nothing: Any = None
    values: Any = pandas.to_numeric(np.where(empty, nothing, words), errors="coerce")
    return np.asarray(values, dtype=np.float64)[codes], empty[codes]


def likely_mark(values: Array) -> float | None:
    """Return a number of nines, such as -99.9 or 9999, that lies further from all others than these
    from each other: it may stand for missing values. None where there is none.

    Parameters
    ----------
    values : ndarray of float64, shape (n,)
    """
    if not values.size:
        return None
    # Ends first: they tell almost always that there is no mark, without a look at each value.
    for end in (float(np.fmin.reduce(values)), float(np.fmax.reduce(values))):
        if not _NINES.fullmatch(f"{abs(end):.6f}".rstrip("0").rstrip(".")):
            continue
        others = values[np.isfinite(values) & (values != end)]
        if others.size and np.abs(others - end).min() > np.ptp(others):
            return end
    return None


def unusual_marks(text: Array) -> list[str]:
    """Return what stands for missing values in a column, of which the user should know."""
    words = pandas.unique(text)
    known = (*PLAIN_MARKS, *declared_marks())
    return [
        word for word in words if word not in known and word.lower() in _OTHER_MARKS
    ]
