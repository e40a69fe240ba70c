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
    telling = text_along(dataset, dimension) or _numbers_along(dataset, dimension)
    if telling is not None:
        return [_written(value) for value in telling.values()]
    return [str(number) for number in range(1, dataset.lengths[dimension] + 1)]


def text_along(dataset: Dataset, dimension: str) -> Variable | None:
    """Return the text that names the places along a dimension, of several that which says so or is
    called so; None where there is none."""
    texts = [v for v in _along(dataset, dimension) if v.data.dtype.kind not in "fiu"]
    called = (dimension, f"{dimension}_name")
    texts.sort(key=lambda v: (not _tells_sites(v), v.name not in called))
    return texts[0] if texts else None


def _along(dataset: Dataset, dimension: str) -> list[Variable]:
    return [v for v in dataset.variables.values() if v.dimensions == (dimension,)]


def _numbers_along(dataset: Dataset, dimension: str) -> Variable | None:
    """Return the numbers of the places along a dimension; None where there are none."""
    along = _along(dataset, dimension)
    return next((v for v in along if v.numeric and _numbers(v, dimension)), None)


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
