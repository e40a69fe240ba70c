"""What a report says of one output."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Table:
    """Rows of text below a header.

    Parameters
    ----------
    header : tuple of str
    rows : tuple of tuple of str
    left_out : int
        Rows that are not shown.
    """

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    left_out: int = 0


@dataclass(frozen=True)
class Section:
    """One output in a report.

    Parameters
    ----------
    name : str
        Of its file.
    heading : str
    note : str
        What the author of the study says of it.
    picture : str
        As an address that holds the whole picture; empty where there is none.
    sentences : tuple of str
        Numbers in words.
    table : Table, optional
    page : str
        What a file of data holds, as text.
    steps : tuple of str
        How it was made, in words.
    sources : tuple of str
        Where the formulas come from.
    """

    name: str
    heading: str
    note: str = ""
    picture: str = ""
    sentences: tuple[str, ...] = ()
    table: Table | None = None
    page: str = ""
    steps: tuple[str, ...] = ()
    sources: tuple[str, ...] = field(default=())
