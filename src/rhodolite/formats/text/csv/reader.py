"""From tables to datasets: grids, sites and plain series, identified by their columns."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.text.csv.columns import split_title
from rhodolite.formats.text.csv.dates import read_dates, stretches_of
from rhodolite.formats.text.csv.table import Table, read_table
from rhodolite.formats.text.csv.temperatures import tell_zero
from rhodolite.formats.text.dates import Stretch, in_order, parse_date, time_variables
from rhodolite.formats.text.phases import CALENDAR
from rhodolite.model.cf.vocabulary import CALENDARS
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.space.range_text import parse_latitude, parse_longitude
from rhodolite.model.variable import Variable

_SPACE = {
    "lat": {
        "standard_name": "latitude",
        "long_name": "latitude",
        "units": "degrees_north",
    },
    "lon": {
        "standard_name": "longitude",
        "long_name": "longitude",
        "units": "degrees_east",
    },
}
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
    table = read_dates(table)
    dates = {
        name: stretch
        for name in table.cells.columns
        if (stretch := parse_date(name)) is not None
    }
    if len(dates) > 1 and "time" not in table.roles:
        variables = _one_site_a_row(table, dates, calendar)
    elif longitudes := _longitudes_in_titles(table):
        variables = _one_latitude_a_row(table, longitudes)
    elif not table.roles.keys() & {"time", "lat", "lon", "site"}:
        listed = ", ".join(map(repr, table.cells.columns))
        hint = ""
        if any(name[:1].isdecimal() for name in table.cells.columns):
            hint = " If its first line is no header, name the columns: --columns time,NAME,..."
        raise DataError(f"{path}: {_ADVICE}. Its columns are {listed}.{hint}")
    else:
        variables = _one_value_a_row(table, calendar)
    variables = [tell_zero(variable) for variable in variables]
    sites = any("cf_role" in variable.attributes for variable in variables)
    source = SourceFile(path, "CSV", path.stat().st_size)
    return Dataset(
        {v.name: v for v in variables},
        {"featureType": "timeSeries"} if sites else {},
        frozenset(),
        (source,),
    )


def _take_calendar(table: Table, calendar: str) -> tuple[Table, str]:
    """Return a table without the column that names the calendar of its dates, and that calendar."""
    if CALENDAR not in table.cells.columns:
        return table, calendar
    named = set(table.cells[CALENDAR].str.strip().str.lower()) - {""}
    if len(named) != 1 or not named <= set(CALENDARS):
        return table, calendar
    return replace(table, cells=table.cells.drop(columns=CALENDAR)), named.pop()


def refuse_names_twice(table: Table, frame: pandas.DataFrame, rows: Array) -> None:
    """Refuse a site whose name stands at two places, or twice.

    Parameters
    ----------
    table : Table
    frame : DataFrame
        What describes each site.
    rows : ndarray of int
        The first row of each in the table.
    """
    name = table.roles.get("site")
    if name is None or name not in frame.columns:
        return
    twice = np.flatnonzero(frame[name].duplicated().to_numpy())
    if not twice.size:
        return
    second = int(twice[0])
    site = frame[name].iloc[second]
    first = int(np.flatnonzero((frame[name] == site).to_numpy())[0])
    lines = table.lines[rows[first]], table.lines[rows[second]]
    raise DataError(
        f"{table.path}: the site {site} is described in two ways, in the lines {lines[0]} and "
        f"{lines[1]}; give two sites two names, or one place to one site"
    )


def _one_site_a_row(
    table: Table, dates: dict[str, Stretch], calendar: str
) -> list[Variable]:
    """Return variables over (time, site), and what describes the sites.

    A column `variable` says what a row holds, with its units; without it the variable is named
    after the file.
    """
    others = [
        name
        for name in table.cells.columns
        if name not in dates and name != table.roles.get("variable")
    ]
    titles = table.cells[table.roles["variable"]] if "variable" in table.roles else None
    codes, frame = (
        _distinct(table.cells[others])
        if others
        else (np.zeros(len(table.cells), int), table.cells[[]])
    )
    if titles is None:
        codes, frame = (
            np.arange(len(table.cells)),
            table.cells[others].reset_index(drop=True),
        )
    else:
        _refuse_repeated(table, codes, titles.to_numpy())
    refuse_names_twice(table, frame, np.unique(codes, return_index=True)[1])
    sites = describe_sites(table, frame)
    about = _attach(sites)
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
        described.append(
            Variable(
                name,
                ("time", "site"),
                InMemory(by_date),
                {**({"units": units} if units else {}), **about},
            )
        )
    return described


def _longitudes_in_titles(table: Table) -> list[float]:
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


def _one_latitude_a_row(table: Table, longitudes: list[float]) -> list[Variable]:
    """Return the variable of a matrix of latitudes by longitudes, called after the file."""
    latitudes = _degrees(table, "lat")
    _refuse_repeated(table, pandas.factorize(latitudes)[0])
    names = [name for name in table.cells.columns if name != table.roles["lat"]]
    values = np.stack([table.numbers(name) for name in names], axis=1)
    return [
        _coordinate(table, "lat", latitudes, _SPACE["lat"]),
        _coordinate(table, "lon", np.array(longitudes), _SPACE["lon"]),
        Variable(_name_of_file(table.path), ("lat", "lon"), InMemory(values)),
    ]


def _name_of_file(path: Path) -> str:
    """Return what a variable is called that only the name of its file names."""
    return re.sub(r"\W+", "_", path.name.split(".")[0]).strip("_")


@dataclass
class _Axes:
    """The axes that the rows of a table lie along.

    Attributes
    ----------
    places : dict of str to ndarray
        For each dimension, the place along it of each row.
    sizes : dict of str to int
    described : list of Variable
        Coordinates, and what is known of sites.
    """

    places: dict[str, Array] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    described: list[Variable] = field(default_factory=list)

    def add(
        self, name: str, size: int, places: Array, described: list[Variable]
    ) -> None:
        self.places[name], self.sizes[name] = places, size
        self.described += described

    @property
    def shape(self) -> tuple[int, ...]:
        return tuple(self.sizes.values())

    @property
    def index(self) -> Array:
        """The place of each row in a field."""
        return np.ravel_multi_index(tuple(self.places.values()), self.shape)


def _one_value_a_row(table: Table, calendar: str) -> list[Variable]:
    """Return the variables of a table whose rows hold a value of each field."""
    axes = _axes_of(table, calendar)
    _refuse_repeated(table, axes.index)
    used = {name for role, name in table.roles.items() if role != "variable"}
    fields = [name for name in table.cells.columns if name not in used]
    numbers = [name for name in fields if table.is_numeric(name)]
    words = [name for name in fields if name not in numbers and table.has_words(name)]
    if not numbers and not words:
        raise DataError(
            f"{table.path}: there is no column of numbers beside those of times and places"
        )
    about = {}
    if "site" in axes.sizes:
        of_sites = [v.name for v in axes.described if v.dimensions == ("site",)]
        about["coordinates"] = " ".join(of_sites)
    variables = list(axes.described)
    index, size = axes.index, math.prod(axes.shape)
    in_order = np.array_equal(index, np.arange(size))
    for name in numbers:
        grid = table.numbers(name)
        if not in_order:
            grid = np.full(size, np.nan)
            grid[index] = table.numbers(name)
        units = {"units": table.units[name]} if table.units.get(name) else {}
        data = InMemory(grid.reshape(axes.shape))
        variables.append(Variable(name, tuple(axes.sizes), data, {**units, **about}))
    variables += [_words(table, name, axes) for name in words]
    return variables


def _axes_of(table: Table, calendar: str) -> _Axes:
    roles, axes = table.roles, _Axes()
    if "time" in roles:
        stretches = stretches_of(table)
        unique = sorted(set(stretches), key=in_order)
        place_of = {stretch: at for at, stretch in enumerate(unique)}
        places = np.array([place_of[stretch] for stretch in stretches])
        axes.add("time", len(unique), places, time_variables(unique, calendar))
    if "level" in roles:
        name = roles["level"]
        levels, places = np.unique(table.numbers(name), return_inverse=True)
        axes.add(name, levels.size, places, [_coordinate(table, name, levels, {})])
    if _is_grid(table):
        for role in ("lat", "lon"):
            degrees, places = np.unique(_degrees(table, role), return_inverse=True)
            coordinate = _coordinate(table, role, degrees, _SPACE[role])
            axes.add(role, degrees.size, places, [coordinate])
    elif roles.keys() & {"lat", "lon", "site"}:
        keys = [roles[role] for role in ("site", "lat", "lon") if role in roles]
        places, sites = _distinct(table.cells[keys])
        refuse_names_twice(table, sites, np.unique(places, return_index=True)[1])
        axes.add("site", len(sites), places, describe_sites(table, sites))
    return axes


def _words(table: Table, name: str, axes: _Axes) -> Variable:
    """Return a column of text along the axes of the table, or along sites alone where it is the
    same at all times."""
    text = np.full(math.prod(axes.shape), "", dtype=object)
    text[axes.index] = table.cells[name].to_numpy(dtype=object)
    text = text.reshape(axes.shape)
    if list(axes.sizes) == ["time", "site"]:
        firsts = [next((word for word in column if word), "") for column in text.T]
        if all(
            word in ("", first)
            for column, first in zip(text.T, firsts, strict=True)
            for word in column
        ):
            return Variable(
                name, ("site",), InMemory(np.array(firsts, dtype=object)), {}
            )
    return Variable(name, tuple(axes.sizes), InMemory(text), {})


def _degrees(table: Table, role: str, *, placed: bool = True) -> Array:
    """Return latitudes or longitudes; `placed` says whether none may be missing.

    Raises
    ------
    DataError
        If one is missing or beyond what there is.
    """
    name = table.roles[role]
    values = _angles(table, name, role)
    low, high = (-90, 90) if role == "lat" else (-360, 360)
    wrong = ~((values >= low) & (values <= high)) & (placed | np.isfinite(values))
    if wrong.any():
        at = int(np.argmax(wrong))
        hint = ""
        if role == "lat" and np.isfinite(values[at]):
            hint = "; are latitude and longitude exchanged?"
        raise DataError(
            f"{table.path}, line {table.lines[at]}: '{table.cells[name].iloc[at]}' is not a "
            f"{role}; it lies between {low} and {high}{hint}"
        )
    return values


def _angles(table: Table, name: str, role: str) -> Array:
    """Return a column of degrees, written as numbers or with a letter for the hemisphere."""
    text = table.cells[name]
    if not text.str.contains(r"[NSEWnsew]\s*$", regex=True).any():
        return table.numbers(name)
    parse = parse_latitude if role == "lat" else parse_longitude
    values = []
    for at, given in enumerate(text):
        try:
            values.append(parse(given) if given else np.nan)
        except ValueError as error:
            raise DataError(f"{table.path}, line {table.lines[at]}: {error}") from None
    return np.array(values)


def _is_grid(table: Table) -> bool:
    """Return whether every latitude occurs with every longitude, so that the places are a grid and
    not sites."""
    if not table.roles.keys() >= {"lat", "lon"} or "site" in table.roles:
        return False
    pairs = table.cells[[table.roles["lat"], table.roles["lon"]]].drop_duplicates()
    return len(pairs) == int(pairs.iloc[:, 0].nunique()) * int(
        pairs.iloc[:, 1].nunique()
    )


def _distinct(frame: pandas.DataFrame) -> tuple[Array, pandas.DataFrame]:
    """Return for each row the number of its place, in order of appearance, and the places."""
    codes, _ = pandas.factorize(pandas.MultiIndex.from_frame(frame))
    return np.asarray(codes), frame.drop_duplicates().reset_index(drop=True)


def describe_sites(
    table: Table, frame: pandas.DataFrame, *, placed: bool = True
) -> list[Variable]:
    """Return what describes sites along the dimension `site`: names, latitudes, longitudes, and
    other columns."""
    sites = []
    for name in frame.columns:
        role = next(
            (role for role, column in table.roles.items() if column == name), None
        )
        column = Table(
            table.path, frame, table.units, table.roles, table.lines, table.decimal
        )
        if role in _SPACE:
            sites.append(
                Variable(
                    role,
                    ("site",),
                    InMemory(_degrees(column, role, placed=placed)),
                    _SPACE[role],
                )
            )
        elif role == "site" or not column.is_numeric(name):
            about = (
                {"cf_role": "timeseries_id", "long_name": "name of the site"}
                if role == "site"
                else {}
            )
            sites.append(
                Variable(
                    name, ("site",), InMemory(frame[name].to_numpy(dtype=object)), about
                )
            )
        else:
            units = {"units": table.units[name]} if table.units.get(name) else {}
            sites.append(
                Variable(name, ("site",), InMemory(column.numbers(name)), units)
            )
    return sites


def _attach(described: Sequence[Variable]) -> dict[str, Any]:
    """Return the attribute by which data name the positions and names of their sites."""
    names = [
        v.name
        for v in described
        if v.dimensions == ("site",)
        and (v.name in _SPACE or v.data.dtype.kind not in "fiu")
    ]
    return {"coordinates": " ".join(names)} if names else {}


def _coordinate(
    table: Table, name: str, values: Array, about: dict[str, Any]
) -> Variable:
    units = (
        {"units": table.units[name]}
        if table.units.get(name) and "units" not in about
        else {}
    )
    return Variable(name, (name,), InMemory(values), {**about, **units})


def _refuse_repeated(table: Table, index: Array, titles: Array | None = None) -> None:
    """Refuse two rows of one place, and of one variable where rows have titles."""
    if titles is not None:
        index = pandas.factorize(pandas.MultiIndex.from_arrays([index, titles]))[0]
    order = np.argsort(index, kind="stable")
    repeated = np.flatnonzero(np.diff(index[order]) == 0)
    if repeated.size:
        first, second = sorted(order[[repeated[0], repeated[0] + 1]])
        raise DataError(
            f"{table.path}: lines {table.lines[first]} and {table.lines[second]} are of the "
            f"same {'time and place' if titles is None else 'site and variable'}; leave one out"
        )
