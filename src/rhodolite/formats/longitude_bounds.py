"""Limits of columns that are written in another turn than their middles."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset

_SLACK = 1e-6
"""Degrees by which a middle may lie beyond a limit, since both may be in single precision."""


def put_bounds_around(dataset: Dataset) -> Dataset:
    """Return a dataset whose columns lie between their limits: 315 and 45 around 0 are -45 and 45.

    Columns that hold their middle are left as they are, such as one that goes round the globe.
    """
    coordinate = dataset.coordinate(Role.LONGITUDE)
    if coordinate is None or coordinate.bounds_variable is None:
        return dataset
    bounds, middles = coordinate.bounds, coordinate.values[..., None]
    if bounds is None or bounds.ndim != 2:
        return dataset
    low, high = (part[..., None] for part in (bounds.min(axis=1), bounds.max(axis=1)))
    apart = (middles < low - _SLACK) | (middles > high + _SLACK)
    if not apart.any():
        return dataset
    near = middles + shortest_turn(bounds - middles)
    stored = coordinate.bounds_variable
    around = np.where(apart, near, bounds).reshape(stored.shape)
    limits = stored.replace(data=InMemory(around), missing=None)
    return dataset.with_variables(
        limits if name == limits.name else variable
        for name, variable in dataset.variables.items()
    )
