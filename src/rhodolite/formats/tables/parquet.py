"""Apache Parquet: read as a table of text would be, written block by block."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pandas

from rhodolite.arrays import Engine
from rhodolite.errors import UsageError
from rhodolite.formats.layout import Compression, Layout
from rhodolite.formats.tables.frames import read_as_text, saying_what_is_wrong
from rhodolite.formats.text.csv.columns import column_title, split_title
from rhodolite.formats.text.csv.writer import LongTable
from rhodolite.limits import check_held
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_KEPT = ("standard_name", "long_name", "cell_methods", "units_metadata")
"""Attributes that a column carries: of a temperature they say whether it is a difference."""
_COMPRESSIONS = {
    Compression.NONE: "none",
    Compression.FAST: "snappy",
    Compression.SMALL: "zstd",
}


def read(path: Path) -> Dataset:
    """Open a table as a dataset.

    Raises
    ------
    DataError
        If it is damaged, too large to be held, or has no columns of times or places.
    """
    with saying_what_is_wrong(path):
        frame = _read_frame(path)
        said = _read_attributes(path)
    dataset = read_as_text(path, "Parquet", frame)
    return dataset.with_variables(
        variable.edit(**said.get(variable.name, {}))
        for variable in dataset.variables.values()
    )


def _read_attributes(path: Path) -> dict[str, dict[str, str]]:
    """Return what the file says of its columns, as `write` leaves it there, by the names of
    variables."""
    from pyarrow import parquet

    said = {}
    for column in parquet.read_schema(path):
        known = {key.decode(): text for key, text in (column.metadata or {}).items()}
        words = {key: known[key].decode() for key in _KEPT if key in known}
        said[split_title(column.name)[0]] = words
    return said


def _read_frame(path: Path) -> pandas.DataFrame:
    from pyarrow import parquet

    about = parquet.read_metadata(path)
    groups = range(about.num_row_groups)
    check_held(sum(about.row_group(n).total_byte_size for n in groups), str(path))
    frame = parquet.read_table(path).to_pandas()
    named = [name for name in frame.index.names if name is not None]
    return frame.reset_index() if named else frame


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write the data variables of a dataset as one table of one row a value.

    Raises
    ------
    DataError
        If the variables do not have the same dimensions.
    """
    if layout.table.wide:
        raise UsageError(
            f"{path.name}: a table with a column for each time is written as .csv"
        )
    # What a spreadsheet would run as a formula is nothing here.
    table = LongTable.of(dataset, engine, replace(layout.table, raw=True))
    titles = [column.title for column in table.columns]
    said = {column_title(v.name, v.units): _attributes_of(v) for v in dataset.fields}
    _write_frames(path, table, titles, said, _COMPRESSIONS[layout.compression])


def _attributes_of(variable: Variable) -> dict[str, str]:
    """Return what is written of a variable beside its name and units."""
    return {
        key: str(variable.attributes[key])
        for key in _KEPT
        if key in variable.attributes
    }


def _write_frames(
    path: Path,
    table: LongTable,
    titles: list[str],
    said: dict[str, dict[str, str]],
    compression: str,
) -> None:
    import pyarrow
    from pyarrow import parquet

    writer: Any = None
    try:
        for frame in table.frames():
            frame.columns = pandas.Index(titles)
            schema = None if writer is None else writer.schema
            rows = pyarrow.Table.from_pandas(frame, schema=schema, preserve_index=False)
            if writer is None:
                fields = [f.with_metadata(said.get(f.name, {})) for f in rows.schema]
                schema = pyarrow.schema(fields)
                writer = parquet.ParquetWriter(path, schema, compression=compression)
            writer.write_table(rows.cast(writer.schema))
    finally:
        if writer is not None:
            writer.close()
