"""From the tree of a formula to a program over blocks of its variables, with units checked on the
way."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from rhodolite.arrays import WithoutAxis
from rhodolite.errors import DataError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.range_text import Levels
from rhodolite.model.units.aliases import read_typed_units
from rhodolite.model.units.conversion import rescaling
from rhodolite.model.units.udunits import (
    convertible,
    has_offset_zero,
    is_unit,
    power,
    product,
)
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.axis_reduction.area_mean import mean_over
from rhodolite.operations.expressions.elements import (
    COMPARISONS,
    LOGIC,
    OF_NUMBERS,
    Apply,
    Compare,
    Constant,
    Leaf,
    Program,
    UnitChange,
    missing,
    where,
)
from rhodolite.operations.expressions.parser import Call, Name, Node, Number
from rhodolite.operations.selection.indices import level_indices
from rhodolite.plain_text import write_number

_AXES = {
    "time": (Role.TIME,),
    "lat": (Role.LATITUDE,),
    "lon": (Role.LONGITUDE,),
    "level": (Role.LEVEL,),
    "area": (Role.LATITUDE, Role.LONGITUDE),
}
_PLAIN = ("exp", "log", "log10")
_ANGLES = ("sin", "cos", "tan")


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
    """

    program: Program
    units: str
    plain: bool = False
    difference: bool = False
    constant: float | None = None
    variable: Variable | None = None


class ProgramBuilder:
    """Turns a formula into a program over the variables that it names, and checks its units.

    Attributes
    ----------
    leaves : list of Variable
        The variables whose blocks the program takes, in order; known when it has been built.
    """

    def __init__(self, dataset: Dataset) -> None:
        self.dataset = dataset
        self.leaves: list[Variable] = []

    def value(self, node: Node) -> Value:
        """Return the program and the units of a part of a formula.

        Raises
        ------
        DataError
            If a name is not there, or units do not go together.
        """
        if isinstance(node, Number):
            if node.units is not None and not is_unit(read_typed_units(node.units)):
                raise DataError(
                    f"--formula: UDUNITS does not know the units in {node.value:g}[{node.units}]"
                )
            units = UNITS_OF_ONE if node.units is None else read_typed_units(node.units)
            return Value(Constant(node.value), units, node.units is None, constant=node.value)
        if isinstance(node, Name):
            return self.leaf(self.variable(node.name))
        if node.function in ("mean", "level"):
            return self.leaf(self.reduced(node))
        return self.combined(node.function, [self.value(argument) for argument in node.arguments])

    def variable(self, name: str) -> Variable:
        found = self.dataset.variables.get(name)
        if found is None:
            role = {"lat": Role.LATITUDE, "lon": Role.LONGITUDE}.get(name)
            coordinate = self.dataset.coordinate(role) if role else None
            found = coordinate.variable if coordinate is not None else self.dataset[name]
        if found.data.dtype.kind not in "fiu":
            raise DataError(f"--formula: {name} holds no numbers")
        return found

    def leaf(self, variable: Variable) -> Value:
        units = variable.units or UNITS_OF_ONE
        if " since " in units:
            raise DataError(
                f"--formula: {variable.name} is a time; choose months or years with subset"
            )
        if not is_unit(units):
            raise DataError(
                f"--formula: UDUNITS does not know the units of {variable.name} ({units}); "
                f"annotate --set '{variable.name}:units=...' first"
            )
        self.leaves.append(variable)
        difference = "difference" in str(variable.attributes.get("units_metadata", ""))
        return Value(Leaf(len(self.leaves) - 1), units, difference=difference, variable=variable)

    def reduced(self, node: Call) -> Variable:
        """Return the mean of a variable over an axis, or one of its levels."""
        inner, second = node.arguments
        if not isinstance(inner, Name):
            raise DataError(
                f"--formula: {node.function} is of a variable, such as {node.function}(tas, ...); "
                "do the rest after it, or in a calc of its own"
            )
        variable = self.variable(inner.name)
        if node.function == "mean":
            axis = second.name if isinstance(second, Name) else ""
            if axis not in _AXES:
                raise DataError(
                    f"--formula: mean({inner.name}, {axis or '...'}): over which axis? "
                    f"{nearest_names(axis, _AXES)}"
                )
            made = mean_over(self.dataset, variable, _AXES[axis])
            if made.data.ndim == variable.data.ndim:
                raise DataError(
                    f"--formula: mean({inner.name}, {axis}): {inner.name} has no such axis"
                )
            return made
        if not isinstance(second, Number):
            raise DataError(f"--formula: level({inner.name}, ...) takes a level, such as 850[hPa]")
        coordinate = self.dataset.need(Role.LEVEL)
        if coordinate.dimension not in variable.dimensions:
            raise DataError(f"--formula: {inner.name} has no levels")
        wanted = write_number(second.value) + (second.units or "")
        picks = level_indices(coordinate, Levels.parse(wanted))
        part = take(self.dataset, {coordinate.dimension: picks})[variable.name]
        axis_at = variable.dimensions.index(coordinate.dimension)
        kept = tuple(name for name in variable.dimensions if name != coordinate.dimension)
        return part.replace(dimensions=kept, data=WithoutAxis(part.floats(), axis_at), missing=None)

    def combined(self, function: str, values: list[Value]) -> Value:
        if function in ("+", "-"):
            return self.sum(function, values)
        if function in COMPARISONS:
            left, right = self.alike(function, values)
            # A variable against a number is compared as counts of days above a threshold are.
            own = [value.variable for value in values if value.variable is not None]
            against_number = len(own) == 1 and any(value.constant is not None for value in values)
            compare = Compare(function, own[0].precision if against_number else "f8")
            return Value(Apply(compare, (left.program, right.program)), UNITS_OF_ONE)
        if function in ("min", "max"):
            alike = self.alike(function, values)
            made = alike[0].program
            for other in alike[1:]:
                made = Apply(np.minimum if function == "min" else np.maximum, (made, other.program))
            return replace(alike[0], program=made, constant=None, variable=None)
        if function == "where":
            left, right = self.alike(function, values[1:])
            self.without_units(function, values[0])
            return replace(
                left,
                program=Apply(where, (values[0].program, left.program, right.program)),
                constant=None,
                variable=None,
            )
        if function in ("and", "or", "not"):
            for value in values:
                self.without_units(function, value)
            return Value(
                Apply(LOGIC[function], tuple(value.program for value in values)), UNITS_OF_ONE
            )
        if function == "missing":
            return Value(Apply(missing, (values[0].program,)), UNITS_OF_ONE)
        if function in ("negative", "abs"):
            work_on = np.negative if function == "negative" else np.abs
            constant = None if values[0].constant is None else float(work_on(values[0].constant))
            return replace(
                values[0],
                program=Apply(work_on, (values[0].program,)),
                constant=constant,
                variable=None,
            )
        return self.scaled(function, values)

    def sum(self, sign: str, values: list[Value]) -> Value:
        left, right = self.alike(sign, values, sums=True)
        both_offset = (
            has_offset_zero(left.units)
            and not left.difference
            and not right.difference
            and not right.plain
        )
        if sign == "+" and both_offset and not values[1].plain:
            raise DataError(
                f"--formula: two temperatures in {left.units} cannot be added, since their zero is "
                "arbitrary"
            )
        work = Apply(np.add if sign == "+" else np.subtract, (left.program, right.program))
        if (
            sign == "-"
            and convertible(left.units, "K")
            and not right.difference
            and not values[1].plain
        ):
            return Value(
                work,
                "K" if has_offset_zero(left.units) and left.units == "degC" else left.units,
                difference=True,
            )
        # A difference plus a state is a state; a plain number is what its company is.
        known = [
            part.difference
            for part, given in zip((left, right), values, strict=True)
            if not given.plain
        ]
        difference = left.difference if sign == "-" else bool(known) and all(known)
        return Value(work, left.units, values[0].plain and values[1].plain, difference)

    def scaled(self, function: str, values: list[Value]) -> Value:
        """Return a product, quotient, power, or function of a number."""
        for value in values:
            if has_offset_zero(value.units) and not value.difference:
                raise DataError(
                    f"--formula: {function} of a temperature in {value.units}, whose zero is "
                    "arbitrary; convert it to K first, or take a difference"
                )
        programs = tuple(value.program for value in values)
        if function in ("*", "/"):
            left, right = values
            units = product(left.units, right.units, divide=function == "/")
            work = np.multiply if function == "*" else np.divide
            constant = None
            if (
                left.constant is not None
                and right.constant is not None
                and (function == "*" or right.constant)
            ):
                constant = float(work(left.constant, right.constant))
            return Value(
                Apply(work, programs),
                units,
                left.plain and right.plain,
                left.difference or right.difference,
                constant,
            )
        if function == "^":
            self.without_units(function, values[1])
            exponent = values[1].constant
            if exponent is None and values[0].units != UNITS_OF_ONE:
                raise DataError(
                    f"--formula: a power of something in {values[0].units} needs a number as its "
                    "exponent"
                )
            units = self.raised(values[0], 1.0 if exponent is None else exponent)
            return Value(Apply(np.power, programs), units)
        if function == "sqrt":
            return Value(Apply(np.sqrt, programs), self.raised(values[0], 0.5))
        if function == "arctan2":
            left, right = self.alike(function, values)
            return Value(Apply(np.arctan2, (left.program, right.program)), "radian")
        if function in _ANGLES and values[0].units != UNITS_OF_ONE:
            if not convertible(values[0].units, "radian"):
                raise DataError(f"--formula: {function} takes an angle, and not {values[0].units}")
            programs = (Apply(UnitChange(values[0].units, "radian"), programs),)
        elif function in _PLAIN:
            self.without_units(function, values[0])
        return Value(Apply(OF_NUMBERS[function], programs), UNITS_OF_ONE)

    def raised(self, value: Value, exponent: float) -> str:
        found = power(value.units, exponent)
        if found is None:
            raise DataError(f"--formula: there are no units of ({value.units})^{exponent:g}")
        return found

    def without_units(self, function: str, value: Value) -> None:
        if value.units != UNITS_OF_ONE and not convertible(value.units, UNITS_OF_ONE):
            raise DataError(
                f"--formula: {function} takes numbers without units, and this is in {value.units}; "
                f"divide by 1[{value.units}]"
            )

    def alike(self, function: str, values: list[Value], *, sums: bool = False) -> list[Value]:
        """Return values in the units of the first that has some; plain numbers take them.

        Variables come before numbers, and in a sum temperatures with an offset before others, which
        are differences then.
        """
        united = [value for value in values if not value.plain] or values[:1]
        first = [value for value in united if value.variable is not None] or united
        if sums and function == "+":
            first = [
                value for value in united if has_offset_zero(value.units) and not value.difference
            ] or first
        chosen = first[0]
        made = []
        for value in values:
            if value.plain or value.units == chosen.units:
                made.append(replace(value, units=chosen.units))
                continue
            if (amount := _amount_of_water(value, chosen)) is not None:
                made.append(
                    replace(value, program=Constant(amount), units=chosen.units, constant=amount)
                )
                continue
            if not convertible(value.units, chosen.units):
                raise DataError(
                    f"--formula: {function} of {chosen.units} and {value.units}, which cannot be "
                    "turned into each other"
                )
            difference = value.difference or (
                sums and function == "+" and has_offset_zero(chosen.units)
            )
            change = UnitChange(value.units, chosen.units, difference=difference)
            made.append(
                replace(
                    value,
                    program=Apply(change, (value.program,)),
                    units=chosen.units,
                    difference=difference,
                    variable=None,
                )
            )
        return made


def _amount_of_water(value: Value, company: Value) -> float | None:
    """Return a number such as 1[mm/day] in units of the mass of water, where its company is such a
    variable."""
    if (
        value.constant is None
        or company.variable is None
        or convertible(value.units, company.units)
    ):
        return None
    try:
        change = rescaling(company.variable, value.units)
    except DataError:
        return None
    return (value.constant - change.offset) / change.factor
