"""How a table is written, as far as that was asked for."""

from __future__ import annotations

from dataclasses import dataclass

from rhodolite.errors import UsageError, nearest_names

_DECIMALS = {"point": ".", "comma": ","}
_DOWN = ":down"


@dataclass(frozen=True)
class TableStyle:
    """How a table is written.

    Parameters
    ----------
    wide : bool
        Whether there is one column for each time, and not one row.
    raw : bool
        Whether text that a spreadsheet would run as a formula is written as it is.
    all_rows : bool
        Whether there may be more rows than people mean to write.
    decimal : str
        The decimal mark; with a comma, semicolons stand between columns.
    sort : str
        The column by which rows are ordered; none where it is empty.
    down : bool
        Whether the largest values come first.
    first : int, optional
        How many rows are written; all by default.
    across : str
        The dimension of whose places each gets a column of its own; none where it is empty.
    tabs : bool
        Whether tabs stand between columns, as the suffix of the output says.
    """

    wide: bool = False
    raw: bool = False
    all_rows: bool = False
    decimal: str = "."
    sort: str = ""
    down: bool = False
    first: int | None = None
    across: str = ""
    tabs: bool = False

    @property
    def separator(self) -> str:
        """What stands between columns."""
        if self.tabs:
            return "\t"
        return ";" if self.decimal == "," else ","

    def settings(self) -> dict[str, bool | str | int | None]:
        """Return what differs from the usual, by the names under which people ask for it."""
        sort = self.sort + (_DOWN if self.down else "")
        return {
            "raw": self.raw or None,
            "all": self.all_rows or None,
            "decimal": "comma" if self.decimal == "," else None,
            "sort": sort or None,
            "first": self.first,
            "across": self.across or None,
        }


USUAL_STYLE = TableStyle()


def make_style(
    *,
    raw: bool = False,
    all_rows: bool = False,
    decimal: str | None = None,
    sort: str | None = None,
    first: int | str | None = None,
    across: str | None = None,
) -> TableStyle:
    """Return the style that was asked for in words.

    Parameters
    ----------
    raw, all_rows : bool
        See `TableStyle`.
    decimal : str, optional
        ``point`` or ``comma``.
    sort : str, optional
        A column; with ``:down`` after it, the largest values come first.
    first : int or str, optional
        How many rows are written.
    across : str, optional
        A dimension, or what lies along one.

    Raises
    ------
    UsageError
        If there is no such mark, or no such number of rows.
    """
    mark = decimal or "point"
    if mark not in _DECIMALS:
        raise UsageError(
            f"--decimal: '{mark}' is not offered. {nearest_names(mark, _DECIMALS)}"
        )
    name = (sort or "").removesuffix(":up")
    return TableStyle(
        raw=raw,
        all_rows=all_rows,
        decimal=_DECIMALS[mark],
        sort=name.removesuffix(_DOWN),
        down=name.endswith(_DOWN),
        first=_parse_count(first),
        across=across or "",
    )


def _parse_count(first: int | str | None) -> int | None:
    if first is None:
        return None
    try:
        count = int(first)
    except ValueError:
        count = 0
    if count < 1:
        raise UsageError(f"--first: '{first}' is not a number of rows, such as 10")
    return count
