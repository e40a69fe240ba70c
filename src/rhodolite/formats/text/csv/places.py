"""Where the rows of a table lie: latitudes, longitudes, sites, and what is known of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.text.csv.table import Table
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS
from rhodolite.model.space.range_text import parse_latitude, parse_longitude
from rhodolite.model.variable import Variable

_IDENTITY = {"cf_role": "timeseries_id", "long_name": "name of the site"}


def degrees_of(table: Table, role: str, *, placed: bool = True) -> Array:
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


def is_grid(table: Table) -> bool:
    """Return whether every latitude occurs with every longitude, so that the places are a grid and
    not sites."""
    if not table.roles.keys() >= {"lat", "lon"} or "site" in table.roles:
        return False
    pairs = table.cells[[table.roles["lat"], table.roles["lon"]]].drop_duplicates()
    return len(pairs) == int(pairs.iloc[:, 0].nunique()) * int(
        pairs.iloc[:, 1].nunique()
    )


def distinct_places(frame: pandas.DataFrame) -> tuple[Array, pandas.DataFrame]:
    """Return for each row the number of its place, in order of appearance, and the places."""
    codes, _ = pandas.factorize(pandas.MultiIndex.from_frame(frame))
    return np.asarray(codes), frame.drop_duplicates().reset_index(drop=True)


def describe_sites(
    table: Table, frame: pandas.DataFrame, *, placed: bool = True
) -> list[Variable]:
    """Return what describes sites along the dimension `site`: names, latitudes, longitudes, and
    other columns."""
    sites = Table(
        table.path, frame, table.units, table.roles, table.lines, table.decimal
    )
    role_of = {column: role for role, column in table.roles.items()}
    return [
        _describe_site(sites, name, role_of.get(name), placed=placed)
        for name in frame.columns
    ]


def _describe_site(
    sites: Table, name: str, role: str | None, *, placed: bool
) -> Variable:
    """Return a column of what describes sites; `placed` says whether all have a position."""
    if role is not None and role in ABOUT_POSITIONS:
        degrees = InMemory(degrees_of(sites, role, placed=placed))
        return Variable(role, ("site",), degrees, ABOUT_POSITIONS[role])
    if role == "site" or not sites.is_numeric(name):
        words = InMemory(sites.cells[name].to_numpy(dtype=object))
        return Variable(name, ("site",), words, _IDENTITY if role == "site" else {})
    return Variable(
        name, ("site",), InMemory(sites.numbers(name)), sites.about_units(name)
    )


def attach(described: Sequence[Variable]) -> dict[str, Any]:
    """Return the attribute by which data name the positions and names of their sites."""
    names = [
        v.name
        for v in described
        if v.dimensions == ("site",)
        and (v.name in ABOUT_POSITIONS or v.data.dtype.kind not in "fiu")
    ]
    return {"coordinates": " ".join(names)} if names else {}


def coordinate_of(
    table: Table, name: str, values: Array, about: Mapping[str, Any]
) -> Variable:
    return Variable(
        name, (name,), InMemory(values), {**table.about_units(name), **about}
    )


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


def refuse_repeated(table: Table, index: Array, titles: Array | None = None) -> None:
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
