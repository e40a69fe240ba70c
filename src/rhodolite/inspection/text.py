"""Sizes and tables as text."""

from __future__ import annotations

from collections.abc import Sequence


def file_size(size: int) -> str:
    """Write a number of bytes for people.

    Parameters
    ----------
    size : int
        Number of bytes.
    """
    value = float(size)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.3g} {unit}"
        value /= 1000
    return f"{value:.3g} TB"


def align_columns(rows: Sequence[Sequence[str]]) -> list[str]:
    """Return a line for each row, in which cells of a column begin below each other.

    Parameters
    ----------
    rows : sequence of Sequence[str]
    """
    widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
    return [
        "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        for row in rows
    ]
