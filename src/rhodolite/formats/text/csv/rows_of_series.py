"""Tables whose rows hold many values of one place: a site with times, or a latitude with
longitudes, as the titles of the columns."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, InMemory
from rhodolite.formats.text.csv.columns import split_title
from rhodolite.formats.text.csv.places import (
    attach,
    coordinate_of,
    degrees_of,
    describe_sites,
    distinct_places,
    refuse_names_twice,
    refuse_repeated,
)
from rhodolite.formats.text.csv.table import Table
from rhodolite.formats.text.dates import Stretch, time_variables
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS
from rhodolite.model.space.range_text import parse_longitude
from rhodolite.model.variable import Variable


def one_site_a_row(
    table: Table, dates: dict[str, Stretch], calendar: str
) -> list[Variable]:
    """Return variables over (time, site), and what describes the sites.

    A column `variable` says what a row holds, with its units; without it the variable is named
    after the file.
    """
    column = table.roles.get("variable")
    titles = None if column is None else table.cells[column]
    codes, frame = _sites_of_rows(table, {*dates, column}, titles)
    refuse_names_twice(table, frame, np.unique(codes, return_index=True)[1])
    sites = describe_sites(table, frame)
    about = attach(sites)
    values = np.stack([table.numbers(name) for name in dates])
    described = [*time_variables(list(dates.values()), calendar), *sites]
    if titles is None:
        name = _name_of_file(table.path)
        return [*described, Variable(name, ("time", "site"), InMemory(values), about)]
    for title in dict.fromkeys(titles):
        rows = np.flatnonzero((titles == title).to_numpy())
        by_date = np.full((len(dates), max(len(frame), 1)), np.nan)
        by_date[:, codes[rows]] = values[:, rows]
        name, units = split_title(title)
        said = {"units": units} if units else {}
        data = InMemory(by_date)
        described.append(Variable(name, ("time", "site"), data, {**said, **about}))
    return described


def _sites_of_rows(
    table: Table, elsewhere: set[str | None], titles: pandas.Series[Any] | None
) -> tuple[Array, pandas.DataFrame]:
    """Return the number of the site of each row, and what is known of the sites; each row is one of
    its own where no column says which variable it holds."""
    others = [name for name in table.cells.columns if name not in elsewhere]
    if titles is None:
        frame = table.cells[others].reset_index(drop=True)
        return np.arange(len(table.cells)), frame
    codes, frame = np.zeros(len(table.cells), int), table.cells[[]]
    if others:
        codes, frame = distinct_places(table.cells[others])
    refuse_repeated(table, codes, titles.to_numpy())
    return codes, frame


def longitudes_in_titles(table: Table) -> list[float]:
    """Return the longitudes that the columns of a matrix are called, whose rows are latitudes; none
    where it is no matrix."""
    others = [name for name in table.cells.columns if name != table.roles.get("lat")]
    if set(table.roles) != {"lat"} or len(others) < 2:
        return []
    try:
        longitudes = [parse_longitude(name) for name in others]
    except ValueError:
        return []
    return longitudes


def one_latitude_a_row(table: Table, longitudes: list[float]) -> list[Variable]:
    """Return the variable of a matrix of latitudes by longitudes, called after the file."""
    latitudes = degrees_of(table, "lat")
    refuse_repeated(table, pandas.factorize(latitudes)[0])
    names = [name for name in table.cells.columns if name != table.roles["lat"]]
    values = np.stack([table.numbers(name) for name in names], axis=1)
    return [
        coordinate_of(table, "lat", latitudes, ABOUT_POSITIONS["lat"]),
        coordinate_of(table, "lon", np.array(longitudes), ABOUT_POSITIONS["lon"]),
        Variable(_name_of_file(table.path), ("lat", "lon"), InMemory(values)),
    ]


def _name_of_file(path: Path) -> str:
    """Return what a variable is called that only the name of its file names."""
    return re.sub(r"\W+", "_", path.name.split(".")[0]).strip("_")
