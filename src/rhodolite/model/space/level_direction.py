"""Which way the numbers of a vertical axis grow, and levels typed in the other sense."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import warn
from rhodolite.model.axes import Coordinate
from rhodolite.model.units.udunits import convertible, is_pressure
from rhodolite.model.variable import Variable

_UPWARD = (
    "height",
    "altitude",
    "geopotential_height",
    "height_above_mean_sea_level",
    "height_above_geopotential_datum",
    "height_above_reference_ellipsoid",
)


def usual_direction(variable: Variable) -> str | None:
    """Return which way the numbers of a vertical coordinate grow, as far as its quantity says
    so."""
    standard_name = str(variable.attributes.get("standard_name", ""))
    if is_pressure(variable.units or "") or standard_name == "depth":
        return "down"
    if standard_name in _UPWARD:
        return "up"
    if convertible(variable.units or "", "m") and not standard_name:
        return {"depth": "down", "height": "up", "altitude": "up"}.get(
            variable.name.lower()
        )
    return None


def grows_down(coordinate: Coordinate) -> bool:
    """Return whether the numbers of a vertical axis grow downward, as those of pressure and depth
    do.

    What the attribute `positive` says comes first (CF 4.3.1). Depths that are all below zero are
    heights, whatever their name.
    """
    variable = coordinate.variable
    given = str(variable.attributes.get("positive", "")).strip().lower()
    if given in ("up", "down"):
        return given == "down"
    if is_pressure(variable.units or ""):
        return True
    if _lies_below_zero(coordinate.values):
        return False
    names = (variable.name, variable.attributes.get("long_name"))
    words = " ".join(str(name) for name in names).lower()
    usual = usual_direction(variable)
    return usual == "down" or (usual is None and "depth" in words)


def as_counted(wanted: Array, coordinate: Coordinate) -> Array:
    """Return levels that are asked for with the sign that an axis gives them.

    10 m below the surface is 10 on an axis of depths and -10 on one of heights; what can only be
    meant in the other sense is taken in it, with a word.

    Parameters
    ----------
    wanted : ndarray
        Numbers in the units of the axis; infinite ones are open ends.
    coordinate : Coordinate
        The axis.
    """
    units = coordinate.variable.units or "1"
    if not convertible(units, "m"):
        return wanted
    typed = wanted[np.isfinite(wanted)]
    if not typed.any():
        return wanted
    if _lies_below_zero(coordinate.values):
        taken, grow = bool((typed >= 0).all()), "upward"
    else:
        depths = _lies_below_zero(-coordinate.values) and grows_down(coordinate)
        taken, grow = depths and bool((typed <= 0).all()), "downward"
    if not taken:
        return wanted
    # A single level is a range from itself to itself.
    levels = dict.fromkeys(typed.tolist())
    said = ", ".join(f"{level:g}" for level in levels)
    counted = ", ".join(f"{0 - level:g}" for level in levels)
    warn(
        f"{coordinate.name} is counted {grow}, so {said} {units} is taken for {counted} {units}"
    )
    return -wanted


def counted_as(coordinate: Coordinate, values: Array, other: Coordinate) -> Array:
    """Return heights or depths in the sense in which another axis counts them.

    Parameters
    ----------
    coordinate : Coordinate
        The axis that they are of.
    values : ndarray
        In the units of the other axis.
    other : Coordinate
    """
    lengths = convertible(other.variable.units or "1", "m")
    opposite = grows_down(coordinate) != grows_down(other)
    # Where one counts depths and the other heights of what is below zero, both begin at zero.
    same_side = _lies_below_zero(values) != _lies_below_zero(other.values)
    return -values if lengths and opposite and same_side else values


def _lies_below_zero(values: Array) -> bool:
    return bool(values.size and values.max() <= 0 and values.min() < 0)
