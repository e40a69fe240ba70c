"""What a trend becomes in a dataset: the slope, what goes with it, and the change over the
record."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from rhodolite.arrays import LazyArray, Mapped, Reduction
from rhodolite.model.cf.departures import BASE_PERIOD
from rhodolite.model.cf.named_variables import named_in, placing_of
from rhodolite.model.units.conversion import Rescaling
from rhodolite.model.units.differences import describe_units
from rhodolite.model.variable import Variable
from rhodolite.operations.trends.false_discovery import flag_significant
from rhodolite.operations.trends.spec import TrendSpec


@dataclass(frozen=True, eq=False)
class TrendResults:
    """The variables that say what the trend of one variable is.

    Parameters
    ----------
    variable : Variable
    along : int
        Where time lies.
    time : str
        Name of the time coordinate, which holds the period as a whole.
    reduction : Reduction
        Gives the results of the estimate by name.
    spec : TrendSpec
    units : str or None
        Of a change of the variable.
    rate, bend : str or None
        Units of the slope, and of its own change.
    periods : float
        How many of the periods of the slope the record is long.
    years : float
        How many years it is long.
    alpha : float
        Significance level.
    false_discovery : bool
        Whether that is the share of false ones among those that are called significant.
    order : int
        Of the polynomial.
    """

    variable: Variable
    along: int
    time: str
    reduction: Reduction
    spec: TrendSpec
    units: str | None
    rate: str | None
    bend: str | None
    periods: float
    years: float
    alpha: float
    false_discovery: bool
    order: int

    def variables(self) -> list[Variable]:
        """Return the slope, what is known of it, and the change over the whole record."""
        helpers = [*self._limits(), *self._acceleration(), *self._persistence()]
        pvalue = self._result(
            "_pvalue",
            "pvalue",
            "p-value of the trend",
            {"units": "1", "comment": self.spec.test_words},
            np.float64,
        )
        helpers += [pvalue, self._significant(pvalue)]
        named = " ".join(helper.name for helper in helpers)
        about = {"comment": self.spec.slope_words, "ancillary_variables": named}
        slope = self._result("", "slope", "trend", {**_units(self.rate), **about})
        return [slope, *helpers, self._change(slope.data)]

    @property
    def _name(self) -> str:
        return f"{self.variable.name}_trend"

    @property
    def _dimensions(self) -> tuple[str, ...]:
        return tuple(
            d for at, d in enumerate(self.variable.dimensions) if at != self.along
        )

    @property
    def _shape(self) -> tuple[int, ...]:
        return tuple(n for at, n in enumerate(self.variable.shape) if at != self.along)

    @cached_property
    def _attributes(self) -> dict[str, Any]:
        """What all of the variables share."""
        given = self.variable.attributes
        base = {BASE_PERIOD: given[BASE_PERIOD]} if BASE_PERIOD in given else {}
        listed = [*named_in(self.variable, "coordinates"), self.time]
        coordinates = " ".join(dict.fromkeys(listed))
        return {**base, **placing_of(self.variable), "coordinates": coordinates}

    def _result(
        self,
        ending: str,
        result: str,
        words: str,
        about: dict[str, Any],
        kind: Any = None,
    ) -> Variable:
        """Return one result of the estimate as a variable."""
        dtype = np.dtype(self.variable.precision) if kind is None else kind
        data = self.reduction.output(result, self._shape, dtype)
        long_name = {"long_name": f"{words} of {self.variable.quantity}"}
        attributes = {**long_name, **about, **self._attributes}
        return Variable(f"{self._name}{ending}", self._dimensions, data, attributes)

    def _limits(self) -> list[Variable]:
        return [
            self._result(f"_{name}", name, f"{words} of the trend", _units(self.rate))
            for name, words in self.spec.bounds.items()
        ]

    def _acceleration(self) -> list[Variable]:
        if self.order != 2:
            return []
        words, units = "acceleration", _units(self.bend)
        error = "acceleration_error"
        return [
            self._result(f"_{words}", words, words, units),
            self._result(f"_{error}", error, f"standard error of the {words}", units),
        ]

    def _persistence(self) -> list[Variable]:
        return [
            self._result(f"_{name}", name, words, {"units": "1"}, np.float64)
            for name, words in self.spec.persistence_results.items()
        ]

    def _significant(self, pvalue: Variable) -> Variable:
        return flag_significant(
            f"{self._name}_significant",
            f"whether the trend of {self.variable.quantity} is significant",
            pvalue,
            self.alpha,
            false_discovery=self.false_discovery,
            attributes=self._attributes,
        )

    def _change(self, slope: LazyArray) -> Variable:
        quantity = self.variable.quantity
        about = {
            "long_name": f"change of {quantity} over the whole record, {self.years:.4g} years",
            **describe_units(self.units, difference=True),
            **self._attributes,
        }
        data = Mapped(slope, Rescaling(self.periods, 0.0), slope.dtype)
        return Variable(f"{self.variable.name}_change", self._dimensions, data, about)


def _units(units: str | None) -> dict[str, str]:
    return {"units": units} if units else {}
