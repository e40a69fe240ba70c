"""Which values of any axis are asked for, by number or by name."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.operations.selection.indices import Indices


def value_indices(dataset: Dataset, dimension: str, wanted: list[str]) -> Indices:
    """Return where values stand along any axis, in the order of the data.

    Parameters
    ----------
    dataset : Dataset
    dimension : str
    wanted : list of str
        Numbers, ranges of numbers such as `10..50`, or names where the axis has names.

    Raises
    ------
    DataError
        If a value is not there.
    """
    along = _labels_of(dataset, dimension)
    numeric = along is not None and along.data.dtype.kind in "fiu"
    values = np.arange(1, dataset.lengths[dimension] + 1, dtype=np.float64)
    if along is not None:
        values = along.values()
    chosen = np.zeros(len(values), dtype=bool)
    for text in wanted:
        if along is None or numeric:
            close = _near(values.astype(np.float64), text)
        else:
            close = np.array([str(value) == text for value in values])
        if not close.any():
            listed = ", ".join(_written(value) for value in values[:40])
            raise DataError(
                f"--choose {dimension}={text}: there is no such value; there are {listed}"
            )
        chosen |= close
    return np.flatnonzero(chosen)


def _labels_of(dataset: Dataset, dimension: str) -> Variable | None:
    """Return the variable that numbers or names the values of an axis; None where there is none."""
    along = dataset.variables.get(dimension)
    if along is not None and along.dimensions == (dimension,):
        return along
    names = (v for v in dataset.variables.values() if v.dimensions == (dimension,))
    return next((v for v in names if v.data.dtype.kind not in "fiu"), None)


def _near(values: Array, text: str) -> NDArray[np.bool_]:
    """Return which values a number means, or a range of them."""
    first, dots, last = text.partition("..")
    try:
        low = float(first or -np.inf)
        high = float(last or np.inf) if dots else low
    except ValueError:
        return np.zeros(len(values), dtype=bool)
    slack = 1e-5 * np.maximum(np.abs(values), 1e-9)
    return np.asarray((values >= low - slack) & (values <= high + slack))


def _written(value: object) -> str:
    return f"{value:g}" if isinstance(value, (float, np.number)) else str(value)
