"""Units as somebody wrote them, in those that UDUNITS knows, with a word."""

from __future__ import annotations

from rhodolite.errors import warn
from rhodolite.model.units.aliases import read_typed_units, repair_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.model.variable import Variable


def with_known_units(variable: Variable, label: str = "") -> Variable:
    """Return a variable in the units that its own must mean, said where they are others.

    Parameters
    ----------
    variable : Variable
    label : str
        What it is of, for the warning.
    """
    known = units_meant(variable)
    if known is None:
        return variable
    where = f"{label}: " if label else ""
    warn(f"{where}the units '{variable.units}' of {variable.name} are read as {known}")
    return variable.edit(units=known)


def units_meant(variable: Variable) -> str | None:
    """Return what the units of a variable must mean, in words of UDUNITS; None where they are
    understood as they are, or not at all."""
    if not variable.units:
        return None
    standard_name = str(variable.attributes.get("standard_name", ""))
    words = f"{variable.quantity} {standard_name} {variable.name}"
    return repair_units(variable.units, words)


def known_units(typed: str) -> str:
    """Return units as somebody typed them in words of UDUNITS.

    Raises
    ------
    ValueError
        If UDUNITS does not know them.

    Examples
    --------
    >>> known_units("deg C"), known_units("mb")
    ('degC', 'hPa')
    """
    units = read_typed_units(typed)
    if not is_unit(units):
        raise ValueError(
            f"UDUNITS does not know '{typed}'; write units like degC, mm day-1, kg m-2 s-1"
        )
    return units
