"""Temperatures in tables, whose titles say kelvins of differences, too."""

from __future__ import annotations

import numpy as np

from rhodolite.model.units.differences import Zero, read_zero
from rhodolite.model.units.udunits import convert, convertible, has_offset_zero
from rhodolite.model.variable import Variable

_COLDEST = 100.0
"""Kelvins; nothing on a planet with an atmosphere is colder."""


def tell_zero(variable: Variable) -> Variable:
    """Return a column in kelvins with what its values say of their zero (CF 1.11, 3.1.2).

    No temperature is below 0 K, so with such values the column holds differences. Where all are
    colder than any air or water it may, which a conversion to a scale with another zero says.
    """
    units = variable.units
    if units is None or not convertible(units, "K") or has_offset_zero(units):
        return variable
    reading = read_zero(variable)
    values = variable.values().astype(np.float64)
    values = values[np.isfinite(values)]
    if reading.because or reading.zero is not Zero.ON_SCALE or not values.size:
        return variable
    if values.min() < 0:
        return variable.edit(units_metadata="temperature: difference")
    if values.max() < convert(_COLDEST, "K", units):
        return variable.edit(units_metadata="temperature: unknown")
    return variable
