"""Writing tables: one row for each cell and time, streamed."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas

from rhodolite.arrays import Array, Engine, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.formats.chunking import Layout
from rhodolite.formats.csv.table import column_title
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time import TimeAxis
from rhodolite.model.variable import Variable


@dataclass(frozen=True)
class _Column:
    """One column of the table: values along some of the table's dimensions, written in a type."""

    title: str
    axes: tuple[int, ...]
    data: LazyArray | Array
    dtype: str | None = None
    missing: int | None = None

    def of(self, region: Region) -> Any:
        """Return the column's cells for a block of the table."""
        inner = tuple(region[axis] for axis in self.axes)
        values = self.data[inner] if isinstance(self.data, np.ndarray) else self.data.read(inner)
        shape = tuple(part.stop - part.start for part in region)
        if self.dtype is not None:
            values = values.astype(self.dtype)
        aligned = values.reshape([shape[axis] if axis in self.axes else 1 for axis in range(len(shape))])
        flat = np.broadcast_to(aligned, shape).reshape(-1)
        return flat if self.missing is None else pandas.arrays.IntegerArray(flat.copy(), flat == self.missing)


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:  # noqa: ARG001
    """Write the data variables of a dataset as one table.

    Raises
    ------
    DataError
        If the variables do not run over the same dimensions.
    """
    variables = dataset.data_variables
    if not variables:
        raise DataError("there is no variable to write a table of")
    first = variables[0]
    for variable in variables[1:]:
        if variable.dimensions != first.dimensions:
            raise DataError(
                f"a table has one row for each cell, but {first.name} runs over ({', '.join(first.dimensions)}) and "
                f"{variable.name} over ({', '.join(variable.dimensions)}); choose with --variable {first.name}"
            )
    if dataset.wide_table:
        _write_wide(dataset, variables, path, engine)
        return
    # Rows follow each other in the order of the dimensions, so blocks hold all of the later ones.
    unit = (1, *first.shape[1:]) if first.shape else ()
    laid_out = [engine.in_units(variable.data, unit) for variable in variables]
    engine.prepare([data for data, _ in laid_out])
    described = _coordinate_columns(dataset, first, engine)
    columns = [*described, *(_data_column(v, data) for v, (data, _) in zip(variables, laid_out, strict=True))]
    with path.open("wb") as file:
        file.write(
            pandas.DataFrame(columns=[c.title for c in columns]).to_csv(index=False, lineterminator="\r\n").encode()
        )
        _, total, regions = engine.blocks(first.data, laid_out[0][1])
        for _, text in engine.stream(
            functools.partial(_rows, columns), regions, f"writing {first.name}", total, first.data.nbytes
        ):
            file.write(text)


def _write_wide(dataset: Dataset, variables: tuple[Variable, ...], path: Path, engine: Engine) -> None:
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
    described = [column for column in _coordinate_columns(dataset, first, engine) if along not in column.axes]
    titles = [column.title for column in described] + ([] if len(variables) == 1 else ["variable"])
    header = pandas.DataFrame(columns=[*titles, *_date_texts(axis)])
    with path.open("wb") as file:
        file.write(_csv(header, header=True))
        _, total, regions = engine.blocks(first.data, laid_out[0][1])
        work = functools.partial(_wide_rows, described, variables, [data for data, _ in laid_out], along)
        for _, text in engine.stream(work, regions, f"writing {first.name}", total, first.data.nbytes):
            file.write(text)


def _wide_rows(described: list[_Column], variables: tuple[Variable, ...], arrays: list[LazyArray], along: int,
               region: Region) -> bytes:  # fmt: skip
    single = tuple(slice(0, 1) if at == along else part for at, part in enumerate(region))
    before = pandas.DataFrame({number: column.of(single) for number, column in enumerate(described)})
    parts = []
    for variable, data in zip(variables, arrays, strict=True):
        block = np.moveaxis(data.read(region), along, -1)
        values = block.reshape(-1, block.shape[-1])
        values = values.astype("float32") if variable.storage.dtype == "float32" else values
        name = [] if len(variables) == 1 else [pandas.Series(variable.name, index=before.index)]
        parts.append(pandas.concat([before, *name, pandas.DataFrame(values)], axis=1, ignore_index=True))
    # The variables of a site stand below each other.
    return _csv(pandas.concat(parts).sort_index(kind="stable"), header=False)


def _data_column(variable: Variable, data: LazyArray) -> _Column:
    # What was unpacked from 16 bits has no more figures than single precision.
    dtype = "float32" if variable.storage.dtype == "float32" else None
    return _Column(column_title(variable.name, variable.units), tuple(range(data.ndim)), data, dtype, variable.missing)


def _rows(columns: list[_Column], region: Region) -> bytes:
    return _csv(pandas.DataFrame({number: column.of(region) for number, column in enumerate(columns)}), header=False)


def _csv(frame: pandas.DataFrame, *, header: bool) -> bytes:
    return str(frame.to_csv(index=False, header=header, lineterminator="\r\n")).encode()


def _coordinate_columns(dataset: Dataset, variable: Variable, engine: Engine) -> list[_Column]:
    """Return a column for each coordinate of a variable: its dimensions first, then what lies along them."""
    made = []
    time = dataset.coordinate(Role.TIME)
    for axis, name in enumerate(variable.dimensions):
        along = next((c for c in dataset.axes.by_role.values() if c.dimension == name), None)
        if along is not None and along is time and dataset.time is not None:
            made.append(_Column(along.name, (axis,), _date_texts(dataset.time)))
        elif along is not None:
            values = engine.compute(along.variable.data)
            made.append(_Column(_title(along.role, along.name, along.variable.units), (axis,), values))
        elif name in dataset.variables and dataset.variables[name].dimensions == (name,):
            described = dataset.variables[name]
            made.append(_Column(column_title(name, described.units), (axis,), engine.compute(described.data)))
    listed = str(variable.attributes.get("coordinates", "")).split()
    for name in [*listed, *(dataset.axes.curvilinear or ())]:
        other = dataset.variables.get(name)
        if other is None or not other.dimensions or any(column.title.split(" [")[0] == name for column in made):
            continue
        if set(other.dimensions) <= set(variable.dimensions):
            axes = tuple(variable.dimensions.index(dimension) for dimension in other.dimensions)
            made.append(_Column(_title(None, name, other.units), axes, engine.compute(other.data)))
    return made


def _title(role: Role | None, name: str, units: str | None) -> str:
    """Return the header of a coordinate's column; degrees go without saying."""
    plain = role in (Role.LATITUDE, Role.LONGITUDE) or (units or "").startswith("degrees")
    return name if plain else column_title(name, units)


def _date_texts(axis: TimeAxis) -> Any:
    """Return times in ISO 8601, no finer than they need be: a month for monthly data, a day for daily ones."""
    form = {"year": "%Y", "month": "%Y-%m", "day": "%Y-%m-%d"}.get(axis.resolution.unit, "%Y-%m-%dT%H:%M:%S")
    if axis.resolution.unit in ("irregular", "single") and all((d.hour, d.minute) == (0, 0) for d in axis.dates):
        form = "%Y-%m-%d"
    return np.array([date.strftime(form) for date in axis.reference_dates], dtype=object)
