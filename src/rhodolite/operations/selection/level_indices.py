"""Which levels of an axis are asked for."""

from __future__ import annotations

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate
from rhodolite.model.space.level_direction import as_counted
from rhodolite.model.space.range_text import LevelRange, Levels
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.operations.selection.indices import Indices


def level_indices(coordinate: Coordinate, wanted: Levels) -> Indices:
    """Return the levels asked for, in the order of the data.

    Parameters
    ----------
    coordinate : Coordinate
    wanted : Levels
        What was asked for.

    Raises
    ------
    DataError
        If a level is not there, a range holds none, or units do not fit.
    """
    values = coordinate.values
    chosen = np.zeros(values.size, dtype=bool)
    for part in wanted.ranges:
        low, high = _ends_of(part, coordinate)
        if part.single:
            slack = max(coordinate.slack, 1e-5 * abs(low), 1e-9)
        else:
            slack = coordinate.slack
        close = (values >= low - slack) & (values <= high + slack)
        if not close.any():
            raise DataError(_no_level(part, low, coordinate))
        chosen |= close
    return np.flatnonzero(chosen)


def _ends_of(part: LevelRange, coordinate: Coordinate) -> tuple[float, float]:
    """Return the lowest and highest number that are asked for, as the axis counts them."""
    open_ends = (-np.inf, np.inf)
    typed = [
        beyond if end is None else _in_units_of(coordinate, *end)
        for end, beyond in zip((part.first, part.last), open_ends, strict=True)
    ]
    low, high = sorted(as_counted(np.array(typed), coordinate).tolist())
    return low, high


def _in_units_of(coordinate: Coordinate, level: float, given: str) -> float:
    units = coordinate.variable.units or "1"
    if not given or given == units:
        return level
    if not convertible(given, units):
        raise DataError(
            f"--level {level:g}{given}: the levels ({coordinate.name}) are in {units}, which "
            f"{given} cannot be converted to"
        )
    return float(convert(level, given, units))


def _no_level(part: LevelRange, level: float, coordinate: Coordinate) -> str:
    values, units = coordinate.values, coordinate.variable.units or "1"
    listed = ", ".join(f"{value:g}" for value in values[:40]) + (
        ", ..." if values.size > 40 else ""
    )
    hint = ""
    if part.single:
        hint = f" The nearest is {values[np.argmin(np.abs(values - level))]:g}."
    label = f" {units}" if units != "1" else ""
    return f"--level {part}: no such level.{hint} There are: {listed}{label}."
