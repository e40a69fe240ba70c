"""Tables of sites alone, one in each row, as `extract --points` takes them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, warn
from rhodolite.formats.text.csv.places import describe_sites, refuse_names_twice
from rhodolite.formats.text.csv.table import Table, read_table
from rhodolite.model.variable import Variable

_MOST_LINES = 5
"""Lines that a message names."""


def read_sites(path: Path) -> tuple[list[Variable], Array]:
    """Read a table with one site per row.

    Returns
    -------
    variables : list of Variable
        Along the dimension `site`: its name, `lat` and `lon` in degrees, and every other column.
    lines : ndarray of int
        Number of the line of each site.

    Raises
    ------
    DataError
        If there is no such table, no column of latitude or of longitude, or a place that there is
        not.
    """
    if not path.is_file():
        raise DataError(f"--points {path}: there is no such file")
    table = read_table(path)
    _need_positions(table)
    table = _without_repeated_rows(table)
    variables = describe_sites(table, table.cells.reset_index(drop=True), placed=False)
    variables = [
        v if "long_name" in v.attributes else v.edit(long_name=v.name.replace("_", " "))
        for v in variables
    ]
    if not any("cf_role" in v.attributes for v in variables):
        variables = _with_names(variables, len(table.cells))
    return variables, table.lines


def _need_positions(table: Table) -> None:
    words = {"lat": "latitude", "lon": "longitude"}
    lacking = [word for role, word in words.items() if role not in table.roles]
    if lacking:
        raise DataError(
            f"{table.path}: there is no column of {' or '.join(lacking)}; its columns are "
            f"{', '.join(map(repr, table.cells.columns))}. Call them lat and lon."
        )


def _with_names(variables: list[Variable], count: int) -> list[Variable]:
    """Return variables of which one names the sites: a text that tells them apart, or numbers."""
    about = {"cf_role": "timeseries_id", "long_name": "name of the site"}
    text = next((v for v in variables if _tells_apart(v)), None)
    if text is not None:
        return [v.edit(**about) if v is text else v for v in variables]
    numbers = np.array([str(at) for at in range(1, count + 1)], dtype=object)
    return [Variable("name", ("site",), InMemory(numbers), about), *variables]


def _first_of(lines: Array) -> str:
    left = lines.size - _MOST_LINES
    return ", ".join(map(str, lines[:_MOST_LINES])) + (
        f" and {left:,} more" if left > 0 else ""
    )


def _tells_apart(variable: Variable) -> bool:
    """Return whether a column is of text that is another for each site."""
    if variable.data.dtype.kind in "fiu":
        return False
    return bool(np.unique(variable.values().astype(str)).size == variable.data.size)


def _without_repeated_rows(table: Table) -> Table:
    """Return a table of sites in which each stands once.

    Raises
    ------
    DataError
        If a name stands at two places.
    """
    name = table.roles.get("site")
    if name is None:
        return table
    place = [name, table.roles["lat"], table.roles["lon"]]
    repeated = table.cells.duplicated(place).to_numpy()
    if repeated.any():
        warn(
            f"{table.path}: left out, since a row before names the same site and place: lines "
            f"{_first_of(table.lines[repeated])}"
        )
        table = replace(
            table, cells=table.cells[~repeated], lines=table.lines[~repeated]
        )
    refuse_names_twice(table, table.cells, np.arange(len(table.cells)))
    return table
