"""A new variable from a formula."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Aligned, Array, LazyArray, Mapped, Region
from rhodolite.errors import DataError, UsageError
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.units.udunits import is_temperature, is_unit
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.expressions.compiler import ProgramBuilder
from rhodolite.operations.expressions.elements import Program
from rhodolite.operations.expressions.parser import Formula
from rhodolite.operations.expressions.values import Value
from rhodolite.operations.variables.other_units import in_units


@dataclass(frozen=True)
class Calc(Operation):
    """A new variable from a formula of ordinary arithmetic.

    Names are variables and coordinates; 5[degC] is a number with units, and a number without
    units takes those of what it is added to or compared with. There are + - * / ^, comparisons
    (1 where true, 0 where false), and, or, not, sqrt, exp, log, log10, abs, sin, cos, tan,
    arctan2, min, max, where(condition, a, b), missing(x), mean(x, time) or over area, lat, lon
    or level, level(x, 850[hPa]), and of the components of a wind to the east and north speed(u,
    v) and direction(u, v), from where it blows.

    Units are checked and derived. What has the dimension of a number is one at once, with its
    factor: km / m is 1000. Functions of numbers take a percentage as its share, so exp and log
    of 50 % are those of 0.5. Temperatures against differences of temperatures are refused, and
    amounts for a month or a year count by the days of the month or year of each step. The result
    is missing where a value that it needs is missing. The input variables are left out unless
    `--keep` is given.

    Examples
    --------
    >>> Calc(formula="sqrt(ua^2 + va^2)", name="wind_speed")  # doctest: +SKIP
    """

    formula: Formula | None = parameter("what to calculate", example="'sqrt(ua^2 + va^2)'")
    name: str | None = parameter("name of the new variable", example="NAME")
    units: str | None = parameter("units of the result", example="UNITS")
    keep: bool = parameter("keep the input variables as well", default=False)

    def check(self) -> None:
        if self.formula is None:
            raise UsageError(
                "calc: what? Add --formula, such as --formula 'sqrt(ua^2 + va^2)' --name wind_speed"
            )
        if self.name is None or not self.name.isidentifier():
            raise UsageError(
                "calc: the result needs a name of letters, digits and _; add --name, such as "
                "--name wind_speed"
            )
        if self.units is not None and not is_unit(self.units):
            raise UsageError(f"--units: UDUNITS does not know '{self.units}'")

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with the new variable.

        Raises
        ------
        DataError
            If a name is not there, or units or axes do not go together.
        """
        assert self.formula is not None
        assert self.name is not None
        builder = ProgramBuilder(dataset)
        root = builder.value(self.formula.tree)
        if not builder.leaves:
            raise DataError(f"--formula {self.formula}: there is no variable in it")
        dimensions, shape = _axes_of(dataset, builder.leaves)
        aligned = [
            Aligned(leaf.floats(), leaf.dimensions, dimensions, shape) for leaf in builder.leaves
        ]
        data: LazyArray = Calculated(aligned, root.program, shape)
        about = self._describe(dataset, builder.leaves, root)
        result = Variable(self.name, dimensions, data, about, Storage())
        if self.units is not None and self.units != root.units:
            if not can_be_in(result, self.units):
                raise DataError(
                    f"--units: cannot convert the result from {root.units} to {self.units}"
                )
            result = in_units(dataset, result, self.units)
        result = result.replace(data=Mapped(result.data, np.asarray, _type_of(builder.leaves)))
        return self._added(dataset, result)

    def _describe(self, dataset: Dataset, leaves: list[Variable], root: Value) -> dict[str, Any]:
        """Return the attributes of the result of a formula."""
        assert self.name is not None
        about: dict[str, Any] = {
            "long_name": self.name.replace("_", " "),
            "units": root.units,
            "comment": f"{self.name} = {self.formula}",
        }
        if root.difference and is_temperature(root.units):
            about["units_metadata"] = "temperature: difference"
        main = max(leaves, key=lambda leaf: leaf.data.size)
        for key in ("coordinates", "grid_mapping", "cell_measures"):
            if key in main.attributes:
                about[key] = main.attributes[key]
        fields = [leaf for leaf in leaves if leaf.name not in dataset.axes.auxiliary]
        methods = {str(leaf.attributes.get("cell_methods", "")) for leaf in fields}
        if len(methods) == 1 and methods != {""}:
            about["cell_methods"] = methods.pop()
        return about

    def _added(self, dataset: Dataset, result: Variable) -> Dataset:
        """Return the dataset with the result, or with the result alone and what describes it."""
        taken = result.name in dataset.variables
        if taken and (self.keep or result.name in dataset.axes.auxiliary):
            raise DataError(
                f"{dataset.label} has a variable {result.name} already; choose another --name"
            )
        if self.keep:
            return dataset.with_variables([*dataset.variables.values(), result])
        others = [v for v in dataset.variables.values() if v.name != result.name]
        return dataset.with_variables([*others, result]).restrict([result.name])


def _type_of(leaves: list[Variable]) -> np.dtype[Any]:
    """Return double precision where a variable was stored with it, and not only unpacked to it."""
    double = [leaf.data.dtype.itemsize > 4 and leaf.storage.dtype is None for leaf in leaves]
    return np.dtype("f8" if any(double) else "f4")


def _axes_of(dataset: Dataset, leaves: list[Variable]) -> tuple[tuple[str, ...], tuple[int, ...]]:
    """Return the dimensions of the result: those of all leaves, in the order in which most have
    them."""
    longest = max(leaves, key=lambda leaf: leaf.data.ndim)
    dimensions = list(longest.dimensions)
    sizes: dict[str, int] = {}
    for leaf in leaves:
        for name, n in zip(leaf.dimensions, leaf.shape, strict=True):
            if sizes.setdefault(name, n) != n:
                raise DataError(
                    f"{dataset.label}: the axis {name} has {sizes[name]} cells and {n}, in one "
                    "formula"
                )
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
