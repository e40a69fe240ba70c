"""Files read into a dataset, and a dataset written into files."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike
from pathlib import Path

from rhodolite.api.dataset import Dataset
from rhodolite.model.dataset import Dataset as PlainDataset


def read(
    inputs: str | PathLike[str] | Sequence[str | PathLike[str]],
    *,
    group: str | None = None,
    members: bool = False,
    missing_value: float | None = None,
) -> Dataset:
    """Open files as the one dataset that they form; values are read when they are needed.

    Files are opened for as long as they are read from, so there is nothing to close.

    Parameters
    ----------
    inputs : str, path or a sequence of them
        Files, patterns such as ``nordic_daily_*.nc``, and addresses of DAP2 servers.
    group : str, optional
        The group to read of files that have groups.
    members : bool
        Whether the inputs are the members of an ensemble, on one grid, and not parts of one
        dataset.
    missing_value : float, optional
        A number that stands for missing values, where the files do not say so.

    Returns
    -------
    Dataset

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.
    """
    from rhodolite.formats.normalise import declare_missing, normalise
    from rhodolite.formats.open import open_dataset

    given = [inputs] if isinstance(inputs, (str, PathLike)) else list(inputs)
    names = [str(name) for name in given]
    if members:
        from rhodolite.operations.pairing.ensemble import stack_members
        from rhodolite.pipeline.chain import open_members

        datasets, labels = open_members(names, group)
        dataset = stack_members([normalise(member) for member in datasets], labels)
    else:
        dataset = open_dataset(names, group=group)
    if missing_value is not None:
        dataset = declare_missing(dataset, missing_value)
    return Dataset.of(dataset)


def write(
    dataset: PlainDataset,
    path: str | PathLike[str],
    *,
    overwrite: bool = False,
    workers: int | None = None,
    memory: int | str | None = None,
    format: str | None = None,
    chunks: str | None = None,
    compression: str | None = None,
    unlimited: bool = False,
    checksums: bool = True,
    all_rows: bool = False,
) -> None:
    """Compute a dataset block by block and write it in the format that the suffix names.

    Parameters
    ----------
    dataset : Dataset
    path : str or path
        Such as ``result.nc``. Appears only when it is complete. With fields in the name, such as
        ``rain_{year}.nc``, a file for each year, decade, month, member, variable or region.
    overwrite : bool
        Whether an existing file may be replaced.
    workers : int, optional
        Blocks to work on at once; the number of cores by default.
    memory : int or str, optional
        Bytes that the blocks in flight may take together, or a size such as ``"512MiB"``; 1 GiB
        by default.
    format : str, optional
        A variant of what the suffix names, such as ``netcdf3-classic`` or ``zarr2``.
    chunks : {"map", "series", "balanced"}, optional
        Access pattern to optimise chunking for.
    compression : {"none", "fast", "small"}, optional
        Compression level; fast by default.
    unlimited : bool
        Whether time is to be a dimension that can grow.
    checksums : bool
        Whether chunks carry checksums, by which readers notice damage.
    all_rows : bool
        Whether a table may have more than 10 million rows.

    Raises
    ------
    UsageError
        If no format has the suffix.
    OutputError
        If the output exists, is an input, or cannot be written.
    """
    from rhodolite.arrays import default_engine, parse_memory
    from rhodolite.formats.layout import make_layout
    from rhodolite.pipeline.writing import write as write_dataset
    from rhodolite.pipeline.writing import write_companions

    allowed = parse_memory(memory) if isinstance(memory, str) else memory
    engine = default_engine(workers=workers, memory=allowed)
    layout = make_layout(
        format, chunks, compression, unlimited, checksums=checksums, all_rows=all_rows
    )
    write_dataset(dataset, Path(path), engine=engine, overwrite=overwrite, layout=layout)
    write_companions(dataset.companions, engine=engine, overwrite=overwrite)
