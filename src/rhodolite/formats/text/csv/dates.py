"""The dates of a table: in one column, in columns of years, months and days, or without years."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pandas

from rhodolite.errors import DataError, warn
from rhodolite.formats.text.csv.columns import (
    CLOCKS,
    DAY_OF_YEAR,
    DECIMAL_YEARS,
    role_of,
)
from rhodolite.formats.text.csv.table import Table
from rhodolite.formats.text.date_forms import day_comes_first, named_month
from rhodolite.formats.text.dates import Stretch, parse_date, parse_decimal_years
from rhodolite.formats.text.phases import BASE_YEARS, Normal
from rhodolite.model.time.time_labels import NORMAL

_PARTS = ("year", "month", "day", "hour")
_TIME_OF_DAY = r"\d{1,2}(?::\d{2}){0,2}\s?(?:[aApP][mM])?"
_DAY_DIGITS = 3
"""Of the number of a day in its year."""
_YEAR_FIRST = re.compile(r"\s*\d{4}")
_NO_YEAR = 2001
"""The year that days without one are taken to be of; it has no 29 February."""


def read_dates(table: Table) -> Table:
    """Return a table with one column of dates, where these are spread over columns of years, months
    and days.

    Understood are columns `year`, `month`, `day` and `hour`, `year` and the number of a day in it,
    years with decimals, a date and a time of the day, a year for each row with a column for each
    month, phases of a cycle beside a column `base_years`, and days of no year (`15 March`,
    `03-15`), which are taken as those of 2001.
    """
    lowered = {str(name).strip().lower(): name for name in table.cells.columns}
    months = {
        name: number
        for name in table.cells.columns
        if (number := named_month(str(name))) is not None
    }
    if "year" in lowered and len(months) == 12:
        return _months_below_each_other(table, lowered["year"], months)
    if "time" in table.roles and BASE_YEARS in table.cells.columns:
        return _normals(table)
    if _has_dates(table):
        return _with_times_of_day(table)
    if "year" in lowered:
        return _with_dates_of_parts(table, lowered)
    if decimal := next((lowered[w] for w in lowered if w in DECIMAL_YEARS), None):
        return _with_dates_in(table, decimal)
    return _with_times_of_day(table)


def _with_dates_of_parts(table: Table, lowered: dict[str, str]) -> Table:
    """Return a table whose dates are those of columns for years, months, days and hours, or for
    years and the numbers of days in them.

    Parameters
    ----------
    table : Table
    lowered : dict of str to str
        Names of columns by the same in small letters.
    """
    numbered = next((lowered[word] for word in DAY_OF_YEAR if word in lowered), None)
    if numbered is not None and not {"month", "day"} & lowered.keys():
        return _dates_of_parts(table, [lowered["year"], numbered], _DAY_DIGITS)
    if "day" in lowered and "month" not in lowered:
        return _with_times_of_day(table)
    # An hour means nothing where the day is not given.
    words = _PARTS if "day" in lowered else _PARTS[:2]
    parts = [lowered[word] for word in words if word in lowered]
    if len(parts) == 1 and _has_decimals(table, parts[0]):
        return _with_dates_in(table, parts[0])
    return _dates_of_parts(table, parts)


def _has_decimals(table: Table, name: str) -> bool:
    numbers = table.numbers(name)
    return bool((np.isfinite(numbers) & (numbers != np.floor(numbers))).any())


def _with_dates_in(table: Table, name: str) -> Table:
    """Return a table whose dates stand in a column."""
    return replace(table, roles={**table.roles, "time": name})


def _with_times_of_day(table: Table) -> Table:
    """Return a table whose dates hold the times of the day that a column of their own gives."""
    words = {name: name.strip().lower() for name in table.cells.columns}
    clocks = [
        name
        for name, word in words.items()
        if word in CLOCKS and table.cells[name].str.fullmatch(_TIME_OF_DAY).all()
    ]
    dates = [
        name
        for name, word in words.items()
        if role_of(word) == "time" and name not in clocks
    ]
    if len(clocks) != 1 or not dates:
        return table
    joined = table.cells[dates[0]] + " " + table.cells[clocks[0]]
    cells = table.cells.assign(**{dates[0]: joined}).drop(columns=clocks)
    return replace(table, cells=cells, roles={**table.roles, "time": dates[0]})


def _normals(table: Table) -> Table:
    """Return a table whose times name phases and the years that they are of, where a column says
    these."""
    name = table.roles["time"]
    named = table.cells[name] + NORMAL + table.cells[BASE_YEARS]
    if not all(isinstance(parse_date(text), Normal) for text in set(named)):
        return table
    return replace(
        table, cells=table.cells.assign(**{name: named}).drop(columns=BASE_YEARS)
    )


def _has_dates(table: Table) -> bool:
    name = table.roles.get("time")
    return name is not None and name.strip().lower() not in ("day", "month")


def _dates_of_parts(table: Table, parts: list[str], digits: int = 2) -> Table:
    """Return a table whose dates stand in one column, of their parts, which take so many digits."""
    columns = []
    for name in parts:
        text = table.cells[name].str.strip()
        named = (
            text.map(lambda word: named_month(word))
            if name.strip().lower() == "month"
            else None
        )
        if named is not None and named.notna().all():
            columns.append(named.astype(int))
            continue
        numbers = table.numbers(name)
        if not (np.isfinite(numbers) & (numbers == np.floor(numbers))).all():
            at = int(
                np.argmax(~(np.isfinite(numbers) & (numbers == np.floor(numbers))))
            )
            raise DataError(
                f"{table.path}, line {table.lines[at]}: '{text.iloc[at]}' in column '{name}' is "
                "not a whole number"
            )
        columns.append(pandas.Series(numbers.astype(int)))
    dates = []
    for year, *others in zip(*columns, strict=True):
        of_day = [f"{part:0{digits}d}" for part in others[:2]]
        of_clock = [f" {hour:02d}:00" for hour in others[2:]]
        dates.append("-".join([f"{year:04d}", *of_day]) + "".join(of_clock))
    cells = table.cells.drop(columns=parts)
    cells.insert(0, "time", dates)
    roles = {role: name for role, name in table.roles.items() if name not in parts}
    return replace(table, cells=cells, roles={**roles, "time": "time"})


def _months_below_each_other(table: Table, year: str, months: dict[str, int]) -> Table:
    """Return a table with one row for each month, of one with one for each year and a column for
    each month."""
    others = [name for name in table.cells.columns if name not in months]
    values = re.sub(r"\W+", "_", table.path.stem).strip("_")
    numbers = {name: table.numbers(name) for name in months}
    long = table.cells.assign(**numbers, row=np.arange(len(table.cells))).melt(
        id_vars=[*others, "row"],
        value_vars=list(months),
        var_name="month",
        value_name=values,
    )
    rows = long["row"].to_numpy()
    years = table.numbers(year)[rows].astype(int)
    long[year] = [
        f"{y:04d}-{months[name]:02d}"
        for y, name in zip(years, long["month"], strict=True)
    ]
    cells = long.drop(columns=["row", "month"]).rename(columns={year: "time"})
    return replace(
        table,
        cells=cells,
        roles={**table.roles, "time": "time"},
        lines=table.lines[rows],
    )


def stretches_of(table: Table) -> list[Stretch]:
    """Return what the dates of a table name, row by row.

    Raises
    ------
    DataError
        If one is not a date, or all can be read in two ways.
    """
    column = table.roles["time"]
    text = table.cells[column]
    word = column.strip().lower()
    are_years = word == "year" or word in DECIMAL_YEARS
    moments = parse_decimal_years(text.tolist(), are_years=are_years)
    if moments is not None:
        return list(moments)
    given = [_with_a_year(name) for name in text]
    day_first = day_comes_first(given)
    if day_first is None:
        raise DataError(
            f"{table.path}: dates such as {next(iter(given))} can be read in two ways; write them "
            "as 2001-12-31, or with dots as 31.12.2001"
        )
    if any(a != b for a, b in zip(given, text, strict=True)):
        warn(
            f"{table.path.name}: the dates have no years and are taken as days of {_NO_YEAR}"
        )
    parsed = {name: parse_date(name, day_first=day_first) for name in set(given)}
    stretches = []
    for at, name in enumerate(given):
        stretch = parsed[name]
        if stretch is None:
            raise DataError(
                f"{table.path}, line {table.lines[at]}: '{name}' is not a date; write dates as "
                "2001-12-31, 2001-12 or 2001"
            )
        stretches.append(stretch)
    return stretches


def _with_a_year(text: str) -> str:
    """Return a day or month of no year, such as `15 March`, `Mar-15` or `03-15`, as one of a common
    year."""
    if _YEAR_FIRST.match(text):
        return text
    words = re.split(r"[\s.-]+", text.strip().rstrip("."))
    named = [month for word in words if (month := named_month(word)) is not None]
    days = [int(word) for word in words if word.isdecimal() and len(word) <= 2]
    if len(named) == 1 and len(words) == 1:
        return f"{_NO_YEAR}-{named[0]:02d}"
    if len(named) == 1 and len(words) == 2 and len(days) == 1:
        return f"{_NO_YEAR}-{named[0]:02d}-{days[0]:02d}"
    if re.fullmatch(r"\d{2}-\d{2}", text.strip()):
        return f"{_NO_YEAR}-{text.strip()}"
    return text
