"""Columns of a region across the seam of longitudes, written in two parts: 0, 1, 358, 359."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import warn
from rhodolite.model.axes import Role, is_in_order
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take, turn_longitudes

_HALF_TURN, _TURN = 180.0, 360.0


def join_split_longitudes(dataset: Dataset) -> Dataset:
    """Return a dataset whose columns follow each other eastward or westward in one piece: those of
    0, 1, 358 and 359 are -2 to 1."""
    coordinate = dataset.coordinate(Role.LONGITUDE)
    if coordinate is None or coordinate.variable.dimensions != (coordinate.dimension,):
        return dataset
    values = coordinate.values
    gap = _find_gap(values)
    if gap is None:
        return dataset
    order = np.roll(np.arange(values.size), -gap)
    rises = values[-1] > values[0]
    # The part beyond the gap, or the one before it where columns run west, is the western one.
    western = np.arange(values.size) >= gap if rises else np.arange(values.size) < gap
    turns = np.where(western, -_TURN, 0.0)[order]
    joined = take(dataset, {str(coordinate.dimension): order})
    joined = turn_longitudes(joined, turns)
    left = joined.need(Role.LONGITUDE).values
    warn(
        f"{dataset.label}: {coordinate.name} is in two parts, and {values[gap - 1]:g} is followed "
        f"by {values[gap]:g}; its columns are taken in one piece, {left[0]:g} to {left[-1]:g}"
    )
    return joined


def _find_gap(values: Array) -> int | None:
    """Return where the second part of longitudes begins; None where they are in one piece, or are
    in no order."""
    steps = np.diff(values)
    in_order = steps.size > 1 and is_in_order(values)
    wide = np.flatnonzero(np.abs(steps) > _HALF_TURN)
    if not in_order or wide.size != 1:
        return None
    others = np.abs(np.delete(steps, wide[0]))
    across = _TURN - abs(float(values[-1] - values[0]))
    # What is left of a globe without the columns between is no region across the seam.
    if not 0 < across <= 2 * float(others.max()):
        return None
    return int(wide[0]) + 1
