"""Axes of height: pressures and depths downwards, with their units."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.drawing.parts.text import capitalise, with_units
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate
from rhodolite.model.space.level_direction import grows_down


def set_up(axes: Any, coordinate: Coordinate, *, logarithmic: bool) -> None:
    """Make the y axis of a figure one of height.

    Parameters
    ----------
    axes : object
        Matplotlib axes.
    coordinate : Coordinate
    logarithmic : bool
        Whether the axis is logarithmic.

    Raises
    ------
    DataError
        If a logarithm is asked of levels that are not above zero.
    """
    values = coordinate.values
    if logarithmic:
        if (values <= 0).any():
            raise DataError(
                f"--log: the levels ({coordinate.name}) are not all above zero"
            )
        axes.set_yscale("log")
        axes.set_yticks(_round_levels(values))
        axes.minorticks_off()
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:g}".replace("-", "−"))
    axes.set_ylim(values.min(), values.max())
    if grows_down(coordinate):
        axes.invert_yaxis()
    axes.set_ylabel(
        with_units(capitalise(coordinate.variable.quantity), coordinate.variable.units),
        fontsize=12,
    )


def _round_levels(values: Array) -> list[float]:
    """Return round numbers, evenly spaced on a logarithmic axis, within the range of levels."""
    low, high = np.log10(values.min()), np.log10(values.max())
    steps = (1, 2, 3, 5, 7) if high - low < 2 else (1, 3)
    levels = [
        step * 10.0**power
        for power in range(int(np.floor(low)), int(np.ceil(high)) + 1)
        for step in steps
    ]
    return [
        value
        for value in levels
        if values.min() * 0.999 <= value <= values.max() * 1.001
    ]
