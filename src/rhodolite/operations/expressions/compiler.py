"""From the tree of a formula to a program over blocks of its variables, with units checked on the
way."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace

import numpy as np

from rhodolite.arrays import InMemory, WithoutAxis
from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.range_text import Levels
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.calendar_rates import days_between, plain_rate
from rhodolite.model.units.conversion import rescaling_between
from rhodolite.model.units.differences import is_difference
from rhodolite.model.units.known_units import known_units
from rhodolite.model.units.udunits import convertible, has_offset_zero, is_unit
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.axis_reduction.area_mean import mean_over
from rhodolite.operations.expressions.elements import (
    ANGLES_OF,
    COMPARISONS,
    KEEPING_UNITS,
    LOGIC,
    OF_NUMBERS,
    Apply,
    Compare,
    Constant,
    Leaf,
    blows_from,
    missing,
    where,
)
from rhodolite.operations.expressions.parser import Call, Name, Node, Number
from rhodolite.operations.expressions.values import (
    PlainNumbers,
    Value,
    alike,
    multiplied,
    need_number_of_scale,
    number_of,
    raised,
)
from rhodolite.operations.expressions.weather import WEATHER, weather_value
from rhodolite.operations.selection.level_indices import level_indices
from rhodolite.plain_text import write_number

_AXES = {
    "time": (Role.TIME,),
    "lat": (Role.LATITUDE,),
    "lon": (Role.LONGITUDE,),
    "level": (Role.LEVEL,),
    "area": (Role.LATITUDE, Role.LONGITUDE),
}
_ANGLES = ("sin", "cos", "tan")


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
            return _constant(node)
        if isinstance(node, Name):
            return self.leaf(self.variable(node.name))
        if node.function in ("mean", "level"):
            return self.leaf(self.reduced(node))
        return self.combined(
            node.function, [self.value(argument) for argument in node.arguments]
        )

    def variable(self, name: str) -> Variable:
        known = self.dataset.variables.get(name)
        if known is None:
            role = {"lat": Role.LATITUDE, "lon": Role.LONGITUDE}.get(name)
            coordinate = self.dataset.coordinate(role) if role else None
            known = (
                coordinate.variable if coordinate is not None else self.dataset[name]
            )
        if known.data.dtype.kind not in "fiu":
            raise DataError(f"--formula: {name} holds no numbers")
        return known

    def leaf(self, variable: Variable) -> Value:
        units = variable.units or UNITS_OF_ONE
        if counts_from_a_date(units):
            raise DataError(
                f"--formula: {variable.name} is a time; choose months or years with subset"
            )
        if not is_unit(units):
            raise DataError(
                f"--formula: UDUNITS does not know the units of {variable.name} ({units}); "
                f"annotate --set '{variable.name}:units=...' first"
            )
        program = self.add_leaf(variable)
        if isinstance(variable, PlainNumbers):
            return Value(program, units, plain=True)
        return Value(
            program, units, difference=is_difference(variable), variable=variable
        )

    def add_leaf(self, variable: Variable) -> Leaf:
        """Return where the blocks of a variable stand among those of all leaves."""
        self.leaves.append(variable)
        return Leaf(len(self.leaves) - 1)

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
            mean = mean_over(self.dataset, variable, _AXES[axis])
            if mean.data.ndim == variable.data.ndim:
                raise DataError(
                    f"--formula: mean({inner.name}, {axis}): {inner.name} has no such axis"
                )
            return mean
        if not isinstance(second, Number):
            raise DataError(
                f"--formula: level({inner.name}, ...) takes a level, such as 850[hPa]"
            )
        coordinate = self.dataset.need(Role.LEVEL)
        if coordinate.dimension not in variable.dimensions:
            raise DataError(f"--formula: {inner.name} has no levels")
        wanted = write_number(second.value) + (second.units or "")
        picks = level_indices(coordinate, Levels.parse(wanted))
        part = take(self.dataset, {coordinate.dimension: picks})[variable.name]
        axis_at = variable.dimensions.index(coordinate.dimension)
        left = tuple(
            name for name in variable.dimensions if name != coordinate.dimension
        )
        return part.replace(
            dimensions=left, data=WithoutAxis(part.floats(), axis_at), missing=None
        )

    def combined(self, function: str, values: list[Value]) -> Value:
        """Return the value of an operator or a function."""
        if function in WEATHER:
            return weather_value(
                function, values, self.convert, self.add_leaf, self.dataset
            )
        work = self._work_of(function)
        return work(function, values)

    def _work_of(self, function: str) -> Callable[[str, list[Value]], Value]:
        """Return what computes an operator or a function."""
        kinds: tuple[tuple[Collection[str], Callable[..., Value]], ...] = (
            (("+", "-"), self.sum),
            (COMPARISONS, self.compared),
            (("min", "max"), self.outermost),
            (("where",), self.chosen),
            (LOGIC, _logical),
            (("missing",), _whether_missing),
            (KEEPING_UNITS, _in_same_units),
        )
        return next((work for names, work in kinds if function in names), self.scaled)

    def compared(self, sign: str, values: list[Value]) -> Value:
        left, right = self.alike(sign, values)
        # A variable against a number is compared as counts of days above a threshold are.
        own = [value.variable for value in values if value.variable is not None]
        constants = [value for value in values if value.constant is not None]
        against_number = len(own) == 1 and bool(constants)
        compare = Compare(sign, own[0].precision if against_number else "f8")
        return Value(Apply(compare, (left.program, right.program)), UNITS_OF_ONE)

    def outermost(self, function: str, values: list[Value]) -> Value:
        """Return the smallest or the largest of some values."""
        alike = self.alike(function, values)
        work = np.minimum if function == "min" else np.maximum
        program = alike[0].program
        for other in alike[1:]:
            program = Apply(work, (program, other.program))
        return replace(alike[0], program=program, constant=None, variable=None)

    def chosen(self, function: str, values: list[Value]) -> Value:
        """Return one of two values, by a condition."""
        left, right = self.alike(function, values[1:])
        condition = number_of(function, values[0])
        program = Apply(where, (condition.program, left.program, right.program))
        return replace(left, program=program, constant=None, variable=None)

    def sum(self, sign: str, values: list[Value]) -> Value:
        left, right = self.alike(sign, values, sums=True)
        if sign == "+":
            _refuse_sum_of_states(left, right)
        operator = np.add if sign == "+" else np.subtract
        work = Apply(operator, (left.program, right.program))
        is_between = sign == "-" and not right.difference
        if is_between and convertible(left.units, "K") and not values[1].plain:
            units = "K" if left.units == "degC" else left.units
            return Value(work, units, difference=True)
        difference = left.difference
        if sign == "+":
            difference = _is_sum_of_differences((left, right), values)
        plain = values[0].plain and values[1].plain
        turned = None if left.turned is None and right.turned is None else 1.0
        return Value(work, left.units, plain, difference, turned=turned)

    def scaled(self, function: str, values: list[Value]) -> Value:
        """Return a product, quotient, power, root, or function of a number."""
        for value in values:
            need_number_of_scale(function, value)
        if function in ("*", "/"):
            _warn_of_percent(function, *values)
            return multiplied(*values, divide=function == "/")
        if function == "^":
            return self.to_power(*values)
        if function == "sqrt":
            base = raised(values[0], 0.5)
            return Value(Apply(np.sqrt, (base.program,)), base.units)
        if function in ("arctan2", "speed", "direction"):
            return self.of_components(function, values)
        if function in _ANGLES and values[0].units != UNITS_OF_ONE:
            if not convertible(values[0].units, "radian"):
                raise DataError(
                    f"--formula: {function} takes an angle, and not {values[0].units}"
                )
            argument = self.convert(values[0], "radian", True)
        else:
            argument = number_of(function, values[0])
        program = Apply(OF_NUMBERS[function], (argument.program,))
        if function in ANGLES_OF:
            return Value(program, "radian", turned=1.0)
        return Value(program, UNITS_OF_ONE)

    def to_power(self, base: Value, exponent: Value) -> Value:
        exponent = number_of("^", exponent)
        if exponent.constant is None:
            if not convertible(base.units, UNITS_OF_ONE):
                raise DataError(
                    f"--formula: a power of something in {base.units} needs a number as its "
                    "exponent"
                )
            base, units = number_of("^", base), UNITS_OF_ONE
        else:
            base = raised(base, exponent.constant)
            units = base.units
        return Value(Apply(np.power, (base.program, exponent.program)), units)

    def of_components(self, function: str, values: list[Value]) -> Value:
        """Return the angle, the speed or the direction of two components."""
        left, right = self.alike(function, values)
        programs = (left.program, right.program)
        if function == "speed":
            return Value(Apply(np.hypot, programs), left.units)
        if function == "direction":
            return Value(Apply(blows_from, programs), "degree")
        return Value(Apply(np.arctan2, programs), "radian", turned=1.0)

    def alike(
        self, function: str, values: list[Value], *, sums: bool = False
    ) -> list[Value]:
        return alike(function, values, self.convert, sums=sums)

    def convert(self, value: Value, units: str, difference: bool) -> Value:
        """Return a value in other units; amounts for months and years by the months of the steps
        where the formula runs along time."""
        days = days_between(value.units, units, self.axis)
        if days is None:
            return value.through(
                rescaling_between(value.units, units, difference=difference), units
            )
        change = rescaling_between(plain_rate(value.units), plain_rate(units))
        name = str(self.dataset.need(Role.TIME).dimension)
        leaf = self.add_leaf(Variable("days", (name,), InMemory(days)))
        scaled = Apply(np.multiply, (value.program, leaf))
        program = Apply(change, (scaled,))
        return replace(
            value, program=program, units=units, constant=None, variable=None
        )

    @property
    def axis(self) -> TimeAxis | None:
        """The times that the formula runs along, as far as it has been read; None where none."""
        time = self.dataset.coordinate(Role.TIME)
        along = time is not None and any(
            time.dimension in v.dimensions for v in self.leaves
        )
        return self.dataset.need_time() if along and time and time.dimension else None


def _constant(node: Number) -> Value:
    """Return a number of a formula, in its units."""
    units = UNITS_OF_ONE
    if node.units is not None:
        try:
            units = known_units(node.units)
        except ValueError as error:
            raise DataError(
                f"--formula: {node.value:g}[{node.units}]: {error}"
            ) from None
    return Value(Constant(node.value), units, node.units is None, constant=node.value)


def _logical(function: str, values: list[Value]) -> Value:
    numbers = [number_of(function, value) for value in values]
    programs = tuple(value.program for value in numbers)
    return Value(Apply(LOGIC[function], programs), UNITS_OF_ONE)


def _whether_missing(_: str, values: list[Value]) -> Value:
    return Value(Apply(missing, (values[0].program,)), UNITS_OF_ONE)


def _in_same_units(function: str, values: list[Value]) -> Value:
    """Return a function whose result has the units of its argument."""
    (value,), work = values, KEEPING_UNITS[function]
    constant = None if value.constant is None else float(work(value.constant))
    program = Apply(work, (value.program,))
    return replace(value, program=program, constant=constant, variable=None)


def _warn_of_percent(function: str, left: Value, right: Value) -> None:
    """Warn of a percentage divided by 100, which is still one."""
    if function == "/" and left.units == "%" and right.plain and right.constant == 100:
        warn(
            "--formula: a value in % divided by 100 is still in %, one hundredth of it; for a "
            "number between 0 and 1 divide by 100[%]"
        )


def _is_sum_of_differences(parts: tuple[Value, Value], given: list[Value]) -> bool:
    """Return whether a sum is a difference: a difference and a state are a state, and a plain
    number is what its company is."""
    pairs = zip(parts, given, strict=True)
    known = [part.difference for part, value in pairs if not value.plain]
    return bool(known) and all(known)


def _refuse_sum_of_states(left: Value, right: Value) -> None:
    """Refuse to add two temperatures on a scale whose zero is arbitrary."""
    on_scale = [not part.difference and not part.plain for part in (left, right)]
    if all(on_scale) and has_offset_zero(left.units):
        raise DataError(
            f"--formula: two temperatures in {left.units} cannot be added, since their zero is "
            "arbitrary"
        )
