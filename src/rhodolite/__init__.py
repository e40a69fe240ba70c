"""Rhodolite: read gridded climate data, calculate with them, draw them, write them.

Examples
--------
>>> import rhodolite
>>> data = rhodolite.read("nordic_daily_*.nc")  # doctest: +SKIP
>>> data.anomaly(base="2012..2016").write("departures.nc")  # doctest: +SKIP
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhodolite.version import __version__

if TYPE_CHECKING:
    from rhodolite.arrays.engine import Engine as Engine
    from rhodolite.errors import DataError as DataError
    from rhodolite.errors import OutputError as OutputError
    from rhodolite.errors import RhodoliteError as RhodoliteError
    from rhodolite.errors import RhodoliteWarning as RhodoliteWarning
    from rhodolite.errors import UsageError as UsageError
    from rhodolite.model.dataset import Dataset as Dataset
    from rhodolite.model.variable import Variable as Variable

_VERBS = (
    "Subset",
    "Extract",
    "Annotate",
    "Convert",
    "Calc",
    "Aggregate",
    "Accumulate",
    "Climatology",
    "Anomaly",
    "Index",
    "Trend",
    "Detrend",
    "Correlate",
    "Summarise",
    "Regrid",
    "Relevel",
    "Compare",
)
_PLACES = {
    **{name: f"rhodolite.operations.{name.lower()}" for name in _VERBS},
    "Map": "rhodolite.drawing.plots.map",
    "Panels": "rhodolite.drawing.plots.panels",
    "Series": "rhodolite.drawing.plots.series",
    "YearOverlay": "rhodolite.drawing.plots.year_overlay",
    "Profile": "rhodolite.drawing.plots.profile",
    "Section": "rhodolite.drawing.plots.section",
    "Animation": "rhodolite.drawing.plots.animation",
    "Dataset": "rhodolite.model.dataset",
    "Variable": "rhodolite.model.variable",
    "Engine": "rhodolite.arrays.engine",
    "RhodoliteError": "rhodolite.errors",
    "DataError": "rhodolite.errors",
    "UsageError": "rhodolite.errors",
    "OutputError": "rhodolite.errors",
    "RhodoliteWarning": "rhodolite.errors",
}
"""Where the names of the face live; each is imported when it is first used."""

__all__ = ["__version__", "from_arrays", "from_pandas", "read", "write", *_PLACES]


def __getattr__(name: str) -> Any:
    """Import the parts of the face when they are first used, so that the package loads quickly."""
    if name in ("from_arrays", "from_pandas"):
        return getattr(import_module("rhodolite.model.dataset").Dataset, name)
    if name in _PLACES:
        return getattr(import_module(_PLACES[name]), name)
    raise AttributeError(f"module 'rhodolite' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)


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
    names = [str(one) for one in given]
    if members:
        from rhodolite.operations.pairing.ensemble import stack_members
        from rhodolite.pipeline.chain import open_members

        datasets, labels = open_members(names, group)
        dataset = stack_members([normalise(one) for one in datasets], labels)
    else:
        dataset = open_dataset(names, group=group)
    return dataset if missing_value is None else declare_missing(dataset, missing_value)


def write(
    dataset: Dataset,
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
