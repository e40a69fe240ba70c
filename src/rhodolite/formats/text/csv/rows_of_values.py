"""Tables whose rows hold a value of each field, at a time, a place, or both."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
import pandas

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.formats.text.csv.columns import (
    OF_SITES,
    around_time,
    axis_of_column,
    further_columns,
)
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
from rhodolite.model.ensemble import is_member_dimension
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
    numbers, words = _fields_of(table, axes)
    columns = [
        *(_numbers(table, name, axes) for name in numbers),
        *(_words(table, name, axes) for name in words),
    ]
    whole = tuple(axes.sizes)
    beside = [v.name for v in axes.described if _labels(v)]
    beside += [v.name for v in columns if v.dimensions != whole]
    if not beside:
        return [*axes.described, *columns]
    about = {"coordinates": " ".join(beside)}
    fields = [v.edit(**about) if v.dimensions == whole else v for v in columns]
    return [*axes.described, *fields]


def _labels(described: Variable) -> bool:
    """Return whether a variable names what lies along an axis, and is not its coordinate."""
    return len(described.dimensions) == 1 and described.name not in described.dimensions


def find_further_axes(table: Table) -> list[str]:
    """Return the columns that are axes of their own, see `further_columns`."""
    placed = [name for role, name in table.roles.items() if role != "variable"]
    return further_columns(table.cells, placed)


def _fields_of(table: Table, axes: _Axes) -> tuple[list[str], list[str]]:
    """Return the columns of numbers and those of words that say no time or place.

    Raises
    ------
    DataError
        If there are none.
    """
    used = {name for role, name in table.roles.items() if role != "variable"}
    used |= {variable.name for variable in axes.described}
    fields = [name for name in table.cells.columns if name not in used]
    numbers = [name for name in fields if table.is_numeric(name)]
    words = [name for name in fields if name not in numbers and table.has_words(name)]
    if not numbers and not words:
        raise DataError(
            f"{table.path}: there is no column of numbers beside those of times and places"
        )
    return numbers, words


def _numbers(table: Table, name: str, axes: _Axes) -> Variable:
    """Return a column of numbers along the axes of the table, NaN where no row says any."""
    values = table.numbers(name)
    index, size = axes.index, math.prod(axes.shape)
    if not np.array_equal(index, np.arange(size)):
        rows, values = values, np.full(size, np.nan)
        values[index] = rows
    values = values.reshape(axes.shape)
    about = table.about_units(name)
    if name.strip().lower() in OF_SITES:
        constant = _along_one_axis(axes, "site", values, np.isnan(values))
        if constant is not None:
            return Variable(name, ("site",), InMemory(constant), about)
    return Variable(name, tuple(axes.sizes), InMemory(values), about)


def _axes_of(table: Table, calendar: str) -> _Axes:
    """Return the axes of a table, those other than time and place where their columns stand."""
    roles, axes = table.roles, _Axes()
    further = find_further_axes(table)
    before, after = around_time(table.cells.columns, roles.values(), further)
    for name in before:
        _add_further(axes, table, name)
    if "time" in roles:
        stretches = stretches_of(table)
        unique = sorted(set(stretches), key=in_order)
        place_of = {stretch: at for at, stretch in enumerate(unique)}
        places = np.array([place_of[stretch] for stretch in stretches])
        axes.add("time", len(unique), places, time_variables(unique, calendar))
    for name in after:
        _add_further(axes, table, name)
    if "level" in roles:
        _add_numbers(axes, table, roles["level"])
    _add_places(axes, table)
    return axes


def _add_further(axes: _Axes, table: Table, name: str) -> None:
    if table.is_numeric(name):
        _add_numbers(axes, table, name)
    else:
        _add_words(axes, table, name)


def _add_words(axes: _Axes, table: Table, name: str) -> None:
    """Add an axis of the words in a column, in the order in which they come."""
    places, words = pandas.factorize(table.cells[name])
    along = axis_of_column(name)
    named = Variable(name, (along,), InMemory(np.asarray(words, dtype=object)))
    axes.add(along, len(words), places, [named])


def _add_numbers(axes: _Axes, table: Table, name: str) -> None:
    """Add an axis of the numbers in a column."""
    numbers, places = np.unique(table.numbers(name), return_inverse=True)
    about = {}
    if is_member_dimension(name):
        about = {"standard_name": "realization", "units": "1"}
        numbers = numbers.astype(np.int32)
    axes.add(name, numbers.size, places, [coordinate_of(table, name, numbers, about)])


def _add_places(axes: _Axes, table: Table) -> None:
    """Add the axes of a grid, of latitudes or longitudes alone, or of sites."""
    positions = [role for role in ("lat", "lon") if role in table.roles]
    if "site" not in table.roles and (len(positions) == 1 or is_grid(table)):
        for role in positions:
            degrees, places = np.unique(degrees_of(table, role), return_inverse=True)
            coordinate = coordinate_of(table, role, degrees, ABOUT_POSITIONS[role])
            axes.add(role, degrees.size, places, [coordinate])
    elif positions or "site" in table.roles:
        keys = [table.roles[r] for r in ("site", *positions) if r in table.roles]
        places, sites = distinct_places(table.cells[keys])
        refuse_names_twice(table, sites, np.unique(places, return_index=True)[1])
        axes.add("site", len(sites), places, describe_sites(table, sites))


def _words(table: Table, name: str, axes: _Axes) -> Variable:
    """Return a column of text along the axes of the table, or along the one that it tells of."""
    text = np.full(math.prod(axes.shape), "", dtype=object)
    text[axes.index] = table.cells[name].to_numpy(dtype=object)
    text = text.reshape(axes.shape)
    for axis in ("site", axis_of_column(name)):
        constant = _along_one_axis(axes, axis, text, text == "")
        if constant is not None:
            return Variable(name, (axis,), InMemory(constant))
    return Variable(name, tuple(axes.sizes), InMemory(text))


def _along_one_axis(
    axes: _Axes, axis: str, values: Array, empty: Array
) -> Array | None:
    """Return what is the same along all axes but one, such as the names of sites at all times;
    None where it is not, or where there is one axis only."""
    if axis not in axes.sizes or len(axes.sizes) == 1:
        return None
    at = list(axes.sizes).index(axis)
    rows = np.moveaxis(values, at, 0).reshape(axes.shape[at], -1)
    gaps = np.moveaxis(empty, at, 0).reshape(rows.shape)
    first = rows[np.arange(len(rows)), gaps.argmin(axis=1)]
    same = (rows == first[:, np.newaxis]) | gaps
    return first if same.all() else None
