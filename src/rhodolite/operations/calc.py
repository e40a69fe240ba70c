"""A new variable from a formula."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from rhodolite.arrays import Aligned, Array, LazyArray, Mapped, Region, WithoutAxis
from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ranges import Levels
from rhodolite.model.units import convert, convertible, has_offset_zero, is_unit, power, product
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.formulas import Call, Formula, Name, Node, Number
from rhodolite.operations.rescaling import rescaling
from rhodolite.operations.selecting import level_indices, take

_AXES = {"time": (Role.TIME,), "lat": (Role.LATITUDE,), "lon": (Role.LONGITUDE,), "level": (Role.LEVEL,),
         "area": (Role.LATITUDE, Role.LONGITUDE)}  # fmt: skip
_COMPARISONS: dict[str, Callable[[Array, Array], Array]] = {
    "<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal, "==": np.equal, "!=": np.not_equal,
}  # fmt: skip
_OF_NUMBERS: dict[str, Callable[..., Array]] = {
    "exp": np.exp, "log": np.log, "log10": np.log10, "sin": np.sin, "cos": np.cos, "tan": np.tan,
}  # fmt: skip
_PLAIN = ("exp", "log", "log10")
_ANGLES = ("sin", "cos", "tan")


@operation
@dataclass(frozen=True)
class Calc:
    """A new variable from a formula of ordinary arithmetic.

    Names are variables and coordinates; 5[degC] is a number with units, and one without takes those of what
    it is added to or compared with. There are + - * / ^, comparisons (1 where true, 0 where not), and, or, not, sqrt,
    exp, log, log10, abs, sin, cos, tan, arctan2, min, max, where(condition, a, b), missing(x), mean(x, time) or over
    area, lat, lon or level, and level(x, 850[hPa]). Units are checked and derived; a value is missing where one that
    it needs is. The other variables are left out.

    Examples
    --------
    >>> Calc(formula="sqrt(ua^2 + va^2)", name="wind_speed")  # doctest: +SKIP
    """

    formula: Formula | None = parameter("what to calculate", example="'sqrt(ua^2 + va^2)'")
    name: str | None = parameter("name of the new variable", example="NAME")
    units: str | None = parameter("units to turn the result into", example="UNITS")
    keep: bool = parameter("keep the variables that there were, too", default=False)

    def check(self) -> None:
        if self.formula is None:
            raise UsageError("calc: what? Add --formula, such as --formula 'sqrt(ua^2 + va^2)' --name wind_speed")
        if self.name is None or not self.name.isidentifier():
            raise UsageError(
                "calc: the result needs a name of letters, digits and _; add --name, such as --name wind_speed"
            )
        if self.units is not None and not is_unit(self.units):
            raise UsageError(f"--units: UDUNITS does not know '{self.units}'")

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset with the new variable.

        Raises
        ------
        DataError
            If a name is not there, or units or axes do not go together.
        """
        assert self.formula is not None
        assert self.name is not None
        builder = _Builder(dataset)
        root = builder.value(self.formula.tree)
        if not builder.leaves:
            raise DataError(f"--formula {self.formula}: there is no variable in it")
        dimensions, shape = _axes_of(dataset, builder.leaves)
        aligned = [Aligned(leaf.floats(), leaf.dimensions, dimensions, shape) for leaf in builder.leaves]
        main = max(builder.leaves, key=lambda leaf: leaf.data.size)
        double = any(leaf.data.dtype.itemsize > 4 and leaf.storage.dtype is None for leaf in builder.leaves)
        dtype = np.dtype("f8" if double else "f4")
        data: LazyArray = Calculated(aligned, root.program, shape)
        units = root.units
        if self.units is not None:
            if not convertible(units, self.units):
                raise DataError(f"--units: the result is in {units}, which {self.units} cannot be made of")
            if self.units != units:
                data = Mapped(data, _Conversion(units, self.units, difference=root.difference), "f8")
            units = self.units
        about: dict[str, Any] = {"long_name": self.name.replace("_", " "), "units": units,
                                 "comment": f"{self.name} = {self.formula}"}  # fmt: skip
        if root.difference and has_offset_zero(units):
            about["units_metadata"] = "temperature: difference"
        for key in ("coordinates", "grid_mapping", "cell_measures"):
            if key in main.attributes:
                about[key] = main.attributes[key]
        data_leaves = [leaf for leaf in builder.leaves if leaf.name not in dataset.axes.auxiliary]
        methods = {str(leaf.attributes.get("cell_methods", "")) for leaf in data_leaves}
        if len(methods) == 1 and methods != {""}:
            about["cell_methods"] = methods.pop()
        made = Variable(self.name, dimensions, Mapped(data, np.asarray, dtype), about, Storage())
        if self.name in dataset.variables and (self.keep or self.name in dataset.axes.auxiliary):
            raise DataError(f"{dataset.label} has a variable {self.name} already; choose another --name")
        if self.keep:
            return dataset.with_variables([*dataset.variables.values(), made])
        with_new = dataset.with_variables([*(v for v in dataset.variables.values() if v.name != self.name), made])
        return with_new.restricted([self.name])


@dataclass(frozen=True)
class _Value:
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


Program = Callable[[list[Array]], Array]


@dataclass(frozen=True)
class _Leaf:
    at: int

    def __call__(self, blocks: list[Array]) -> Array:
        return blocks[self.at]


@dataclass(frozen=True)
class _Constant:
    value: float

    def __call__(self, blocks: list[Array]) -> Array:  # noqa: ARG002
        return np.float64(self.value)  # type: ignore[return-value]


@dataclass(frozen=True)
class _Apply:
    function: Callable[..., Array]
    arguments: tuple[Program, ...]

    def __call__(self, blocks: list[Array]) -> Array:
        with np.errstate(all="ignore"):
            return self.function(*(argument(blocks) for argument in self.arguments))


@dataclass(frozen=True)
class _Conversion:
    source: str
    target: str
    difference: bool = False

    def __call__(self, values: Array) -> Array:
        made = convert(values, self.source, self.target)
        return np.asarray(made - convert(0.0, self.source, self.target) if self.difference else made)


@dataclass(frozen=True)
class _Compare:
    sign: str

    def __call__(self, left: Array, right: Array) -> Array:
        made = _COMPARISONS[self.sign](left, right).astype(np.float64)
        return np.where(np.isnan(left) | np.isnan(right), np.nan, made)


def _both(left: Array, right: Array) -> Array:
    return np.where(np.isnan(left) | np.isnan(right), np.nan, (left != 0) & (right != 0))


def _either(left: Array, right: Array) -> Array:
    return np.where(np.isnan(left) | np.isnan(right), np.nan, (left != 0) | (right != 0))


def _not(value: Array) -> Array:
    return np.where(np.isnan(value), np.nan, value == 0)


def _where(condition: Array, left: Array, right: Array) -> Array:
    return np.where(np.isnan(condition), np.nan, np.where(condition != 0, left, right))


def _missing(value: Array) -> Array:
    return np.isnan(value).astype(np.float64)


_LOGIC: dict[str, Callable[..., Array]] = {"and": _both, "or": _either, "not": _not}


class _Builder:
    """Turns a formula into a program over the variables that it names, and checks its units."""

    def __init__(self, dataset: Dataset) -> None:
        self.dataset = dataset
        self.leaves: list[Variable] = []

    def value(self, node: Node) -> _Value:
        if isinstance(node, Number):
            if node.units is not None and not is_unit(node.units):
                raise DataError(f"--formula: UDUNITS does not know the units in {node.value:g}[{node.units}]")
            return _Value(_Constant(node.value), node.units or UNITS_OF_ONE, node.units is None, constant=node.value)
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

    def leaf(self, variable: Variable) -> _Value:
        units = variable.units or UNITS_OF_ONE
        if " since " in units:
            raise DataError(f"--formula: {variable.name} is a time; choose months or years with subset")
        if not is_unit(units):
            raise DataError(f"--formula: UDUNITS does not know the units of {variable.name} ({units}); "
                            f"annotate --set '{variable.name}:units=...' first")  # fmt: skip
        self.leaves.append(variable)
        difference = "difference" in str(variable.attributes.get("units_metadata", ""))
        return _Value(_Leaf(len(self.leaves) - 1), units, difference=difference, variable=variable)

    def reduced(self, node: Call) -> Variable:
        """Return the mean of a variable over an axis, or one of its levels."""
        inner, second = node.arguments
        if not isinstance(inner, Name):
            raise DataError(f"--formula: {node.function} is of a variable, such as {node.function}(tas, ...); do the "
                            "rest after it, or in a calc of its own")  # fmt: skip
        variable = self.variable(inner.name)
        if node.function == "mean":
            axis = second.name if isinstance(second, Name) else ""
            if axis not in _AXES:
                raise DataError(f"--formula: mean({inner.name}, {axis or '...'}): over which axis? "
                                f"{nearest_names(axis, _AXES)}")  # fmt: skip
            made = mean_over(self.dataset, variable, _AXES[axis])
            if made.data.ndim == variable.data.ndim:
                raise DataError(f"--formula: mean({inner.name}, {axis}): {inner.name} has no such axis")
            return made
        if not isinstance(second, Number):
            raise DataError(f"--formula: level({inner.name}, ...) takes a level, such as 850[hPa]")
        coordinate = self.dataset.need(Role.LEVEL)
        if coordinate.dimension not in variable.dimensions:
            raise DataError(f"--formula: {inner.name} has no levels")
        picks = level_indices(coordinate, Levels.parse(f"{second.value:g}{second.units or ''}"))
        part = take(self.dataset, {coordinate.dimension: picks})[variable.name]
        axis_at = variable.dimensions.index(coordinate.dimension)
        kept = tuple(name for name in variable.dimensions if name != coordinate.dimension)
        return part.with_(dimensions=kept, data=WithoutAxis(part.floats(), axis_at), missing=None)

    def combined(self, function: str, values: list[_Value]) -> _Value:
        if function in ("+", "-"):
            return self.sum(function, values)
        if function in _COMPARISONS:
            left, right = self.alike(function, values)
            return _Value(_Apply(_Compare(function), (left.program, right.program)), UNITS_OF_ONE)
        if function in ("min", "max"):
            alike = self.alike(function, values)
            made = alike[0].program
            for other in alike[1:]:
                made = _Apply(np.minimum if function == "min" else np.maximum, (made, other.program))
            return replace(alike[0], program=made, constant=None, variable=None)
        if function == "where":
            left, right = self.alike(function, values[1:])
            self.without_units(function, values[0])
            return replace(
                left,
                program=_Apply(_where, (values[0].program, left.program, right.program)),
                constant=None,
                variable=None,
            )
        if function in ("and", "or", "not"):
            for value in values:
                self.without_units(function, value)
            return _Value(_Apply(_LOGIC[function], tuple(value.program for value in values)), UNITS_OF_ONE)
        if function == "missing":
            return _Value(_Apply(_missing, (values[0].program,)), UNITS_OF_ONE)
        if function in ("negative", "abs"):
            work_on = np.negative if function == "negative" else np.abs
            constant = None if values[0].constant is None else float(work_on(values[0].constant))
            return replace(values[0], program=_Apply(work_on, (values[0].program,)), constant=constant, variable=None)
        return self.scaled(function, values)

    def sum(self, sign: str, values: list[_Value]) -> _Value:
        left, right = self.alike(sign, values, sums=True)
        both_offset = has_offset_zero(left.units) and not left.difference and not right.difference and not right.plain
        if sign == "+" and both_offset and not values[1].plain:
            raise DataError(
                f"--formula: two temperatures in {left.units} cannot be added, since their zero is arbitrary"
            )
        work = _Apply(np.add if sign == "+" else np.subtract, (left.program, right.program))
        difference = left.difference and right.difference
        if sign == "-" and convertible(left.units, "K") and not right.difference and not values[1].plain:
            return _Value(
                work, "K" if has_offset_zero(left.units) and left.units == "degC" else left.units, difference=True
            )
        return _Value(work, left.units, values[0].plain and values[1].plain, difference or left.difference)

    def scaled(self, function: str, values: list[_Value]) -> _Value:
        """Return a product, quotient, power, or function of a number."""
        for value in values:
            if has_offset_zero(value.units) and not value.difference:
                raise DataError(f"--formula: {function} of a temperature in {value.units}, whose zero is arbitrary; "
                                "convert it to K first, or take a difference")  # fmt: skip
        programs = tuple(value.program for value in values)
        if function in ("*", "/"):
            left, right = values
            units = product(left.units, right.units, divide=function == "/")
            work = np.multiply if function == "*" else np.divide
            constant = None
            if left.constant is not None and right.constant is not None and (function == "*" or right.constant):
                constant = float(work(left.constant, right.constant))
            return _Value(_Apply(work, programs), units, left.plain and right.plain,
                          left.difference or right.difference, constant)  # fmt: skip
        if function == "^":
            self.without_units(function, values[1])
            exponent = values[1].constant
            if exponent is None and values[0].units != UNITS_OF_ONE:
                raise DataError(f"--formula: a power of something in {values[0].units} needs a number as its exponent")
            units = self.raised(values[0], 1.0 if exponent is None else exponent)
            return _Value(_Apply(np.power, programs), units)
        if function == "sqrt":
            return _Value(_Apply(np.sqrt, programs), self.raised(values[0], 0.5))
        if function == "arctan2":
            left, right = self.alike(function, values)
            return _Value(_Apply(np.arctan2, (left.program, right.program)), "radian")
        if function in _ANGLES and values[0].units != UNITS_OF_ONE:
            if not convertible(values[0].units, "radian"):
                raise DataError(f"--formula: {function} takes an angle, and not {values[0].units}")
            programs = (_Apply(_Conversion(values[0].units, "radian"), programs),)
        elif function in _PLAIN:
            self.without_units(function, values[0])
        return _Value(_Apply(_OF_NUMBERS[function], programs), UNITS_OF_ONE)

    def raised(self, value: _Value, exponent: float) -> str:
        found = power(value.units, exponent)
        if found is None:
            raise DataError(f"--formula: there are no units of ({value.units})^{exponent:g}")
        return found

    def without_units(self, function: str, value: _Value) -> None:
        if value.units != UNITS_OF_ONE and not convertible(value.units, UNITS_OF_ONE):
            raise DataError(f"--formula: {function} takes numbers without units, and this is in {value.units}; divide "
                            f"by 1[{value.units}]")  # fmt: skip

    def alike(self, function: str, values: list[_Value], *, sums: bool = False) -> list[_Value]:
        """Return values in the units of the first that has some; plain numbers take them."""
        chosen = next((value for value in values if not value.plain), values[0])
        made = []
        for value in values:
            if value.plain or value.units == chosen.units:
                made.append(replace(value, units=chosen.units))
                continue
            if (amount := _amount_of_water(value, chosen)) is not None:
                made.append(replace(value, program=_Constant(amount), units=chosen.units, constant=amount))
                continue
            if not convertible(value.units, chosen.units):
                raise DataError(f"--formula: {function} of {chosen.units} and {value.units}, which cannot be turned "
                                "into each other")  # fmt: skip
            difference = value.difference or (sums and function == "+" and has_offset_zero(chosen.units))
            change = _Conversion(value.units, chosen.units, difference=difference)
            made.append(
                replace(
                    value,
                    program=_Apply(change, (value.program,)),
                    units=chosen.units,
                    difference=difference,
                    variable=None,
                )
            )
        return made


def _amount_of_water(value: _Value, company: _Value) -> float | None:
    """Return a number such as 1[mm/day] in units of the mass of water, where its company is such a variable."""
    if value.constant is None or company.variable is None or convertible(value.units, company.units):
        return None
    try:
        change = rescaling(company.variable, value.units)
    except DataError:
        return None
    return (value.constant - change.offset) / change.factor


def _axes_of(dataset: Dataset, leaves: list[Variable]) -> tuple[tuple[str, ...], tuple[int, ...]]:
    """Return the dimensions of the result: those of all leaves, in the order in which most have them."""
    longest = max(leaves, key=lambda leaf: leaf.data.ndim)
    dimensions = list(longest.dimensions)
    sizes: dict[str, int] = {}
    for leaf in leaves:
        for name, n in zip(leaf.dimensions, leaf.shape, strict=True):
            if sizes.setdefault(name, n) != n:
                raise DataError(f"{dataset.label}: the axis {name} has {sizes[name]} cells and {n}, in one formula")
        dimensions += [name for name in leaf.dimensions if name not in dimensions]
    return tuple(dimensions), tuple(sizes[name] for name in dimensions)


class Calculated(LazyArray):
    """What a program makes of the blocks of several aligned arrays, in float64."""

    dtype = np.dtype("f8")

    def __init__(self, parts: list[Aligned], program: Program, shape: tuple[int, ...]) -> None:
        self._parts, self._program, self.shape = parts, program, shape
        self.chunks = max(parts, key=lambda part: part.places).chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return tuple(self._parts)

    def read(self, region: Region) -> Array:
        values = self._program([part.read(region).astype(np.float64) for part in self._parts])
        return np.broadcast_to(values, tuple(part.stop - part.start for part in region)).copy()
