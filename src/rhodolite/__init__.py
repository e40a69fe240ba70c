"""Rhodolite: read gridded climate data, calculate with them, draw them, write them.

Examples
--------
>>> import rhodolite
>>> data = rhodolite.read("nordic_daily_*.nc")  # doctest: +SKIP
>>> departures = rhodolite.Anomaly(base="2012..2016")(data)  # doctest: +SKIP
>>> rhodolite.write(departures, "departures.nc")  # doctest: +SKIP
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhodolite.version import __version__

if TYPE_CHECKING:
    from rhodolite.model.dataset import Dataset

_FACE = {
    "Subset": "rhodolite.operations.subset",
    "Extract": "rhodolite.operations.extract",
    "Annotate": "rhodolite.operations.annotate",
    "Convert": "rhodolite.operations.convert",
    "Calc": "rhodolite.operations.calc",
    "Aggregate": "rhodolite.operations.aggregate",
    "Accumulate": "rhodolite.operations.accumulate",
    "Climatology": "rhodolite.operations.climatology",
    "Anomaly": "rhodolite.operations.anomaly",
    "Index": "rhodolite.operations.index",
    "Trend": "rhodolite.operations.trend",
    "Detrend": "rhodolite.operations.detrend",
    "Correlate": "rhodolite.operations.correlate",
    "Summarise": "rhodolite.operations.summarise",
    "Regrid": "rhodolite.operations.regrid",
    "Relevel": "rhodolite.operations.relevel",
    "Compare": "rhodolite.operations.compare",
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

__all__ = ["__version__", "read", "write", *_FACE]


def __getattr__(name: str) -> Any:
    """Import the parts of the face when they are first used, so that importing the package is
    quick."""
    if name in _FACE:
        from importlib import import_module

        return getattr(import_module(_FACE[name]), name)
    raise AttributeError(f"module 'rhodolite' has no attribute '{name}'")


def read(
    inputs: str | Path | Sequence[str | Path], *, group: str | None = None, members: bool = False
) -> Dataset:
    """Open files as the one dataset that they form; values are read when they are needed.

    Parameters
    ----------
    inputs : str, Path or a sequence of them
        Files, patterns such as ``nordic_daily_*.nc``, and addresses of DAP2 servers.
    group : str, optional
        The group to read of files that have groups.
    members : bool
        Whether the inputs are the members of an ensemble, on one grid, and not parts of one
        dataset.

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.
    """
    if members:
        from rhodolite.formats.normalise import normalise
        from rhodolite.operations.pairing.ensemble import stack_members
        from rhodolite.pipeline.chain import open_members

        given = [inputs] if isinstance(inputs, (str, Path)) else list(inputs)
        datasets, names = open_members([str(one) for one in given], group)
        return stack_members([normalise(dataset) for dataset in datasets], names)
    from rhodolite.formats.open import open_dataset

    return open_dataset(inputs, group=group)


def write(
    dataset: Dataset,
    path: str | Path,
    *,
    overwrite: bool = False,
    workers: int | None = None,
    memory: int | None = None,
    format: str | None = None,
    chunks: str | None = None,
    compression: str | None = None,
    unlimited: bool = False,
) -> None:
    """Compute a dataset block by block and write it in the format that the suffix names.

    Parameters
    ----------
    dataset : Dataset
    path : str or Path
        Such as ``result.nc``. Appears only when it is complete.
    overwrite : bool
        Whether an existing file may be replaced.
    workers : int, optional
        Blocks to work on at once; the number of cores by default.
    memory : int, optional
        Bytes that the blocks in flight may take together; 1 GiB by default.
    format : str, optional
        A variant of what the suffix names, such as ``netcdf3-classic`` or ``zarr2``.
    chunks : str, optional
        What the pieces on disk are to be good for: ``map``, ``series`` or ``balanced``.
    compression : str, optional
        How much work goes into a small output: ``none``, ``fast`` (by default) or ``small``.
    unlimited : bool
        Whether time is to be a dimension that can grow.

    Raises
    ------
    UsageError
        If no format has the suffix.
    OutputError
        If the output exists, is an input, or cannot be written.
    """
    from rhodolite.arrays import default_engine
    from rhodolite.formats.layout import make_layout
    from rhodolite.pipeline.writing import write as write_dataset

    engine = default_engine(workers=workers, memory=memory)
    layout = make_layout(format, chunks, compression, unlimited)
    write_dataset(dataset, Path(path), engine=engine, overwrite=overwrite, layout=layout)
