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
from rhodolite.formats.text.csv.writer import LongTable
from rhodolite.limits import check_held
from rhodolite.model.dataset import Dataset

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
    return read_as_text(path, "Parquet", frame)


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
    _write_frames(path, table, titles, _COMPRESSIONS[layout.compression])


def _write_frames(
    path: Path, table: LongTable, titles: list[str], compression: str
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
                schema = rows.schema.remove_metadata()
                writer = parquet.ParquetWriter(path, schema, compression=compression)
            writer.write_table(rows.replace_schema_metadata(None))
    finally:
        if writer is not None:
            writer.close()
