"""Which variables of a dataset hold the daily values that indicators are made of."""

from __future__ import annotations

import re
from collections.abc import Mapping

import numpy as np

from rhodolite.arrays import Array, Elementwise
from rhodolite.errors import DataError, nearest_names
from rhodolite.model.cf.cell_methods import methods_over_time
from rhodolite.model.cf.precipitation import tell_precipitation
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.differences import is_difference
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import Variable
from rhodolite.operations.indicators.definitions import Needs
from rhodolite.operations.variables.along_time import variables_along_time
from rhodolite.operations.variables.other_units import in_units

_NAMES = {
    Needs.LOWEST: re.compile(r"min|(^|_)tn($|_|2m)"),
    Needs.HIGHEST: re.compile(r"max|(^|_)tx($|_|2m)"),
}
_OPTIONS = {
    Needs.LOWEST: "--lowest",
    Needs.HIGHEST: "--highest",
    Needs.MEAN: "--mean",
    Needs.RAIN: "--rain",
}
_METHOD_OF = {"minimum": Needs.LOWEST, "maximum": Needs.HIGHEST, "mean": Needs.MEAN}


class Sources:
    """The variables of a dataset that indicators can be made of.

    Parameters
    ----------
    dataset : Dataset
    named : mapping of Needs to str
        Names that were given, where the variables themselves do not tell.
    """

    def __init__(self, dataset: Dataset, named: Mapping[Needs, str]) -> None:
        self._dataset = dataset
        self._named = named
        self._along_time, _ = variables_along_time(dataset)

    def find(self, needs: Needs) -> Variable:
        """Return the variable that an indicator needs, or make it of two others.

        Raises
        ------
        DataError
            If there is none, or several could be meant.
        """
        if needs is Needs.RANGE:
            return self._of_both(np.subtract, "range")
        if needs in self._named:
            return self._by_name(needs)
        known = [v for v in self._along_time if self._fits(needs, v)]
        if len(known) == 1:
            return known[0]
        if not known and needs is Needs.MEAN and self._has_both():
            return self._of_both(_middle, "mean")
        raise DataError(f"{self._dataset.label}: {self._doubt(needs, known)}")

    def _doubt(self, needs: Needs, known: list[Variable]) -> str:
        """Say why it is not clear which variable is meant."""
        option = f"{_OPTIONS[needs]} NAME"
        if known:
            names = ", ".join(v.name for v in known)
            return f"{names} can be the {needs.value}; {option} says which"
        names = ", ".join(v.name for v in self._along_time)
        return f"no variable says that it is the {needs.value}; {option} names it, of {names}"

    def _by_name(self, needs: Needs) -> Variable:
        name = self._named[needs]
        known = {v.name: v for v in self._along_time}
        if name not in known:
            hint = nearest_names(name, list(known))
            raise DataError(
                f"{_OPTIONS[needs]}: no variable '{name}' along time. {hint}"
            )
        return known[name]

    def _fits(self, needs: Needs, variable: Variable) -> bool:
        if needs is Needs.RAIN:
            return tell_precipitation(variable) is not None
        units = variable.units
        if not units or not is_temperature(units) or is_difference(variable):
            return False
        return tell_extreme(variable) is needs

    def _has_both(self) -> bool:
        return all(
            needs in self._named or any(self._fits(needs, v) for v in self._along_time)
            for needs in (Needs.LOWEST, Needs.HIGHEST)
        )

    def _of_both(self, function: np.ufunc | object, ending: str) -> Variable:
        """Return a variable made of the daily minimum and maximum."""
        high, low = self.find(Needs.HIGHEST), self.find(Needs.LOWEST)
        if high.dimensions != low.dimensions or high.shape != low.shape:
            raise DataError(
                f"{self._dataset.label}: {high.name} and {low.name} lie on different axes"
            )
        if low.units != high.units:
            low = in_units(self._dataset, low, str(high.units))
        data = Elementwise([high.floats(), low.floats()], function)  # type: ignore[arg-type]
        return high.replace(
            name=f"{high.name}_{low.name}_{ending}", data=data, missing=None
        )


def tell_extreme(variable: Variable) -> Needs:
    """Return whether a temperature is the lowest, the highest or the mean of each day."""
    for method in reversed(methods_over_time(variable.attributes)):
        if method in _METHOD_OF:
            return _METHOD_OF[method]
    words = f"{variable.name} {variable.quantity}".lower()
    for needs, pattern in _NAMES.items():
        if pattern.search(variable.name.lower()) or pattern.search(words):
            return needs
    return Needs.MEAN


def _middle(high: Array, low: Array) -> Array:
    return np.asarray((high + low) / 2)
