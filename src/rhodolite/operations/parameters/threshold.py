"""Numbers that values are compared with, in the units of any variable."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.errors import DataError
from rhodolite.model.units.calendar_rates import calendar_rate
from rhodolite.model.units.conversion import rescaling_between
from rhodolite.model.units.differences import is_difference
from rhodolite.model.units.typed_numbers import read_number
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class Threshold:
    """A number to compare with: `1mm/day`, `20[degC]`, or `0.5` in the units of the data.

    Attributes
    ----------
    number : float
    units : str
        Those of the data where it is empty.

    Examples
    --------
    >>> str(Threshold.parse("20 [degC]"))
    '20degC'
    """

    number: float
    units: str = ""

    @classmethod
    def parse(cls, text: str) -> Self:
        typed = read_number(text)
        if typed is None:
            raise ValueError(f"'{text}' is no threshold; write it like 1mm/day")
        return cls(*typed)

    def __str__(self) -> str:
        return f"{write_number(self.number)}{self.units}"

    def within(self, variable: Variable, said: str, advice: str = "") -> float:
        """Return the number in the units of a variable.

        Parameters
        ----------
        variable : Variable
            With units of its own; a threshold of differences of temperature is one, too.
        said : str
            Where the threshold was asked for, for an error.
        advice : str
            What there is instead, for an error.

        Raises
        ------
        DataError
            If its units cannot be converted to them, or not by one factor.
        """
        if not self.units or self.units == variable.units:
            return self.number
        own, difference = variable.units or UNITS_OF_ONE, is_difference(variable)
        try:
            change = rescaling_between(self.units, own, difference=difference)
        except ValueError:
            raise DataError(
                f"{said}: {variable.name} is in {variable.units or 'no units'}, which "
                f"{self.units} cannot be converted to{advice}"
            ) from None
        rates = [calendar_rate(units) for units in (self.units, own)]
        if (rates[0] and rates[0][1]) != (rates[1] and rates[1][1]):
            raise DataError(
                f"{said}: {variable.name} is in {own}, and months and years differ in length, so "
                f"{self.units} is not one threshold; convert --units "
                f"'{variable.name}={self.units}' first"
            )
        return change.of(self.number)
