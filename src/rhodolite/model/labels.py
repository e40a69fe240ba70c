"""What the places along a dimension are called, and which dimension a word means."""

from __future__ import annotations

import numpy as np

from rhodolite.errors import DataError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.variable import Variable


def labels_along(dataset: Dataset, dimension: str) -> list[str]:
    """Return what the places along a dimension are called: by a text along it, by its coordinate,
    or by their numbers from 1.

    Parameters
    ----------
    dataset : Dataset
    dimension : str
    """
    time = dataset.coordinate(Role.TIME)
    if time is not None and time.dimension == dimension:
        return [str(label) for label in time_labels(dataset.need_time())]
    along = [v for v in dataset.variables.values() if v.dimensions == (dimension,)]
    telling = _what_names(along, dimension)
    if telling is not None:
        return [_written(value) for value in telling.values()]
    return [str(number) for number in range(1, dataset.lengths[dimension] + 1)]


def _what_names(along: list[Variable], dimension: str) -> Variable | None:
    """Return which of the variables along a dimension names its places best: a text, that of sites
    first, before numbers."""
    texts = sorted((v for v in along if not v.numeric), key=_tells_sites, reverse=True)
    numbers = [v for v in along if v.numeric and _numbers(v, dimension)]
    return next(iter([*texts, *numbers]), None)


def _numbers(variable: Variable, dimension: str) -> bool:
    return variable.name == dimension or _is_realization(variable)


def dimension_called(dataset: Dataset, word: str) -> str:
    """Return the dimension of a name, or the one along which a variable of this name lies.

    Raises
    ------
    DataError
        If there is none.
    """
    if word in dataset.lengths:
        return word
    variable = dataset.variables.get(word)
    if variable is not None and len(variable.dimensions) == 1:
        return variable.dimensions[0]
    raise DataError(
        f"{dataset.label}: there is no dimension '{word}'. {nearest_names(word, dataset.lengths)}"
    )


def site_dimension(dataset: Dataset) -> str:
    """Return the dimension that sites lie along.

    Raises
    ------
    DataError
        If there are none.
    """
    for variable in dataset.variables.values():
        if _tells_sites(variable) and len(variable.dimensions) == 1:
            return variable.dimensions[0]
    if dataset.axes.sites is not None:
        return dataset.variables[dataset.axes.sites[0]].dimensions[0]
    if "site" in dataset.lengths:
        return "site"
    raise DataError(
        f"{dataset.label}: there are no sites; extract --points FILE.csv makes some of a grid"
    )


def _tells_sites(variable: Variable) -> bool:
    return variable.attributes.get("cf_role") == "timeseries_id"


def _is_realization(variable: Variable) -> bool:
    return variable.attributes.get("standard_name") == "realization"


def _written(value: object) -> str:
    return f"{value:g}" if isinstance(value, (float, np.floating)) else str(value)
