"""Tables whose rows hold a value of each field, at a time, a place, or both."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.text.csv.dates import stretches_of
from rhodolite.formats.text.csv.places import (
    coordinate_of,
    degrees_of,
    describe_sites,
    distinct_places,
    is_grid,
    refuse_names_twice,
    refuse_repeated,
)
from rhodolite.formats.text.csv.table import Table
from rhodolite.formats.text.dates import in_order, time_variables
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS
from rhodolite.model.variable import Variable


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


def one_value_a_row(table: Table, calendar: str) -> list[Variable]:
    """Return the variables of a table whose rows hold a value of each field."""
    axes = _axes_of(table, calendar)
    refuse_repeated(table, axes.index)
    numbers, words = _fields_of(table)
    of_sites = [v.name for v in axes.described if v.dimensions == ("site",)]
    about = {"coordinates": " ".join(of_sites)} if of_sites else {}
    fields = [_numbers(table, name, axes, about) for name in numbers]
    return [*axes.described, *fields, *(_words(table, name, axes) for name in words)]


def _fields_of(table: Table) -> tuple[list[str], list[str]]:
    """Return the columns of numbers and those of words that say no time or place.

    Raises
    ------
    DataError
        If there are none.
    """
    used = {name for role, name in table.roles.items() if role != "variable"}
    fields = [name for name in table.cells.columns if name not in used]
    numbers = [name for name in fields if table.is_numeric(name)]
    words = [name for name in fields if name not in numbers and table.has_words(name)]
    if not numbers and not words:
        raise DataError(
            f"{table.path}: there is no column of numbers beside those of times and places"
        )
    return numbers, words


def _numbers(table: Table, name: str, axes: _Axes, about: dict[str, Any]) -> Variable:
    """Return a column of numbers along the axes of the table, NaN where no row says any."""
    values = table.numbers(name)
    index, size = axes.index, math.prod(axes.shape)
    if not np.array_equal(index, np.arange(size)):
        rows, values = values, np.full(size, np.nan)
        values[index] = rows
    data = InMemory(values.reshape(axes.shape))
    return Variable(name, tuple(axes.sizes), data, {**table.about_units(name), **about})


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
        axes.add(name, levels.size, places, [coordinate_of(table, name, levels, {})])
    if is_grid(table):
        for role in ("lat", "lon"):
            degrees, places = np.unique(degrees_of(table, role), return_inverse=True)
            coordinate = coordinate_of(table, role, degrees, ABOUT_POSITIONS[role])
            axes.add(role, degrees.size, places, [coordinate])
    elif roles.keys() & {"lat", "lon", "site"}:
        keys = [roles[role] for role in ("site", "lat", "lon") if role in roles]
        places, sites = distinct_places(table.cells[keys])
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
