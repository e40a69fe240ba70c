"""Levels that maps name, as numbers."""

from __future__ import annotations

import numpy as np

from rhodolite.model.axes import Coordinate
from rhodolite.server.limits import Refused


def texts_of_levels(axis: Coordinate) -> list[str]:
    """Return the levels of an axis in the fewest digits of their own precision."""
    stored = axis.variable.data.dtype
    kind = stored if stored.kind == "f" else np.dtype("f8")
    values = np.asarray(axis.values, dtype=np.float64).astype(kind)
    return [str(value).removesuffix(".0") for value in values]


def nearest_level(axis: Coordinate, text: str) -> int:
    """Return which level of an axis is nearest to one that is named.

    Raises
    ------
    Refused
        If it is no number, or lies beyond all that the levels cover.
    """
    try:
        value = float(text.split("/", maxsplit=1)[0])
    except ValueError:
        raise Refused(400, f"'{text[:60]}' is not a level") from None
    levels = np.asarray(axis.values, dtype=np.float64)
    covered = [levels] if axis.bounds is None else [levels, axis.bounds.ravel()]
    low, high = np.concatenate(covered).min(), np.concatenate(covered).max()
    # Levels in single precision are not quite what is typed.
    near = 1e-6 * max(abs(low), abs(high))
    if not low - near <= value <= high + near:
        texts, units = texts_of_levels(axis), axis.variable.units or "1"
        raise Refused(
            404,
            f"there is no level {text[:60]}; levels run from {texts[0]} to {texts[-1]} {units}",
        )
    return int(np.argmin(np.abs(levels - value)))
