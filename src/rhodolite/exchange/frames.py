"""Datasets as pandas tables, and tables as datasets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.exchange.arrays import from_arrays
from rhodolite.exchange.dates import dates_along, dates_of_values
from rhodolite.formats.text.csv.columns import (
    OF_SITES,
    around_time,
    axis_of_column,
    find_roles,
    further_columns,
)
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.date_values import units_of_dates
from rhodolite.model.variable import Variable

_LAYOUTS = ("long", "wide")
_DEGREES = {"lat": "degrees_north", "lon": "degrees_east"}
_WORDS = {"lat": "latitude", "lon": "longitude"}


def to_pandas(
    dataset: Dataset,
    layout: str = "long",
    *,
    variable: str | None = None,
    engine: Engine | None = None,
) -> pandas.DataFrame:
    """Return the fields of a dataset as a table.

    Parameters
    ----------
    dataset : Dataset
        Whose fields have the same dimensions.
    layout : {"long", "wide"}
        One row for each cell and time with a column for each field; or, of a single field, one row
        for each time and a column for each cell.
    variable : str, optional
        The one field to take.
    engine : Engine, optional

    Returns
    -------
    pandas.DataFrame

    Raises
    ------
    DataError
        If fields have different dimensions, or there is no time for a wide table.
    """
    if layout not in _LAYOUTS:
        raise UsageError(
            f"layout: '{layout}' is not offered. {nearest_names(layout, _LAYOUTS)}"
        )
    if variable is not None:
        dataset = dataset.restrict([dataset.find(variable)])
    fields = dataset.fields
    if not fields:
        raise DataError(f"{dataset.label}: there is no field to make a table of")
    first = fields[0]
    for other in fields[1:]:
        if other.dimensions != first.dimensions:
            raise DataError(
                f"a table has one row for each cell, but {first.name} has the dimensions "
                f"({', '.join(first.dimensions)}) and {other.name} ({', '.join(other.dimensions)})"
                f"; choose one: to_pandas(variable='{first.name}')"
            )
    engine = engine or Engine()
    columns = {
        name: _repeat(values, axes, first.shape)
        for name, values, axes in _labels(dataset)
    }
    columns |= {field.name: _values_of(field, engine).reshape(-1) for field in fields}
    frame = pandas.DataFrame(columns)
    return frame if layout == "long" else _widen(frame, dataset, first.name)


def _values_of(field: Variable, engine: Engine) -> Array:
    """Return the values of a field, as dates where they are such."""
    values, units = field.values(engine), units_of_dates(field)
    return values if units is None else dates_of_values(values, units)


def _labels(dataset: Dataset) -> list[tuple[str, Array, tuple[int, ...]]]:
    """Return what describes the cells: name, values, and the axes along which they lie."""
    first = dataset.fields[0]
    described = []
    listed = str(first.attributes.get("coordinates", "")).split()
    for name, variable in dataset.variables.items():
        own = variable.dimensions == (name,) and name in first.dimensions
        helper = name in listed and variable.dimensions
        if (own or helper) and set(variable.dimensions) <= set(first.dimensions):
            axes = tuple(
                first.dimensions.index(dimension) for dimension in variable.dimensions
            )
            described.append((name, _label_values(dataset, variable), axes))
    return sorted(described, key=lambda row: row[2])


def _label_values(dataset: Dataset, variable: Variable) -> Array:
    """Return the values of a coordinate: dates of time, numbers or text of others."""
    time = dataset.coordinate(Role.TIME)
    if time is None or time.name != variable.name or dataset.time is None:
        return variable.values()
    return dates_along(dataset.time)


def _repeat(values: Array, axes: tuple[int, ...], shape: tuple[int, ...]) -> Array:
    """Return values along some axes, repeated for every cell."""
    aligned = values.reshape(
        [shape[axis] if axis in axes else 1 for axis in range(len(shape))]
    )
    return np.broadcast_to(aligned, shape).reshape(-1)


def _widen(frame: pandas.DataFrame, dataset: Dataset, name: str) -> pandas.DataFrame:
    """Return a table with a row for each time and a column for each cell of one field."""
    if len(dataset.fields) > 1:
        raise DataError(
            f"a wide table holds one field, and there are {len(dataset.fields)}; choose with "
            f"to_pandas('wide', variable='{name}')"
        )
    time = dataset.need(Role.TIME).name
    others = [column for column in frame.columns if column not in (time, name)]
    if not others:
        return frame.set_index(time)
    return frame.pivot(index=time, columns=others, values=name)


def from_pandas(
    frame: pandas.DataFrame,
    *,
    units: Mapping[str, str] | None = None,
    attributes: Mapping[str, Mapping[str, Any]] | None = None,
    title: str | None = None,
) -> Dataset:
    """Return a dataset of a long table: one row for each cell and time.

    Parameters
    ----------
    frame : pandas.DataFrame
        With columns (or levels of the index) of time, level, latitude, longitude or site under any
        usual name, and a column for each field. Where rows differ in a column `member`,
        `region_name`, `frequency` or the like, it is an axis, too. Rows that are not there are
        missing values.
    units, attributes, title
        As for `from_arrays`.

    Returns
    -------
    Dataset

    Raises
    ------
    DataError
        If there is no coordinate, a cell has two rows, or units are missing.
    """
    table = frame.reset_index() if _has_names(frame.index) else frame
    roles = _find_roles(table)
    further = further_columns(table, roles.values())
    if not roles and not further:
        columns = ", ".join(map(str, table.columns))
        raise DataError(
            f"no column of time, lat, lon, level or site was found among {columns}; rename one"
        )
    axes = _Axes.of(table, roles, further)
    used = {*roles.values(), *further}
    fields = [name for name in table.columns if name not in used]
    if "site" in roles:
        return _from_sites(table, roles, axes, fields, units, attributes, title)
    arrays = _spread(table, fields, axes)
    return from_arrays(
        arrays, axes.coordinates, units=units, attributes=attributes, title=title
    )


@dataclass(frozen=True)
class _Axes:
    """The axes that rows lie along: their coordinates, and the place of each row along each."""

    coordinates: dict[str, Any]
    places: list[Array]

    @classmethod
    def of(
        cls, table: pandas.DataFrame, roles: Mapping[str, str], further: list[str]
    ) -> _Axes:
        """Return the axes of a table, those of other kinds where their columns stand."""
        placed = ("site",) if "site" in roles else ("level", "lat", "lon")
        before, after = around_time(table.columns, roles.values(), further)
        columns = {axis_of_column(str(name)): name for name in before}
        columns |= {"time": roles["time"]} if "time" in roles else {}
        columns |= {axis_of_column(str(name)): name for name in after}
        columns |= {role: roles[role] for role in placed if role in roles}
        coordinates, places = {}, []
        for axis, column in columns.items():
            values, codes = _distinct(table[column], words=axis == "site")
            coordinates[axis] = values
            places.append(codes)
        return cls(coordinates, places)

    @property
    def shape(self) -> tuple[int, ...]:
        return tuple(map(len, self.coordinates.values()))


def _distinct(column: pandas.Series[Any], *, words: bool) -> tuple[Any, Array]:
    """Return the values of an axis in order, words as they come, and where each row lies."""
    if words:
        values, codes = np.unique(column.astype(str).to_numpy(), return_inverse=True)
        return values.astype(object), codes
    if column.dtype.kind in "OUS" and all(isinstance(v, str) for v in column):
        codes, names = pandas.factorize(column)
        return np.asarray(names, dtype=object), codes
    return np.unique(column.to_numpy(), return_inverse=True)


def _from_sites(
    table: pandas.DataFrame,
    roles: Mapping[str, str],
    axes: _Axes,
    fields: list[str],
    units: Mapping[str, str] | None,
    attributes: Mapping[str, Mapping[str, Any]] | None,
    title: str | None,
) -> Dataset:
    """Return series at sites, with what is the same at all times of a site as its labels."""
    codes = axes.places[list(axes.coordinates).index("site")]
    first = np.unique(codes, return_index=True)[1]
    positions = [role for role in ("lat", "lon") if role in roles]
    of_sites = [name for name in fields if _tells_of_sites(table, name, codes, first)]
    arrays = _spread(table, [n for n in fields if n not in of_sites], axes)
    given = {role: table[roles[role]].to_numpy()[first] for role in positions}
    given |= {str(name): table[name].to_numpy()[first] for name in of_sites}
    dimensions = dict.fromkeys(arrays, tuple(axes.coordinates))
    return from_arrays(
        {**given, **arrays},
        axes.coordinates,
        dimensions={**dimensions, **dict.fromkeys(given, ("site",))},
        units={**{role: _DEGREES[role] for role in positions}, **dict(units or {})},
        attributes=_about_sites(arrays, given, attributes),
        title=title,
    )


def _about_sites(
    fields: Mapping[str, Array],
    labels: Mapping[str, Array],
    attributes: Mapping[str, Mapping[str, Any]] | None,
) -> dict[str, Mapping[str, Any]]:
    """Return the attributes of sites, of what is known of them, and of fields, which name it."""
    about = dict(attributes or {})
    about["site"] = {"cf_role": "timeseries_id", "long_name": "name of the site"}
    beside = {"coordinates": " ".join(labels)} if labels else {}
    for name in fields:
        about[name] = {**about.get(name, {}), **beside}
    for role, word in _WORDS.items():
        if role in labels:
            about[role] = {"standard_name": word}
    return about


def _tells_of_sites(
    table: pandas.DataFrame, name: str, codes: Array, first: Array
) -> bool:
    """Return whether a column tells of its site, by its name and since it is always the same."""
    if str(name).strip().lower() not in OF_SITES or first.size == len(table):
        return False
    values = table[name].to_numpy()
    of_site = values[first][codes]
    same = (values == of_site) | (pandas.isna(values) & pandas.isna(of_site))
    return bool(np.all(same))


def _spread(
    table: pandas.DataFrame,
    fields: list[str],
    axes: _Axes,
) -> dict[str, Array]:
    """Return each column as an array along the axes, NaN where there is no row."""
    shape = axes.shape
    flat = np.ravel_multi_index(tuple(axes.places), shape)
    if np.unique(flat).size < flat.size:
        raise DataError(
            "two rows are about the same cell and time; leave one of them out"
        )
    arrays = {}
    for name in fields:
        values = np.full(int(np.prod(shape)), np.nan)
        try:
            values[flat] = table[name].to_numpy(dtype=np.float64, na_value=np.nan)
        except (TypeError, ValueError):
            raise DataError(f"column {name} holds no numbers; leave it out") from None
        arrays[str(name)] = values.reshape(shape)
    return arrays


def _find_roles(table: pandas.DataFrame) -> dict[str, str]:
    """Return which column is which coordinate, as in a table of a file."""
    titles = {str(column): column for column in reversed(table.columns)}
    roles = find_roles(str(column) for column in table.columns)
    return {role: titles[name] for role, name in roles.items() if role != "variable"}


def _has_names(index: pandas.Index) -> bool:
    return any(name is not None for name in index.names)
