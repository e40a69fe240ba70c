"""Writing tables: one row for each cell and time, streamed."""

from __future__ import annotations

import functools
import gzip
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, TypeVar, cast

import numpy as np
import pandas

from rhodolite.arrays import Engine, LazyArray, Region
from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.layout import Layout
from rhodolite.formats.table_style import TableStyle
from rhodolite.formats.text.csv.columns import column_title
from rhodolite.formats.text.csv.spread import spread_across
from rhodolite.formats.text.csv.written_columns import (
    Column,
    coordinate_columns,
    data_column,
    safe_title,
)
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_labels import whole_labels
from rhodolite.model.variable import Variable

T = TypeVar("T")


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write the data variables of a dataset as one table, compressed where the name ends in .gz.

    Raises
    ------
    DataError
        If the variables do not have the same dimensions.
    """
    style = layout.table
    if ".tsv" in path.name.lower():
        style = replace(style, tabs=True)
    with _open(path) as file:
        if style.wide:
            _refuse_order(style)
            _write_wide(dataset, file, engine, style)
        else:
            _write_long(LongTable.of(dataset, engine, style), file)


@contextmanager
def _open(path: Path) -> Iterator[IO[bytes]]:
    with path.open("wb") as file:
        if path.suffix.lower() != ".gz":
            yield file
            return
        # Without a name and a time, so that the same table is the same file.
        with gzip.GzipFile("", "wb", fileobj=file, mtime=0) as packed:
            yield cast("IO[bytes]", packed)


def _need_one_shape(variables: tuple[Variable, ...]) -> None:
    """Refuse variables that make no table together."""
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


@dataclass(frozen=True)
class LongTable:
    """A table of one row for each cell and time, whose rows are made block by block.

    Parameters
    ----------
    columns : list of Column
    style : TableStyle
    engine : Engine
    first : Variable
        Over whose cells the rows go.
    block : tuple of int
        Shape of the blocks that are made at once.
    """

    columns: list[Column]
    style: TableStyle
    engine: Engine
    first: Variable
    block: tuple[int, ...]

    @classmethod
    def of(cls, dataset: Dataset, engine: Engine, style: TableStyle) -> LongTable:
        """Return the table of all data variables of a dataset.

        Raises
        ------
        DataError
            If they do not have the same dimensions.
        """
        if style.across:
            dataset = spread_across(dataset, style.across)
        variables = dataset.fields
        _need_one_shape(variables)
        first = variables[0]
        # Rows follow each other in the order of the dimensions, so blocks hold all of the later
        # ones.
        unit = (1, *first.shape[1:]) if first.shape else ()
        laid_out = [engine.in_units(variable.data, unit) for variable in variables]
        engine.prepare([data for data, _ in laid_out])
        columns = coordinate_columns(dataset, first, engine, raw=style.raw)
        for variable, (data, _) in zip(variables, laid_out, strict=True):
            columns.append(data_column(variable, data))
        return cls(columns, style, engine, first, laid_out[0][1])

    @property
    def ordered(self) -> bool:
        """Whether another order or number of rows is asked for."""
        return bool(self.style.sort or self.style.first)

    def stream(self, work: Callable[[Region], T]) -> Iterator[T]:
        """Yield what work makes of each block, in order."""
        _, total, regions = self.engine.blocks(self.first.data, self.block)
        what, nbytes = f"writing {self.first.name}", self.first.data.nbytes
        for _, result in self.engine.stream(work, regions, what, total, nbytes):
            yield result

    def frames(self) -> Iterator[pandas.DataFrame]:
        """Yield the rows that are asked for, in order; columns are numbered."""
        blocks = self.stream(functools.partial(_frame, self.columns))
        if self.ordered:
            yield _in_order(blocks, self.columns, self.style)
        else:
            yield from blocks


def _write_long(table: LongTable, file: IO[bytes]) -> None:
    titles = [safe_title(column) for column in table.columns]
    file.write(_csv(pandas.DataFrame(columns=titles), table.style, header=True))
    if table.ordered:
        for frame in table.frames():
            file.write(_csv(frame, table.style, header=False))
        return
    for text in table.stream(functools.partial(_rows, table.columns, table.style)):
        file.write(text)


def _in_order(
    frames: Iterator[pandas.DataFrame], columns: list[Column], style: TableStyle
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
    dataset: Dataset, file: IO[bytes], engine: Engine, style: TableStyle
) -> None:
    """Write one row for each cell and variable, and one column for each time.

    Raises
    ------
    DataError
        If there is no time axis.
    """
    variables = dataset.fields
    _need_one_shape(variables)
    first, axis = variables[0], dataset.need_time()
    along = first.dimensions.index(str(dataset.need(Role.TIME).dimension))
    unit = tuple(n if at == along else 1 for at, n in enumerate(first.shape))
    laid_out = [engine.in_units(variable.data, unit) for variable in variables]
    engine.prepare([data for data, _ in laid_out])
    described = [
        column
        for column in coordinate_columns(dataset, first, engine, raw=style.raw)
        if along not in column.axes
    ]
    times = whole_labels(axis)
    header = pandas.DataFrame(
        columns=[*(safe_title(column) for column in described), "variable", *times]
    )
    file.write(_csv(header, style, header=True))
    _, total, regions = engine.blocks(first.data, laid_out[0][1])
    arrays = [data for data, _ in laid_out]
    work = functools.partial(_wide_rows, style, described, variables, arrays, along)
    what, nbytes = f"writing {first.name}", first.data.nbytes
    for _, text in engine.stream(work, regions, what, total, nbytes):
        file.write(text)


def _wide_rows(
    style: TableStyle,
    described: list[Column],
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
        values = data_column(variable, data).as_written(
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


def _frame(columns: list[Column], region: Region) -> pandas.DataFrame:
    return pandas.DataFrame(
        {number: column.of(region) for number, column in enumerate(columns)}
    )


def _rows(columns: list[Column], style: TableStyle, region: Region) -> bytes:
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
