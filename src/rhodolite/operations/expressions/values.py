"""Parts of a formula with their units, and what brings them to units in which they go together."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.units.conversion import Rescaling, rescaling_between
from rhodolite.model.units.differences import is_state
from rhodolite.model.units.udunits import convertible, has_offset_zero, power, product
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.expressions.elements import Apply, Constant, Program

_DEGREES_OF_RADIAN = 180 / np.pi
_FULL_TURN = 6.3
"""Radians; a number beyond it that stands beside an angle was meant in degrees."""


class PlainNumbers(Variable):
    """An array of numbers without units, which take those of their company, as one number does."""


@dataclass(frozen=True)
class Value:
    """Part of a formula: what computes it from the blocks of all leaves, and its units.

    Attributes
    ----------
    program : callable
    units : str
    plain : bool
        Whether it is a number without units, which takes those of its company.
    difference : bool
        Whether it is a difference, of which the zero is certain.
    constant : float or None
        Its value, where that is known.
    variable : Variable, optional
        The variable that it is, as it stands.
    turned : float or None
        Of angles that were computed: what they have been multiplied by since.
    """

    program: Program
    units: str
    plain: bool = False
    difference: bool = False
    constant: float | None = None
    variable: Variable | None = None
    turned: float | None = None

    def through(self, change: Rescaling, units: str) -> Value:
        """Return the value in other units."""
        constant = None if self.constant is None else change.of(self.constant)
        program = (
            Constant(constant)
            if constant is not None
            else Apply(change, (self.program,))
        )
        return replace(
            self, program=program, units=units, constant=constant, variable=None
        )


def number_of(function: str, value: Value) -> Value:
    """Return what a function of numbers without units takes: ratios and percentages as numbers.

    Raises
    ------
    DataError
        If the value has units that are not those of a number.
    """
    if value.units == UNITS_OF_ONE:
        return value
    if not convertible(value.units, UNITS_OF_ONE):
        raise DataError(
            f"--formula: {function} takes numbers without units, and this is in {value.units}; "
            f"divide by 1[{value.units}]"
        )
    return value.through(rescaling_between(value.units, UNITS_OF_ONE), UNITS_OF_ONE)


def multiplied(left: Value, right: Value, *, divide: bool = False) -> Value:
    """Return a product or a quotient; one that has the dimension of a number is a number, with the
    factor of its units (km / m is 1000)."""
    work = np.divide if divide else np.multiply
    known = left.constant is not None and right.constant is not None
    constant = None
    if known and not (divide and right.constant == 0):
        constant = float(work(left.constant, right.constant))  # type: ignore[arg-type]
    result = Value(
        Apply(work, (left.program, right.program)),
        product(left.units, right.units, divide=divide),
        left.plain and right.plain,
        left.difference or right.difference,
        constant,
        turned=_turned(left, right, divide=divide),
    )
    scaled = left.units if right.units == UNITS_OF_ONE else right.units
    if result.units != UNITS_OF_ONE and (
        result.units != scaled or not _of_one(left, right)
    ):
        result = _without_units(result)
    return result


def _of_one(left: Value, right: Value) -> bool:
    return UNITS_OF_ONE in (left.units, right.units)


def raised(value: Value, exponent: float) -> Value:
    """Return the units and the change of them that a power of a value has.

    Raises
    ------
    DataError
        If no units are such a power.
    """
    units = power(value.units, exponent)
    if units is None and convertible(value.units, UNITS_OF_ONE):
        return number_of("^", value)
    if units is None:
        raise DataError(
            f"--formula: there are no units of ({value.units})^{exponent:g}"
        )
    return replace(value, units=units)


def _without_units(value: Value) -> Value:
    """Return a value whose units are those of a number as that number; others as they are."""
    if value.units == UNITS_OF_ONE or not convertible(value.units, UNITS_OF_ONE):
        return value
    return value.through(rescaling_between(value.units, UNITS_OF_ONE), UNITS_OF_ONE)


def need_number_of_scale(function: str, value: Value) -> None:
    """Refuse to multiply temperatures on a scale whose zero is arbitrary."""
    if has_offset_zero(value.units) and not value.difference:
        raise DataError(
            f"--formula: {function} of a temperature in {value.units}, whose zero is arbitrary; "
            "convert it to K first, or take a difference"
        )


def _turned(left: Value, right: Value, *, divide: bool) -> float | None:
    """Return what a computed angle has been multiplied by, and refuse what makes degrees of it.

    An angle carries its units, so that 180/pi makes it 57 times too large.
    """
    angle, other = (left, right) if left.turned is not None else (right, left)
    if (
        angle.turned is None
        or other.constant is None
        or not other.plain
        or other.constant == 0
    ):
        return None
    turned = angle.turned / other.constant if divide else angle.turned * other.constant
    if abs(abs(turned) / _DEGREES_OF_RADIAN - 1) < 0.005:
        raise DataError(
            "--formula: arctan2 gives an angle with its units, so 180/pi makes it 57 times too "
            "large; leave that out and add --units degree, or write direction(u, v) for where a "
            "wind blows from"
        )
    return turned


def refuse_degrees_beside_angle(values: list[Value]) -> None:
    """Refuse a number without units beside a computed angle in radian where it was meant in
    degrees."""
    if all(value.turned is None for value in values):
        return
    for value in values:
        if (
            value.plain
            and value.constant is not None
            and abs(value.constant) > _FULL_TURN
        ):
            raise DataError(
                f"--formula: {value.constant:g} stands beside an angle in radian; write "
                f"{value.constant:g}[degree], or direction(u, v) for where a wind blows from"
            )


def _is_amount_of_water(value: Value, company: Value) -> bool:
    """Return whether a number such as 1[mm/day] is an amount of water beside a mass of it."""
    known = value.constant is not None and company.variable is not None
    if not known or convertible(value.units, company.units):
        return False
    try:
        rescaling_between(value.units, company.units)
    except ValueError:
        return False
    return True


Converter = Callable[[Value, str, bool], Value]
"""From a value, the units wanted and whether it is a difference to the value in these units."""


def alike(
    function: str, values: list[Value], convert: Converter, *, sums: bool = False
) -> list[Value]:
    """Return values in the units of the first that has some; plain numbers take them.

    Variables come before numbers, and in a sum temperatures with an offset before others, which
    are differences then. Numbers beside a difference are differences.

    Raises
    ------
    DataError
        If the units do not go together, or a temperature is held against a difference.
    """
    refuse_degrees_beside_angle(values)
    united = [value for value in values if not value.plain] or values[:1]
    variables = [value for value in united if value.constant is None]
    chosen = (variables or united)[0]
    if sums and function == "+":
        chosen = _first_on_scale(united) or chosen
        _refuse_two_states(chosen, united)
    if not sums:
        _refuse_mixed(function, variables)
    return [_like(function, value, chosen, convert, sums=sums) for value in values]


def _first_on_scale(values: list[Value]) -> Value | None:
    """Return the first temperature with an offset that is no difference."""
    on_scale = (v for v in values if has_offset_zero(v.units) and not v.difference)
    return next(on_scale, None)


def _like(
    function: str, value: Value, chosen: Value, convert: Converter, *, sums: bool
) -> Value:
    if value.plain or value.units == chosen.units:
        with_company = value.plain or value.constant is not None
        difference = value.difference or (with_company and chosen.difference)
        return replace(value, units=chosen.units, difference=difference)
    if _is_amount_of_water(value, chosen):
        return convert(value, chosen.units, False)
    if not convertible(value.units, chosen.units):
        raise DataError(
            f"--formula: {function} of {chosen.units} and {value.units}, which cannot be turned "
            "into each other"
        )
    beside_scale = sums and function == "+" and has_offset_zero(chosen.units)
    beside_difference = chosen.difference and value.constant is not None
    difference = value.difference or beside_scale or beside_difference
    return replace(convert(value, chosen.units, difference), difference=difference)


def _refuse_two_states(chosen: Value, values: list[Value]) -> None:
    """Refuse to add a temperature with an offset to one that is certain to be a temperature, too;
    others in kelvins are differences beside it."""
    if not has_offset_zero(chosen.units):
        return
    for value in values:
        if (
            value is not chosen
            and value.variable is not None
            and is_state(value.variable)
        ):
            raise DataError(
                f"--formula: {value.variable.name} is a temperature, and two of these cannot be "
                "added; a difference is written in kelvins, such as 2[K]"
            )


def _refuse_mixed(function: str, values: list[Value]) -> None:
    temperatures = [value for value in values if convertible(value.units, "K")]
    if len({value.difference for value in temperatures}) > 1:
        raise DataError(
            f"--formula: {function} of a temperature and a difference of temperatures; if one is "
            "not what its name says: annotate --set 'NAME:units_metadata=temperature: on_scale'"
        )
