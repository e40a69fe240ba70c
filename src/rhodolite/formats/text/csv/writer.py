"""Writing tables: one row for each cell and time, streamed."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, Engine, LazyArray, Region
from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.layout import Layout
from rhodolite.formats.table_style import TableStyle
from rhodolite.formats.text.csv.columns import column_title
from rhodolite.formats.text.csv.spread import spread_across
from rhodolite.formats.text.phases import BASE_YEARS, CALENDAR, NORMAL
from rhodolite.model.axes import Role
from rhodolite.model.cf.vocabulary import CALENDARS_LIKE_TODAYS
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_labels import base_years, time_labels
from rhodolite.model.variable import Variable

_FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r")
"""Text that begins with these is run by spreadsheets, unless an apostrophe comes first."""


@dataclass(frozen=True)
class _Column:
    """One column of the table: values along some of the table's dimensions, written in a type."""

    title: str
    axes: tuple[int, ...]
    data: LazyArray | Array
    dtype: str | None = None
    missing: int | None = None
    decimals: int | None = None
    words: tuple[tuple[Any, str], ...] = ()
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
        values = self._as_written(values)
        aligned = values.reshape(
            [shape[axis] if axis in self.axes else 1 for axis in range(len(shape))]
        )
        flat = np.broadcast_to(aligned, shape).reshape(-1)
        if self.missing is None or flat.dtype.kind == "O":
            return flat
        return pandas.arrays.IntegerArray(flat.copy(), flat == self.missing)

    def _as_written(self, values: Array) -> Array:
        """Return values as they are written: classes in words, packed numbers with the decimals
        that they had."""
        if self.words:
            text = np.full(values.shape, "", dtype=object)
            for number, word in self.words:
                text[values == number] = word
            return text
        if values.dtype.kind == "O" and not self.raw:
            return _quote_formulas(values)
        if self.decimals is not None:
            return np.round(values.astype(np.float64), self.decimals)
        return values if self.dtype is None else values.astype(self.dtype)


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write the data variables of a dataset as one table.

    Raises
    ------
    DataError
        If the variables do not have the same dimensions.
    """
    if layout.table.across:
        dataset = spread_across(dataset, layout.table.across)
    variables = dataset.fields
    if not variables:
        raise DataError("there is no variable to write a table of")
    first = variables[0]
    for variable in variables[1:]:
        if variable.dimensions != first.dimensions:
            raise DataError(
                f"a table has one row for each cell, but {first.name} has the dimensions "
                f"({', '.join(first.dimensions)}) and {variable.name} has "
                f"({', '.join(variable.dimensions)}); choose with --variable {first.name}"
            )
    style = layout.table
    if style.wide:
        _refuse_order(style)
        _write_wide(dataset, variables, path, engine, style)
        return
    # Rows follow each other in the order of the dimensions, so blocks hold all of the later ones.
    unit = (1, *first.shape[1:]) if first.shape else ()
    laid_out = [engine.in_units(variable.data, unit) for variable in variables]
    engine.prepare([data for data, _ in laid_out])
    described = _coordinate_columns(dataset, first, engine, raw=style.raw)
    columns = [
        *described,
        *(
            _data_column(v, data)
            for v, (data, _) in zip(variables, laid_out, strict=True)
        ),
    ]
    ordered = bool(style.sort or style.first)
    of_frames, of_text = (
        functools.partial(_frame, columns),
        functools.partial(_rows, columns, style),
    )
    work: Any = of_frames if ordered else of_text
    with path.open("wb") as file:
        titles = [_safe_title(column) for column in columns]
        file.write(_csv(pandas.DataFrame(columns=titles), style, header=True))
        _, total, regions = engine.blocks(first.data, laid_out[0][1])
        what = f"writing {first.name}"
        blocks = engine.stream(work, regions, what, total, first.data.nbytes)
        if ordered:
            frame = _in_order((block for _, block in blocks), columns, style)
            file.write(_csv(frame, style, header=False))
            return
        for _, text in blocks:
            file.write(text)


def _in_order(
    frames: Iterator[pandas.DataFrame], columns: list[_Column], style: TableStyle
) -> pandas.DataFrame:
    """Return the rows that are asked for, in the order that is asked for; missing values last.

    Raises
    ------
    UsageError
        If there is no such column.
    """
    if not style.sort:
        parts, count = [], 0
        for frame in frames:
            parts.append(frame)
            count += len(frame)
            if style.first is not None and count >= style.first:
                break
        return pandas.concat(parts, ignore_index=True).head(style.first)
    names = [column.title.split(" [")[0] for column in columns]
    if style.sort not in names:
        raise UsageError(
            f"--sort: there is no column '{style.sort}'. {nearest_names(style.sort, names)}"
        )
    at = names.index(style.sort)
    rows = pandas.concat(list(frames), ignore_index=True)
    rows = rows.sort_values(
        at, ascending=not style.down, kind="stable", na_position="last"
    )
    return rows if style.first is None else rows.head(style.first)


def _refuse_order(style: TableStyle) -> None:
    option = next(
        (name for name in ("sort", "first", "across") if getattr(style, name)), None
    )
    if option is not None:
        raise UsageError(
            f"--{option} is for tables of one row a value, and this is a wide one"
        )


def _write_wide(
    dataset: Dataset,
    variables: tuple[Variable, ...],
    path: Path,
    engine: Engine,
    style: TableStyle,
) -> None:
    """Write one row for each cell and variable, and one column for each time.

    Raises
    ------
    DataError
        If there is no time axis.
    """
    first, axis = variables[0], dataset.need_time()
    along = first.dimensions.index(str(dataset.need(Role.TIME).dimension))
    unit = tuple(n if at == along else 1 for at, n in enumerate(first.shape))
    laid_out = [engine.in_units(variable.data, unit) for variable in variables]
    engine.prepare([data for data, _ in laid_out])
    described = [
        column
        for column in _coordinate_columns(dataset, first, engine, raw=style.raw)
        if along not in column.axes
    ]
    years = base_years(axis)
    times = [label + (NORMAL + years if years else "") for label in time_labels(axis)]
    header = pandas.DataFrame(
        columns=[*(_safe_title(column) for column in described), "variable", *times]
    )
    with path.open("wb") as file:
        file.write(_csv(header, style, header=True))
        _, total, regions = engine.blocks(first.data, laid_out[0][1])
        work = functools.partial(
            _wide_rows,
            style,
            described,
            variables,
            [data for data, _ in laid_out],
            along,
        )
        for _, text in engine.stream(
            work, regions, f"writing {first.name}", total, first.data.nbytes
        ):
            file.write(text)


def _wide_rows(
    style: TableStyle,
    described: list[_Column],
    variables: tuple[Variable, ...],
    arrays: list[LazyArray],
    along: int,
    region: Region,
) -> bytes:
    single = tuple(
        slice(0, 1) if at == along else part for at, part in enumerate(region)
    )
    before = pandas.DataFrame(
        {number: column.of(single) for number, column in enumerate(described)}
    )
    parts = []
    for variable, data in zip(variables, arrays, strict=True):
        block = np.moveaxis(data.read(region), along, -1)
        values = _data_column(variable, data)._as_written(
            block.reshape(-1, block.shape[-1])
        )
        name = pandas.Series(
            column_title(variable.name, variable.units), index=before.index
        )
        parts.append(
            pandas.concat(
                [before, name, pandas.DataFrame(values)], axis=1, ignore_index=True
            )
        )
    # The variables of a site stand below each other.
    return _csv(pandas.concat(parts).sort_index(kind="stable"), style, header=False)


def _data_column(variable: Variable, data: LazyArray) -> _Column:
    # What was unpacked from 16 bits has no more figures than single precision.
    dtype = "float32" if variable.storage.dtype == "float32" else None
    return _Column(
        column_title(variable.name, variable.units),
        tuple(range(data.ndim)),
        data,
        dtype,
        variable.missing,
        _decimals(variable),
        _words_of(variable),
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


def _words_of(variable: Variable) -> tuple[tuple[Any, str], ...]:
    """Return the words for the numbers of classes (CF 3.5); none for quantities."""
    values = np.atleast_1d(variable.attributes.get("flag_values", ()))
    meanings = str(variable.attributes.get("flag_meanings", "")).split()
    if len(values) != len(meanings) or "flag_masks" in variable.attributes:
        return ()
    return tuple(
        (value, word.replace("_", " "))
        for value, word in zip(values, meanings, strict=True)
    )


def _quote_formulas(values: Array) -> Array:
    """Return texts that a spreadsheet would run as formulas with an apostrophe before them."""
    texts = np.array(values, dtype=object)
    for place in np.ndindex(texts.shape):
        text = str(texts[place])
        if text[:1] in _FORMULA_SIGNS and not _is_number(text):
            texts[place] = f"'{text}"
    return texts


def _safe_title(column: _Column) -> str:
    return (
        column.title
        if column.raw
        else str(_quote_formulas(np.array([column.title]))[0])
    )


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _frame(columns: list[_Column], region: Region) -> pandas.DataFrame:
    return pandas.DataFrame(
        {number: column.of(region) for number, column in enumerate(columns)}
    )


def _rows(columns: list[_Column], style: TableStyle, region: Region) -> bytes:
    return _csv(_frame(columns, region), style, header=False)


def _csv(frame: pandas.DataFrame, style: TableStyle, *, header: bool) -> bytes:
    text = frame.to_csv(
        index=False,
        header=header,
        lineterminator="\n",
        sep=style.separator,
        decimal=style.decimal,
    )
    return str(text).encode()


def _coordinate_columns(
    dataset: Dataset, variable: Variable, engine: Engine, *, raw: bool
) -> list[_Column]:
    """Return a column for each coordinate of a variable: its dimensions first, then what lies along
    them."""
    columns = []
    time = dataset.coordinate(Role.TIME)
    for axis, name in enumerate(variable.dimensions):
        along = next(
            (c for c in dataset.axes.by_role.values() if c.dimension == name), None
        )
        if along is not None and along is time and dataset.time is not None:
            columns.append(
                _Column(
                    along.name,
                    (axis,),
                    np.array(time_labels(dataset.time), dtype=object),
                )
            )
            if (years := base_years(dataset.time)) is not None:
                columns.append(
                    _Column(
                        BASE_YEARS,
                        (axis,),
                        np.full(len(dataset.time), years, dtype=object),
                    )
                )
            if dataset.time.calendar not in CALENDARS_LIKE_TODAYS:
                named = np.array(dataset.time.calendar, dtype=object)
                columns.append(_Column(CALENDAR, (), named))
        elif along is not None:
            values = engine.compute(along.variable.data)
            columns.append(
                _Column(
                    _title(along.role, along.name, along.variable.units),
                    (axis,),
                    values,
                )
            )
        elif name in dataset.variables and dataset.variables[name].dimensions == (
            name,
        ):
            described = dataset.variables[name]
            columns.append(
                _Column(
                    column_title(name, described.units),
                    (axis,),
                    engine.compute(described.data),
                )
            )
    listed = str(variable.attributes.get("coordinates", "")).split()
    for name in [*listed, *(dataset.axes.curvilinear or ())]:
        other = dataset.variables.get(name)
        if (
            other is None
            or not other.dimensions
            or any(column.title.split(" [")[0] == name for column in columns)
        ):
            continue
        if set(other.dimensions) <= set(variable.dimensions):
            axes = tuple(
                variable.dimensions.index(dimension) for dimension in other.dimensions
            )
            columns.append(
                _Column(
                    _title(None, name, other.units), axes, engine.compute(other.data)
                )
            )
    return [replace(column, raw=raw) for column in columns]


def _title(role: Role | None, name: str, units: str | None) -> str:
    """Return the header of a coordinate's column; degrees go without saying."""
    plain = role in (Role.LATITUDE, Role.LONGITUDE) or (units or "").startswith(
        "degrees"
    )
    return name if plain else column_title(name, units)
