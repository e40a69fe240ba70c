"""From one unit to another: the factor and the offset, and what they do to a standard name."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import units_between
from rhodolite.model.units.calendar_rates import days_between, plain_rate
from rhodolite.model.units.differences import Zero, temperature_reading
from rhodolite.model.units.udunits import (
    between_scales,
    convert,
    convertible,
    has_offset_zero,
    has_other_zero,
    plain_number,
)
from rhodolite.model.variable import Variable

WATER_DENSITY = 1000.0
"""kg m-3; by convention that of fresh water at 4 degrees Celsius."""
_MASS_TO_DEPTH = (("kg m-2 s-1", "m s-1"), ("kg m-2", "m"))
_PER_YEARS = re.compile(
    r"(?P<rate>.+?)\s*(?P<years>(?:\(\d+ years?\)|years?|decade)-1)"
)
"""Slopes, such as of `mm/day (10 year)-1`."""
_BY_MASS = {
    "precipitation_flux": "lwe_precipitation_rate",
    "convective_precipitation_flux": "lwe_convective_precipitation_rate",
    "snowfall_flux": "lwe_snowfall_rate",
    "precipitation_amount": "lwe_thickness_of_precipitation_amount",
    "snowfall_amount": "lwe_thickness_of_snowfall_amount",
    "surface_snow_amount": "lwe_thickness_of_surface_snow_amount",
}
"""Standard names of amounts of water by mass, and of the same by depth (CF standard name table)."""
_BY_DEPTH = {depth: mass for mass, depth in _BY_MASS.items()}


@dataclass(frozen=True)
class Rescaling:
    """new = old * factor + offset, in double precision.

    Attributes
    ----------
    by_density : bool
        Whether the density of water came in.
    """

    factor: float
    offset: float
    by_density: bool = False

    def __call__(self, block: Array) -> Array:
        values = np.multiply(block, self.factor, dtype=np.float64)
        values += self.offset
        return values.astype(block.dtype, copy=False)

    def of(self, value: float) -> float:
        """Return a single value in the new units, as exactly as it is written."""
        factor, offset = plain_number(self.factor), plain_number(self.offset)
        return float(Fraction(repr(float(value))) * factor + offset)


def rescaling(variable: Variable, units: str) -> Rescaling:
    """Return what turns a variable into other units, months and years taken for those of UDUNITS.

    Raises
    ------
    DataError
        If its own cannot be converted to them.
    """
    own = variable.units or "1"
    reading = temperature_reading(variable)
    if (
        reading is not None
        and reading.zero is Zero.UNCERTAIN
        and has_other_zero(own, units)
    ):
        warn(
            f"{variable.name} is converted from {own} to {units} as a temperature, though it may "
            f"be a difference ({reading.because}); if it is one: annotate --set "
            f"'{variable.name}:units_metadata=temperature: difference'"
        )
    difference = reading is not None and reading.zero is Zero.DIFFERENCE
    try:
        return rescaling_between(own, units, difference=difference)
    except ValueError:
        raise DataError(
            f"{variable.name} is in {own}, which cannot be converted to {units}"
        ) from None


def rescaling_between(own: str, units: str, *, difference: bool = False) -> Rescaling:
    """Return what turns values in some units into others.

    Parameters
    ----------
    own, units : str
        UDUNITS units.
    difference : bool
        Whether the values are differences, to which the zero of a scale means nothing.

    Raises
    ------
    ValueError
        If the units cannot be converted to each other, nor by the density of water.

    Examples
    --------
    >>> round(rescaling_between("K", "degC").of(300.0), 6)
    26.85
    >>> rescaling_between("K", "degC", difference=True).of(300.0)
    300.0
    """
    if own == units:
        return Rescaling(1.0, 0.0)
    if convertible(own, units):
        if not has_other_zero(own, units):
            return Rescaling(float(convert(1.0, own, units)), 0.0)
        factor, offset = map(float, between_scales(own, units))
        return Rescaling(factor, 0.0 if difference else offset)
    for mass, depth in _MASS_TO_DEPTH:
        if convertible(own, mass) and convertible(units, depth):
            factor = float(convert(1.0, own, mass)) / WATER_DENSITY
            return Rescaling(
                factor * float(convert(1.0, depth, units)), 0.0, by_density=True
            )
        if convertible(own, depth) and convertible(units, mass):
            factor = float(convert(1.0, own, depth)) * WATER_DENSITY
            return Rescaling(
                factor * float(convert(1.0, mass, units)), 0.0, by_density=True
            )
    ours, theirs = _PER_YEARS.fullmatch(own), _PER_YEARS.fullmatch(units)
    if ours is not None and theirs is not None:
        inner = rescaling_between(ours["rate"], theirs["rate"], difference=True)
        years = float(convert(1.0, ours["years"], theirs["years"]))
        return Rescaling(inner.factor * years, 0.0, inner.by_density)
    raise ValueError(f"{own} cannot be converted to {units}")


@dataclass(frozen=True, eq=False)
class UnitsChange:
    """What turns a variable along time into other units.

    Attributes
    ----------
    plain : Rescaling
    days : ndarray of float64, shape (n,), or None
        What the values of each step are multiplied by before, where months or years count by their
        own days.
    """

    plain: Rescaling
    days: Array | None


def change_units(variable: Variable, units: str, axis: TimeAxis | None) -> UnitsChange:
    """Return what turns a variable into other units.

    Parameters
    ----------
    variable : Variable
    units : str
        UDUNITS units.
    axis : TimeAxis, optional
        The times that it runs along, in whose months and years amounts for these count.

    Raises
    ------
    DataError
        If its own cannot be converted to them.
    """
    days = days_between(variable.units, units, axis)
    if days is None:
        return UnitsChange(rescaling(variable, units), None)
    daily = variable.edit(units=plain_rate(variable.units or "1"))
    try:
        return UnitsChange(rescaling(daily, plain_rate(units)), days)
    except DataError:
        raise DataError(
            f"{variable.name} is in {variable.units}, which cannot be converted to {units}"
        ) from None


def can_be_in(variable: Variable, units: str) -> bool:
    """Return whether a variable can be turned into other units."""
    try:
        rescaling(variable, units)
    except DataError:
        return False
    return True


def of_differences(units: str | None) -> tuple[float, str | None]:
    """Return the units of differences, and what to multiply them by: kelvins for temperatures with
    an offset, and times for dates.
    """
    if units is None:
        return 1.0, None
    if not has_offset_zero(units):
        return 1.0, units_between(units)
    return rescaling_between(units, "K", difference=True).factor, "K"


def standard_name_after(variable: Variable, change: Rescaling) -> str | None:
    """Return the standard name that is true of the converted values, or None if there is none."""
    name = variable.attributes.get("standard_name")
    if name is None or not change.by_density:
        return None if name is None else str(name)
    return _BY_MASS.get(str(name)) or _BY_DEPTH.get(str(name))
