"""Whether places of two datasets are the same, by positions or numbers, as far as files tell."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, read_small
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

Indices = NDArray[np.intp]
Positions = tuple[Array, Array]
NEAR = 0.01
"""Degrees of arc by which a place may be written otherwise in another file; 1 km."""


def are_equal(here: Positions, there: Positions) -> bool:
    """Return whether positions are the same numbers."""
    pairs = zip(here, there, strict=True)
    return all(np.array_equal(a, b, equal_nan=True) for a, b in pairs)


def lie_alike(here: Positions, there: Positions, near: float) -> bool:
    """Return whether places lie at others, as far as their positions are known."""
    if here[0].shape != there[0].shape:
        return False
    if are_equal(here, there):
        return True
    apart = great_circle(*here, *there)
    ours, theirs = (np.isnan(part[0]) | np.isnan(part[1]) for part in (here, there))
    return np.array_equal(ours, theirs) and bool((apart[~ours] <= near).all())


def numbers_along(dataset: Dataset, name: str) -> Variable | None:
    """Return the coordinate of numbers along a dimension; None where there is none."""
    variable = dataset.variables.get(name)
    if variable is None or variable.dimensions != (name,) or not variable.numeric:
        return None
    return variable


def read_numbers(variable: Variable) -> Array:
    """Return the values of a coordinate."""
    return np.asarray(read_small(variable.floats()), dtype=np.float64)
