"""A field, its passes, and the variables that become of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Concatenated, InMemory, LazyArray, Mapped, Reduction
from rhodolite.kernels.weighted_sums import axes_of
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import drop_astray, placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import area_weights_of
from rhodolite.operations.decomposition.passes import Maps, Products
from rhodolite.operations.variables.along_time import time_axis_of

PATTERN = "pattern"


@dataclass(frozen=True, eq=False)
class Field:
    """A field whose patterns are looked for.

    Attributes
    ----------
    dataset : Dataset
    variable : Variable
    count : int
        How many patterns.
    standardised : bool
        Whether departures are divided by their standard deviation.
    fewest : float
        Share of the times that a cell has to have.
    """

    dataset: Dataset
    variable: Variable
    count: int
    standardised: bool
    fewest: float

    @property
    def times(self) -> int:
        return len(self.dataset.need_time())

    @property
    def _along(self) -> int:
        return time_axis_of(self.dataset, self.variable)

    @property
    def _cells(self) -> tuple[int, ...]:
        along = self._along
        return (*self.variable.shape[:along], *self.variable.shape[along + 1 :])

    def _with_weights(self) -> LazyArray:
        """Return the values with a row of the weights of cells below the last time."""
        shape = [*self.variable.shape]
        shape[self._along] = 1
        weights = np.ones(shape)
        for key, of_axes in area_weights_of(self.dataset, self.variable).items():
            places = axes_of(key)
            order = np.argsort(places)
            aligned = np.transpose(of_axes, order) if len(places) > 1 else of_axes
            sizes = [n if at in places else 1 for at, n in enumerate(shape)]
            weights = weights * aligned.reshape(sizes)
        total = weights.sum()
        return Concatenated(
            [self.variable.floats(), InMemory(weights / total)], self._along
        )

    def _settings(self) -> tuple[str, int, bool, float]:
        return (self.variable.name, self._along, self.standardised, self.fewest)

    def products(self) -> LazyArray:
        """Return the products of all pairs of times, shape (n, n)."""
        work = Products(*self._settings(), steps=self.times)
        reduction = Reduction(self._with_weights(), series=work)
        return reduction.output("products", (self.times, self.times))

    def maps(self, series: LazyArray) -> tuple[LazyArray, LazyArray]:
        """Return the maps of series, and the loadings that a rotation goes by."""
        work = Maps(*self._settings(), series=series, count=self.count)
        reduction = Reduction(self._with_weights(), series=work)
        shape = (self.count, *self._cells)
        maps: LazyArray = reduction.output("maps", shape)
        return maps, reduction.output("loadings", shape)

    def describe_map(self, name: str, maps: LazyArray, kind: str) -> Variable:
        """Return the variable of maps; `kind` is what they are, in words."""
        along, variable = self._along, self.variable
        factor, units = of_differences(variable.units)
        data = Mapped(maps, Rescaling(factor, 0.0), "f8") if factor != 1.0 else maps
        about = placing_of(variable)
        about["long_name"] = f"{kind} of {variable.quantity}"
        about["comment"] = (
            "change of the field with one standard deviation of the series"
        )
        about |= describe_units(units, difference=True)
        dims = (*variable.dimensions[:along], *variable.dimensions[along + 1 :])
        storage = Storage(dtype=np.dtype(variable.precision).name)
        result = Variable(name, (PATTERN, *dims), data, about, storage)
        return drop_astray(result, self.dataset.variables)

    def describe_series(self, name: str, series: LazyArray, kind: str) -> Variable:
        """Return the variable of series; `kind` is what they are, in words."""
        time = str(self.dataset.need(Role.TIME).dimension)
        matrix = "correlation" if self.standardised else "covariance"
        about = {
            "long_name": f"series of the {kind} of {self.variable.quantity}",
            "units": UNITS_OF_ONE,
            "comment": f"{matrix} matrix, cells weighted by their area; the largest departure of "
            "each series is positive",
        }
        return Variable(name, (time, PATTERN), series, about, Storage(dtype="float64"))
