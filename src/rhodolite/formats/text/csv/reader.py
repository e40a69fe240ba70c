"""From tables to datasets: grids, sites and plain series, identified by their columns."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from rhodolite.errors import DataError
from rhodolite.formats.text.csv.dates import read_dates
from rhodolite.formats.text.csv.rows_of_series import (
    longitudes_in_titles,
    one_latitude_a_row,
    one_site_a_row,
)
from rhodolite.formats.text.csv.rows_of_values import find_further_axes, one_value_a_row
from rhodolite.formats.text.csv.table import Table, read_table
from rhodolite.formats.text.csv.temperatures import tell_zero
from rhodolite.formats.text.dates import parse_date
from rhodolite.formats.text.phases import CALENDAR
from rhodolite.model.cf.vocabulary import CALENDARS
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Variable

_ADVICE = (
    "a table needs a column of times (time or date), of places (lat and lon), or both; or one row "
    "a site with times as the headers of columns"
)


def read(path: Path) -> Dataset:
    """Open a table as a dataset.

    Three forms are understood: one value per row (columns of time, latitude, longitude or site, and
    of values), one site per row (with times as headers of columns), and one time per row (a series
    in every other column).

    Raises
    ------
    DataError
        If no form fits, or a cell cannot be read; the message names its line.
    """
    return dataset_of(read_table(path))


def dataset_of(table: Table, calendar: str = "standard") -> Dataset:
    """Return the dataset that a table holds, with dates of a calendar."""
    path = table.path
    table, calendar = _take_calendar(table, calendar)
    variables = [tell_zero(v) for v in _variables_of(read_dates(table), calendar)]
    sites = any("cf_role" in variable.attributes for variable in variables)
    source = SourceFile(path, "CSV", path.stat().st_size)
    return Dataset(
        {v.name: v for v in variables},
        {"featureType": "timeSeries"} if sites else {},
        frozenset(),
        (source,),
    )


def _variables_of(table: Table, calendar: str) -> list[Variable]:
    """Return what a table holds, by how it is laid out."""
    named = {name: parse_date(name) for name in table.cells.columns}
    dates = {name: stretch for name, stretch in named.items() if stretch is not None}
    if len(dates) > 1 and "time" not in table.roles:
        return one_site_a_row(table, dates, calendar)
    if longitudes := longitudes_in_titles(table):
        return one_latitude_a_row(table, longitudes)
    if table.roles.keys() & {"time", "lat", "lon", "site"} or find_further_axes(table):
        return one_value_a_row(table, calendar)
    listed = ", ".join(map(repr, table.cells.columns))
    hint = ""
    if any(name[:1].isdecimal() for name in table.cells.columns):
        hint = (
            " If its first line is no header, name the columns: --columns time,NAME,..."
        )
    raise DataError(f"{table.path}: {_ADVICE}. Its columns are {listed}.{hint}")


def _take_calendar(table: Table, calendar: str) -> tuple[Table, str]:
    """Return a table without the column that names the calendar of its dates, and that calendar."""
    if CALENDAR not in table.cells.columns:
        return table, calendar
    named = set(table.cells[CALENDAR].str.strip().str.lower()) - {""}
    if len(named) != 1 or not named <= set(CALENDARS):
        return table, calendar
    return replace(table, cells=table.cells.drop(columns=CALENDAR)), named.pop()
