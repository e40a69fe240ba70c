"""The files that a description is about: grids with dates in their names, or tables."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, InMemory, LazyArray, Region
from rhodolite.building.description import Description
from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.formats.concatenate import join
from rhodolite.formats.open import expand
from rhodolite.formats.registry import COMPRESSED, format_of
from rhodolite.formats.text.ascii_grid.reader import (
    GridArray,
    Header,
    axis_names,
    grid_axes,
    read_header,
)
from rhodolite.formats.text.csv.reader import dataset_of
from rhodolite.formats.text.csv.table import read_table
from rhodolite.formats.text.dates import time_variables
from rhodolite.formats.text.filename_pattern import DATE_FIELDS
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.time.period_text import Instant
from rhodolite.model.variable import Storage, Variable


class GridStack(LazyArray):
    """Grids of the same cells one after another, each in a file of its own; shape (times, rows,
    columns)."""

    dtype = np.dtype("f8")

    def __init__(self, grids: Sequence[GridArray]) -> None:
        self._grids = tuple(grids)
        self.shape = (len(grids), *grids[0].shape)
        self.chunks = (1, *grids[0].shape)

    def read(self, region: Region) -> Array:
        return np.stack([grid.read(region[1:]) for grid in self._grids[region[0]]])


def from_grids(files: Sequence[Path], description: Description) -> Dataset:
    """Return the dataset that grids with dates in their names form.

    Parameters
    ----------
    files : sequence of Path
    description : Description
        The description of the files.

    Raises
    ------
    DataError
        If a name does not fit, two grids are of the same time, or their cells differ.
    """
    dated = _find_dates(files, description)
    first = next(iter(dated[next(iter(dated))].values()))
    header = read_header(first)
    times = sorted(next(iter(dated.values())), key=lambda instant: instant.fields)
    variables = [*time_variables(times, description.calendar), *grid_axes(header)]
    for name, described in description.variables.items():
        if described.source not in dated:
            raise description.mistake(
                f"variables.{name}",
                "from",
                f"no file is of a variable '{described.source}'. "
                f"{nearest_names(described.source, dated)}",
            )
        grids_of = dated[described.source]
        if sorted(grids_of, key=lambda instant: instant.fields) != times:
            raise DataError(
                f"{description.path}: there are {len(grids_of)} grids of {name} and "
                f"{len(times)} of others; every variable needs the same times"
            )
        grids = [
            GridArray(
                grids_of[time],
                _same_cells(read_header(grids_of[time]), header, grids_of[time], first),
            )
            for time in times
        ]
        stack = GridStack(grids)
        variables.append(
            Variable(
                name,
                ("time", *axis_names(header)),
                stack,
                {},
                Storage(chunks=stack.chunks),
            )
        )
    sources = tuple(
        SourceFile(path, "Esri ASCII grid", path.stat().st_size)
        for by_time in dated.values()
        for path in by_time.values()
    )
    dataset = Dataset({v.name: v for v in variables}, {}, frozenset({"time"}), sources)
    if dataset.time is not None and dataset.time.step.missing:
        warn(
            f"{dataset.time.step.missing} of the times are left out ({dataset.time.step}, "
            f"{len(times)} files)"
        )
    return dataset


def find_files(inputs: Sequence[str], description: Description) -> list[Path]:
    """Return the files that are named, or those of a named folder that fit the pattern.

    Parameters
    ----------
    inputs : sequence of str
        Files, patterns and folders.
    description : Description

    Raises
    ------
    DataError
        If there are none.
    """
    if description.names is None:
        return [path for text in inputs for path in expand(text)]
    files: list[Path] = []
    for text in inputs:
        folder = Path(text)
        if not folder.is_dir():
            files += expand(text)
            continue
        fitting = [
            path
            for path in sorted(folder.iterdir())
            if description.names.read(path.name) is not None
        ]
        if not fitting:
            there = next(
                (path.name for path in sorted(folder.iterdir()) if path.is_file()), None
            )
            shown = f"; the first file in it is {there}" if there else "; it is empty"
            raise description.mistake(
                "input",
                "names",
                f"no file in {folder} fits '{description.names.text}'{shown}",
            )
        files += fitting
    return list(dict.fromkeys(files))


def _find_dates(
    files: Sequence[Path], description: Description
) -> dict[str, dict[Instant, Path]]:
    """Sort files by variable and time, as their names say."""
    assert description.names is not None
    only = next(iter(description.variables.values())).source
    if "variable" not in description.names.fields and len(description.variables) > 1:
        raise description.mistake(
            "input",
            "names",
            f"{len(description.variables)} variables are described, so the names need a place "
            "for it: '{variable}_{year}{month}.asc'",
        )
    dated: dict[str, dict[Instant, Path]] = {}
    for path in files:
        named, instant = _time_in_name(path, description)
        by_time = dated.setdefault(named or only, {})
        if instant in by_time:
            raise DataError(f"{by_time[instant]} and {path} are both of {instant}")
        by_time[instant] = path
    return dated


def _time_in_name(path: Path, description: Description) -> tuple[str | None, Instant]:
    """Return the variable, where there is a place for it, and the time that a file's name says.

    Raises
    ------
    DataError
        If the name does not fit.
    """
    assert description.names is not None
    fields = description.names.read(path.name)
    if fields is None:
        raise description.mistake(
            "input",
            "names",
            f"the file {path.name} does not fit '{description.names.text}'",
        )
    parts = tuple(int(fields[name]) for name in DATE_FIELDS if name in fields)
    return fields.get("variable"), Instant(parts)


def _at_its_time(
    dataset: Dataset, description: Description, named: str | None, instant: Instant
) -> Dataset:
    """Return what a table without times holds at the time that its name says.

    Raises
    ------
    DataError
        If it has times of its own.
    """
    if dataset.time is not None:
        raise DataError(
            f"{dataset.label}: the table has times of its own; leave [input] names out of "
            f"{description.path.name}"
        )
    fields = dataset.fields
    only = next(iter(description.variables.values())).source
    variables = [v for v in dataset.variables.values() if v not in fields]
    for variable in fields:
        # A matrix has no name but that of its file.
        source = variable.name if len(fields) > 1 else named or only
        values = InMemory(variable.values()[np.newaxis])
        variables.append(
            variable.replace(
                name=source, dimensions=("time", *variable.dimensions), data=values
            )
        )
    return dataset.with_variables(
        [*time_variables([instant], description.calendar), *variables]
    )


def _same_cells(header: Header, first: Header, path: Path, other: Path) -> Header:
    """Return a header whose cells are those of the first grid.

    Raises
    ------
    DataError
        If they are not; the message names both files and what differs.
    """
    for what, key in (
        ("columns", "columns"),
        ("rows", "rows"),
        ("western edge", "west"),
        ("southern edge", "south"),
        ("cell size", "cell"),
    ):
        here, there = getattr(header, key), getattr(first, key)
        if abs(here - there) > 1e-6 * first.cell:
            raise DataError(
                f"{path.name} and {other.name} do not fit together: {what} {here:g} and {there:g}"
            )
    return header


def _refuse_no_text(path: Path) -> None:
    """Refuse tables that are no text, whose columns are not described but named."""
    kind = format_of(path)
    if kind.extra or kind is COMPRESSED:
        raise DataError(
            f"{path}: build reads tables of text, and this is {kind.name}; save it as CSV"
        )


def from_tables(files: Sequence[Path], description: Description) -> Dataset:
    """Return the dataset that tables form, with the columns that are described.

    Parameters
    ----------
    files : sequence of Path
    description : Description
        The description of the files.

    Raises
    ------
    DataError
        If a column is not there.
    """
    dataset = join([_from_table(path, description) for path in files])
    names = {
        described.source: name for name, described in description.variables.items()
    }
    offered = [v.name for v in dataset.variables.values() if v.data.dtype.kind == "f"]
    for source, name in names.items():
        if source not in offered:
            raise description.mistake(
                f"variables.{name}",
                "from",
                f"there is no column '{source}' of numbers. {nearest_names(source, offered)}",
            )
    left = [v.name for v in dataset.fields if v.name not in names]
    if left:
        warn(
            f"left out, since {description.path.name} does not describe them: {', '.join(left)}"
        )
    return dataset.with_variables(
        v.replace(name=names.get(v.name, v.name))
        for v in dataset.variables.values()
        if v.name not in left
    )


def _from_table(path: Path, description: Description) -> Dataset:
    """Return the dataset of one table, at the time that its name says where names tell it."""
    _refuse_no_text(path)
    table = read_table(path, set(description.columns.values()))
    for role, column in description.columns.items():
        if column not in table.cells.columns:
            raise description.mistake(
                "columns",
                role,
                f"{path.name} has no column '{column}'. "
                f"{nearest_names(column, table.cells.columns)}",
            )
    dataset = dataset_of(table.with_roles(description.columns), description.calendar)
    if description.names is None:
        return dataset
    return _at_its_time(dataset, description, *_time_in_name(path, description))
