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
    """
    from rhodolite.formats.normalise import declare_missing, normalise
    from rhodolite.formats.open import open_dataset
    from rhodolite.formats.reading_rules import ReadingRules, reading_by

    rules = ReadingRules(tuple(missing_text), tuple(columns), skip_unreadable)
    given = [inputs] if isinstance(inputs, (str, PathLike)) else list(inputs)
    names = [str(name) for name in given]
    if members:
        from rhodolite.operations.pairing.ensemble import stack_members
        from rhodolite.pipeline.chain import open_members

        with reading_by(rules):
            datasets, labels = open_members(names, group)
        dataset = stack_members([normalise(member) for member in datasets], labels)
    else:
        with reading_by(rules):
            dataset = open_dataset(names, group=group)
    if missing_value is not None:
        dataset = declare_missing(dataset, missing_value)
    return Dataset.of(dataset)


def write(dataset: PlainDataset, path: str | PathLike[str], **options: Any) -> None:
    """Compute a dataset block by block and write it; see `Dataset.write` for the options."""
    Dataset.of(dataset).write(path, **options)
