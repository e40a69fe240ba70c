"""One output as a file for each year, month, member, variable or region, by fields in its name."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.atomic_output import OutputKind
from rhodolite.formats.layout import Layout
from rhodolite.formats.registry import format_for
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import member_dimension
from rhodolite.model.indexing import take
from rhodolite.model.labels import labels_along
from rhodolite.operations.selection.indices import take_steps

_FIELD = re.compile(r"\{(\w*)\}")
_UNSAFE = re.compile(r"[^\w.+-]+")
Part = tuple[str, Dataset]
"""What stands in a name in place of a field, and the data of it."""


def output_kind(path: Path, layout: Layout | None = None) -> OutputKind:
    """Return what an output is on disk; with fields in its name it is many files.

    Raises
    ------
    UsageError
        If no format has the suffix, or there is no such field.
    """
    chosen = format_for(path, layout)
    return OutputKind.MANY if fields_of(path) else chosen.kind


def fields_of(path: Path) -> list[str]:
    """Return the fields in a name by which data are split; a text grid names its maps itself.

    Raises
    ------
    UsageError
        If there is no such field.
    """
    fields = list(dict.fromkeys(_FIELD.findall(path.name)))
    if format_for(path).kind is OutputKind.MANY:
        return [name for name in fields if name in _OF_GRIDS]
    for name in fields:
        if name not in _SPLITS:
            raise UsageError(
                f"{path}: there is no field '{{{name}}}'. {nearest_names(name, list(_SPLITS))}"
            )
    return fields


def split_dataset(
    dataset: Dataset, path: Path, engine: Engine
) -> list[tuple[str, Dataset]]:
    """Return the parts of a dataset by the names of their files; the whole where there are no
    fields.

    Parameters
    ----------
    dataset : Dataset
    path : Path
        Whose name has fields such as ``{year}``.
    engine : Engine

    Raises
    ------
    DataError
        If the data have no times, members or regions to be split by.
    UsageError
        If two parts would have the same name.
    """
    parts = [(path.name, dataset)]
    for field in fields_of(path):
        parts = [
            (name.replace(f"{{{field}}}", word), part)
            for name, whole in parts
            for word, part in _SPLITS[field](whole, engine)
        ]
    names = [name for name, _ in parts]
    repeated = next((name for name in names if names.count(name) > 1), None)
    if repeated is not None:
        raise UsageError(f"{path}: two parts would both be called {repeated}")
    return parts


def _by_year(dataset: Dataset, _: Engine) -> Iterator[Part]:
    return _by_steps(dataset, _years(dataset), "{:04d}".format)


def _by_decade(dataset: Dataset, _: Engine) -> Iterator[Part]:
    # The same ten years as those of `aggregate --to decade`.
    firsts = (_years(dataset) - 1) // 10 * 10 + 1
    return _by_steps(dataset, firsts, lambda first: f"{first:04d}-{first + 9:04d}")


def _by_month(dataset: Dataset, _: Engine) -> Iterator[Part]:
    return _by_steps(dataset, dataset.need_time().months, "{:02d}".format)


def _years(dataset: Dataset) -> Array:
    axis = dataset.need_time()
    if axis.climatological:
        raise DataError(
            f"{dataset.label}: a mean cycle has no years to be split by; there is {{month}}"
        )
    return axis.named_years


def _by_steps(
    dataset: Dataset, keys: Array, write: Callable[[int], str]
) -> Iterator[Part]:
    for key in np.unique(keys):
        yield write(int(key)), take_steps(dataset, np.flatnonzero(keys == key))


def _by_variable(dataset: Dataset, _: Engine) -> Iterator[Part]:
    for variable in dataset.fields:
        yield _plain(variable.name), dataset.restrict([variable.name])


def _by_member(dataset: Dataset, _: Engine) -> Iterator[Part]:
    return _by_labels(dataset, member_dimension(dataset))


def _by_region(dataset: Dataset, _: Engine) -> Iterator[Part]:
    if "region" not in dataset.lengths:
        raise DataError(
            f"{dataset.label}: there is no dimension of regions; there are "
            f"{', '.join(dataset.lengths)}. summarise --over area --region A,B makes one"
        )
    return _by_labels(dataset, "region")


def _by_labels(dataset: Dataset, dimension: str) -> Iterator[Part]:
    """Yield the part at each place of a dimension, under its name."""
    for at, label in enumerate(labels_along(dataset, dimension)):
        yield _plain(label), take(dataset, {dimension: np.array([at])})


def _plain(word: str) -> str:
    """Return a word as it can stand in the name of a file."""
    return _UNSAFE.sub("_", word).strip("._") or "unnamed"


_SPLITS: Mapping[str, Callable[[Dataset, Engine], Iterator[Part]]] = {
    "year": _by_year,
    "decade": _by_decade,
    "month": _by_month,
    "member": _by_member,
    "variable": _by_variable,
    "region": _by_region,
}
_OF_GRIDS = ("decade", "member", "region")
"""Fields of names of text grids by which data are split before they are written; the others are of
a single map."""
