"""A new variable from a formula."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Mapped
from rhodolite.errors import DataError, UsageError
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.units.known_units import known_units
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.expressions.calculation import calculate
from rhodolite.operations.expressions.parser import Formula
from rhodolite.operations.variables.other_units import in_units


@dataclass(frozen=True)
class Calc(Operation):
    """A new variable from a formula of ordinary arithmetic.

    Names are variables and coordinates; 5[degC] is a number with units, and a number without
    units takes those of what it is added to or compared with. There are + - * / ^, comparisons
    (1 where true, 0 where false), and, or, not, sqrt, exp, expm1, log, log2, log10, log1p, abs,
    floor, ceil, round, sin, cos, tan, arcsin, arccos, arctan, arctan2, sinh, cosh, tanh, min,
    max, where(condition, a, b), missing(x), mean(x, time) or over area, lat, lon or level,
    level(x, 850[hPa]), and of the components of a wind to the east and north speed(u, v) and
    direction(u, v), from where it blows.

    Of weather there are saturation_pressure(t), relative_humidity(t, dew), dew_point(t, rh),
    specific_humidity(dew, pressure), vapour_pressure_deficit(t, rh), wet_bulb(t, rh), heat_index(t,
    rh), wind_chill(t, wind), and of evapotranspiration hargreaves(tmin, tmax) and
    penman_monteith(tmin, tmax, radiation, wind, vapour, pressure). They take any units.

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

    formula: Formula | None = parameter(
        "what to calculate", example="'sqrt(ua^2 + va^2)'"
    )
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
        if self.units is not None:
            try:
                self._wanted_units()
            except ValueError as error:
                raise UsageError(f"--units: {error}") from None

    def _wanted_units(self) -> str | None:
        return None if self.units is None else known_units(self.units)

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return False

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with the new variable.

        Raises
        ------
        DataError
            If a name is not there, or units or axes do not go together.
        """
        assert self.formula is not None
        assert self.name is not None
        result = calculate(dataset, self.formula.tree, self.name, str(self.formula))
        units, wanted = result.units, self._wanted_units()
        if wanted is not None and wanted != units:
            if not can_be_in(result, wanted):
                raise DataError(
                    f"--units: cannot convert the result from {units} to {wanted}"
                )
            # Converted in double precision, and rounded after it.
            exact = result.replace(data=result.data.sources()[0])
            converted = in_units(dataset, exact, wanted)
            result = converted.replace(
                data=Mapped(converted.data, np.asarray, result.data.dtype)
            )
        return self._added(dataset, result)

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
