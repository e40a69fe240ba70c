"""Files read into a dataset, and a dataset written into files."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike
from typing import Any

from rhodolite.api.dataset import Dataset
from rhodolite.model.dataset import Dataset as PlainDataset


def read(
    inputs: str | PathLike[str] | Sequence[str | PathLike[str]],
    *,
    group: str | None = None,
    members: bool = False,
    missing_value: float | None = None,
    missing_text: Sequence[str] = (),
    columns: Sequence[str] = (),
    skip_unreadable: bool = False,
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
    missing_text : sequence of str
        What stands for missing values in tables, besides what is usual.
    columns : sequence of str
        What the columns of a table are called that has no header; units in brackets.
    skip_unreadable : bool
        Whether files that cannot be read are left out, with a warning that names them.

    Returns
    -------
    Dataset

    Raises
    ------
    DataError
        If there is no such file, one cannot be read, or they do not fit together.

    Examples
    --------
    >>> path = folder / "day.nc"
    >>> data.write(path)
    >>> rhodolite.read(path)["tas"].units
    'K'
    """
    from rhodolite.formats.reading_rules import ReadingRules
    from rhodolite.pipeline.inputs import Input

    rules = ReadingRules(tuple(missing_text), tuple(columns), skip_unreadable)
    given = [inputs] if isinstance(inputs, (str, PathLike)) else list(inputs)
    files = tuple(str(name) for name in given)
    source = Input("data", files, group, members, missing_value, rules=rules)
    return Dataset.of(source.open().together)


def write(dataset: PlainDataset, path: str | PathLike[str], **options: Any) -> None:
    """Compute a dataset block by block and write it; see `Dataset.write` for the options.

    Examples
    --------
    >>> path = folder / "all.nc"
    >>> rhodolite.write(data, path)
    >>> path.exists()
    True
    """
    Dataset.of(dataset).write(path, **options)
