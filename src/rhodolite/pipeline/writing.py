"""Writing: a dataset, what goes beside it, or a figure; complete, or not at all."""

from __future__ import annotations

import dataclasses
import shutil
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Engine
from rhodolite.errors import OutputError
from rhodolite.formats.atomic_output import (
    OutputKind,
    check_output,
    complete_or_nothing,
    size_on_disk,
)
from rhodolite.formats.layout import USUAL_LAYOUT, Compression, Layout
from rhodolite.formats.registry import Format, format_for
from rhodolite.formats.stores.object_stores import address_of
from rhodolite.model.axes import Role
from rhodolite.model.cf.vocabulary import STUDY
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import count_longitudes_on
from rhodolite.pipeline.gif_comment import put_comment
from rhodolite.pipeline.provenance import Origin, add_provenance
from rhodolite.pipeline.splitting import output_kind, split_dataset
from rhodolite.plain_text import file_size

_MOST_ROWS = 10_000_000
"""Of a table; spreadsheets open a tenth of them."""
_MOST_SHRUNK = 50
"""Measured values do not compress by more than this."""


def write(
    dataset: Dataset,
    path: Path,
    *,
    engine: Engine,
    overwrite: bool = False,
    layout: Layout = USUAL_LAYOUT,
    also_read: Iterable[Path] = (),
    origin: Origin | None = None,
) -> tuple[int, int]:
    """Write a dataset in the format that the suffix names; complete, or not at all.

    Parameters
    ----------
    dataset : Dataset
    path : Path
        With a field such as ``{year}`` in its name it is a file for each year.
    engine : Engine
        What computes the values.
    overwrite : bool
        Whether existing files may be replaced.
    layout : Layout
        How the output is to lie on disk.
    also_read : iterable of Path
        Other files that must not be replaced.
    origin : Origin, optional
        What was typed besides the steps.

    Returns
    -------
    tuple of int
        Number of files and bytes written.

    Raises
    ------
    UsageError
        If no format has the suffix.
    OutputError
        If the output exists, is an input, or cannot be written.
    """
    chosen = format_for(path, layout)
    dataset, layout = _as_laid_out(dataset, layout)
    _refuse_what_cannot_be(dataset, path, chosen, layout)
    inputs = [*(file.path for file in dataset.files), *also_read]
    parts = split_dataset(dataset, path, engine)
    for name, _ in parts:
        check_output(path.with_name(name), overwrite, inputs, chosen.kind)
    if len(parts) > 1:
        _prepare_together([part for _, part in parts], engine)
    kind = output_kind(path, layout)
    in_folder = kind is OutputKind.MANY
    with complete_or_nothing(path, overwrite, inputs, kind) as temporary:
        for name, part in parts:
            place = temporary.with_name(name) if in_folder else temporary
            described = add_provenance(count_longitudes_on(part), origin)
            chosen.write(described, place, engine, layout)
        whole = temporary.parent if in_folder else temporary
        written, names = size_on_disk(whole), [path.name]
        if in_folder:
            names = sorted(file.name for file in whole.iterdir())
    if origin is not None:
        origin.tell([path.with_name(name) for name in names], dataset)
    return written


def _refuse_what_cannot_be(
    dataset: Dataset, path: Path, chosen: Format, layout: Layout
) -> None:
    """Refuse, before anything is computed, what is too long, too large, or an input."""
    if chosen.tabular and not layout.table.all_rows:
        _refuse_many_rows(dataset, path, layout)
    is_compressed = chosen.chunked and layout.compression is not Compression.NONE
    _check_room(dataset, path, is_compressed)
    _refuse_input(dataset, path)


def _prepare_together(parts: list[Dataset], engine: Engine) -> None:
    """Compute all at once, so that the parts share the passes over what they are made of."""
    engine.prepare([v.data for part in parts for v in part.variables.values()])


def _refuse_input(dataset: Dataset, path: Path) -> None:
    """Refuse to write to an address that is read from; of files it is asked where they are put."""
    address = address_of(path)
    if address is not None and any(file.address == address for file in dataset.files):
        raise OutputError(
            f"{address}: this is also an input, and inputs are never written to; choose another "
            "name"
        )


def _as_laid_out(dataset: Dataset, layout: Layout) -> tuple[Dataset, Layout]:
    """Return a dataset whose time can grow where that is asked for, and the layout of tables that
    the dataset has."""
    if layout.unlimited:
        time = str(dataset.need(Role.TIME).dimension)
        dataset = dataclasses.replace(dataset, unlimited=dataset.unlimited | {time})
    if dataset.wide:
        table = dataclasses.replace(layout.table, wide=True)
        layout = dataclasses.replace(layout, table=table)
    return dataset, layout


def _refuse_many_rows(dataset: Dataset, path: Path, layout: Layout) -> None:
    """Refuse a table that nobody could open, unless it is asked for.

    Raises
    ------
    OutputError
        With the number of rows.
    """
    size = max((variable.data.size for variable in dataset.fields), default=0)
    rows = size // max(len(dataset.need_time()), 1) if layout.table.wide else size
    if rows > _MOST_ROWS:
        raise OutputError(
            f"{path}: the table would have {rows:,} rows, one for each cell; take a part with "
            "subset, a mean with summarise or sites with extract, write .nc, or add --all if all "
            "of them are wanted"
        )


def _check_room(dataset: Dataset, path: Path, compressed: bool) -> None:
    """Refuse an output that cannot fit on its disk, before hours are spent on it.

    Raises
    ------
    OutputError
        With both sizes.
    """
    size = sum(
        variable.data.size
        * np.dtype(variable.storage.dtype or variable.data.dtype).itemsize
        for variable in dataset.variables.values()
    )
    folder = path.absolute().parent
    free = shutil.disk_usage(folder).free if folder.is_dir() else size
    if free == 0:  # some file systems do not say
        return
    if size > free * (_MOST_SHRUNK if compressed else 1):
        shrunk = (
            f", which no compression brings below {file_size(free)}"
            if compressed
            else ""
        )
        raise OutputError(
            f"{path}: the output would hold {file_size(size)}{shrunk}, and {file_size(free)} are "
            "free on its disk; take a smaller part, or write to another disk"
        )


def save_figure(figure: Any, path: Path, study: str | None = None) -> None:
    """Write a figure in the format that the suffix names.

    Parameters
    ----------
    figure : object
        Matplotlib figure.
    path : Path
    study : str, optional
        The study by which it can be made again, which is written into it.
    """
    from matplotlib import rc_context

    suffix = path.suffix.lower()
    # Letters as paths, and nothing that depends on the moment, so the same figure is the same file.
    with rc_context({"svg.hashsalt": "rhodolite", "svg.fonttype": "path"}):
        figure.savefig(
            path,
            metadata={
                ".png": {"Software": "rhodolite"} | ({STUDY: study} if study else {}),
                ".svg": {"Date": None} | ({"Description": study} if study else {}),
                ".pdf": {"CreationDate": None} | ({"Subject": study} if study else {}),
            }.get(suffix),
        )
    if suffix == ".gif" and study:
        put_comment(path, study)


def write_companions(
    companions: Mapping[str, Dataset],
    *,
    engine: Engine,
    overwrite: bool = False,
    inputs: Iterable[Path] = (),
) -> None:
    """Write what goes beside an output, such as the weights of a regridding.

    Parameters
    ----------
    companions : mapping of str to Dataset
        By the names of the files.
    engine : Engine
    overwrite : bool
        Whether existing files may be replaced.
    inputs : iterable of Path
        Files that must not be replaced.
    """
    inputs = list(inputs)
    for name, dataset in companions.items():
        chosen = format_for(Path(name))
        with complete_or_nothing(
            Path(name), overwrite, inputs, chosen.kind
        ) as temporary:
            chosen.write(dataset, temporary, engine)
