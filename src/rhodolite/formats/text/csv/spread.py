"""Data along a dimension as a column for each of its places."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Selected, WithoutAxis
from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import dimension_called, labels_along
from rhodolite.model.variable import Variable

_MOST = 10_000
"""Columns of a table, which no spreadsheet holds more of."""


def spread_across(dataset: Dataset, word: str) -> Dataset:
    """Return a dataset with a variable for each place along a dimension, called after it; after the
    variable as well where there are several.

    Parameters
    ----------
    dataset : Dataset
    word : str
        Name of the dimension, or of what lies along it.

    Raises
    ------
    DataError
        If there is none, its places have no names of their own, or they are very many.
    """
    dimension = dimension_called(dataset, word)
    labels = labels_along(dataset, dimension)
    if len(set(labels)) < len(labels):
        raise DataError(
            f"--across {word}: several places along {dimension} have the same name"
        )
    wide = [v for v in dataset.fields if dimension in v.dimensions]
    if len(labels) * len(wide) > _MOST:
        raise DataError(
            f"--across {word}: there would be {len(labels) * len(wide):,} columns, and {_MOST:,} "
            "are the most"
        )
    others = {
        v.name: v for v in dataset.variables.values() if dimension not in v.dimensions
    }
    spread: dict[str, Variable] = {}
    for variable in wide:
        for at, label in enumerate(labels):
            name = label if len(wide) == 1 else f"{variable.name} {label}"
            if name in others:
                raise DataError(f"--across {word}: a column is called '{name}' already")
            spread[name] = _at_place(variable, dimension, at).replace(name=name)
    return dataset.with_variables([*others.values(), *spread.values()])


def _at_place(variable: Variable, dimension: str, at: int) -> Variable:
    along = variable.dimensions.index(dimension)
    picks = [
        np.array([at]) if axis == along else None for axis in range(variable.data.ndim)
    ]
    left = tuple(name for name in variable.dimensions if name != dimension)
    data = WithoutAxis(Selected(variable.data, picks), along)
    return variable.replace(dimensions=left, data=data)
