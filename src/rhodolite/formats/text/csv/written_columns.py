"""The columns of a table that is written: what describes each row, and the values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, Engine, LazyArray, Region
from rhodolite.formats.text.csv.columns import column_title
from rhodolite.formats.text.phases import BASE_YEARS, CALENDAR
from rhodolite.model.axes import Role
from rhodolite.model.cf.classes import words_of_classes
from rhodolite.model.cf.vocabulary import CALENDARS_LIKE_TODAYS
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.date_values import units_of_dates, write_dates
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import base_years, time_labels
from rhodolite.model.time.time_units import TimeUnits
from rhodolite.model.variable import Variable
from rhodolite.plain_text import is_number

_FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r")
"""Text that begins with these is run by spreadsheets, unless an apostrophe comes first."""


@dataclass(frozen=True)
class Column:
    """One column of the table: values along some of the table's dimensions, written in a type."""

    title: str
    axes: tuple[int, ...]
    data: LazyArray | Array
    dtype: str | None = None
    missing: int | None = None
    decimals: int | None = None
    words: Mapping[float, str] = field(default_factory=dict)
    time_units: TimeUnits | None = None
    raw: bool = False

    def of(self, region: Region) -> Any:
        """Return the column's cells for a block of the table."""
        inner = tuple(region[axis] for axis in self.axes)
        values = (
            self.data[inner]
            if isinstance(self.data, np.ndarray)
            else self.data.read(inner)
        )
        values = np.asarray(values, dtype=self.data.dtype)
        shape = tuple(part.stop - part.start for part in region)
        values = self.as_written(values)
        aligned = values.reshape(
            [shape[axis] if axis in self.axes else 1 for axis in range(len(shape))]
        )
        flat = np.broadcast_to(aligned, shape).reshape(-1)
        if self.missing is None or flat.dtype.kind == "O":
            return flat
        return pandas.arrays.IntegerArray(flat.copy(), flat == self.missing)

    def as_written(self, values: Array) -> Array:
        """Return values as they are written: classes in words, packed numbers with the decimals
        that they had."""
        if self.words:
            text = np.full(values.shape, "", dtype=object)
            for number, word in self.words.items():
                text[values == number] = word
            return text
        if self.time_units is not None:
            return write_dates(values, self.time_units)
        if values.dtype.kind == "O" and not self.raw:
            return _quote_formulas(values)
        if self.decimals is not None:
            return np.round(values.astype(np.float64), self.decimals)
        return values if self.dtype is None else values.astype(self.dtype)


def data_column(variable: Variable, data: LazyArray) -> Column:
    """Return the column of a variable: its numbers, the words of classes, or dates."""
    # What was unpacked from 16 bits has no more figures than single precision.
    dtype = "float32" if variable.storage.dtype == "float32" else None
    time_units = units_of_dates(variable)
    return Column(
        column_title(variable.name, variable.units if time_units is None else None),
        tuple(range(data.ndim)),
        data,
        dtype,
        variable.missing,
        _decimals(variable),
        words_of_classes(variable),
        time_units,
    )


def _decimals(variable: Variable) -> int | None:
    """Return the decimals of values that were packed with a scale and an offset of few; None for
    others."""
    packing = variable.storage.packing
    if packing is None or variable.data.dtype.kind != "f":
        return None
    for decimals in range(7):
        if all(
            abs(round(part, decimals) - part) <= 1e-7 * abs(part)
            for part in (packing.scale, packing.offset)
        ):
            return decimals
    return None


def _quote_formulas(values: Array) -> Array:
    """Return texts that a spreadsheet would run as formulas with an apostrophe before them."""
    texts = np.array(values, dtype=object)
    for place in np.ndindex(texts.shape):
        text = str(texts[place])
        if text[:1] in _FORMULA_SIGNS and not is_number(text):
            texts[place] = f"'{text}"
    return texts


def safe_title(column: Column) -> str:
    """Return the header of a column, which no spreadsheet runs."""
    if column.raw:
        return column.title
    return str(_quote_formulas(np.array([column.title]))[0])


def coordinate_columns(
    dataset: Dataset, variable: Variable, engine: Engine, *, raw: bool
) -> list[Column]:
    """Return a column for each coordinate of a variable: its dimensions first, then what lies along
    them."""
    columns: list[Column] = []
    for axis, name in enumerate(variable.dimensions):
        columns += _of_dimension(dataset, axis, name, engine)
    titled = {column.title.split(" [")[0] for column in columns}
    listed = str(variable.attributes.get("coordinates", "")).split()
    for name in dict.fromkeys([*listed, *(dataset.axes.curvilinear or ())]):
        other = dataset.variables.get(name)
        if other is None or name in titled or not _lies_along(other, variable):
            continue
        axes = tuple(variable.dimensions.index(d) for d in other.dimensions)
        title = _title(None, name, other.units)
        columns.append(Column(title, axes, engine.compute(other.data)))
    return [replace(column, raw=raw) for column in columns]


def _lies_along(other: Variable, variable: Variable) -> bool:
    dimensions = set(other.dimensions)
    return bool(dimensions) and dimensions <= set(variable.dimensions)


def _of_dimension(
    dataset: Dataset, axis: int, name: str, engine: Engine
) -> list[Column]:
    """Return the columns of one dimension of the table."""
    by_role = dataset.axes.by_role.values()
    along = next((c for c in by_role if c.dimension == name), None)
    if along is None:
        described = dataset.variables.get(name)
        if described is None or described.dimensions != (name,):
            return []
        title = column_title(name, described.units)
        return [Column(title, (axis,), engine.compute(described.data))]
    if along is dataset.coordinate(Role.TIME) and dataset.time is not None:
        return _of_times(dataset.time, along.name, axis)
    title = _title(along.role, along.name, along.variable.units)
    return [Column(title, (axis,), engine.compute(along.variable.data))]


def _of_times(times: TimeAxis, name: str, axis: int) -> list[Column]:
    """Return the times, the years that normals are of, and a calendar that is not today's."""
    labels = np.array(time_labels(times), dtype=object)
    columns = [Column(name, (axis,), labels)]
    years = base_years(times)
    if years is not None:
        base = np.full(len(times), years, dtype=object)
        columns.append(Column(BASE_YEARS, (axis,), base))
    if times.calendar not in CALENDARS_LIKE_TODAYS:
        named = np.array(times.calendar, dtype=object)
        columns.append(Column(CALENDAR, (), named))
    return columns


def _title(role: Role | None, name: str, units: str | None) -> str:
    """Return the header of a coordinate's column; degrees go without saying."""
    horizontal = role in (Role.LATITUDE, Role.LONGITUDE)
    plain = horizontal or (units or "").startswith("degrees")
    return name if plain else column_title(name, units)
