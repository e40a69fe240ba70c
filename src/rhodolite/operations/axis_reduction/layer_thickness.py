"""How thick the layers are that levels stand for."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import grows_down
from rhodolite.model.units.udunits import convertible, is_pressure


def layer_weights(dataset: Dataset) -> tuple[Array, str]:
    """Return the weight of each level in a vertical mean, and what it is over, in words.

    Weights are thicknesses: of the bounds where there are some, else those of the trapezoidal rule,
    with which levels that are points are joined by straight lines from the first to the last.

    Raises
    ------
    DataError
        If there is no vertical axis.
    """
    coordinate = dataset.need(Role.LEVEL)
    values, units = coordinate.values, coordinate.variable.units or "1"
    pressure = is_pressure(units)
    if not pressure and not convertible(units, "m"):
        warn(
            f"the levels ({coordinate.name}, in {units}) are not pressures, heights or depths, so "
            "all have the same weight"
        )
        return np.ones(values.size), "over levels"
    words = "over pressure"
    if not pressure:
        words = "over depth" if grows_down(coordinate) else "over height"
    if coordinate.bounds is not None:
        return np.abs(np.diff(coordinate.bounds, axis=1))[:, 0], words
    if values.size == 1:
        return np.ones(1), words
    steps = np.abs(np.diff(values)) / 2
    return np.append(steps, 0.0) + np.append(0.0, steps), words
