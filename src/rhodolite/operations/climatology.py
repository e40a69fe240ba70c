"""The mean cycle over a base period."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.periods import Period
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.cycles import Cycle
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.metadata import climatology_attributes
from rhodolite.operations.normals import BASE_COVERAGE, Base, check_coverage, sort_by_time, time_place

BOUNDS = "climatology_bounds"


@operation
@dataclass(frozen=True)
class Climatology:
    """The mean cycle over a base period.

    Each phase of the cycle gets the mean of all its steps within the base period, each step
    with the same weight; missing values are left out. Months are those of the data's own
    calendar; seasons are DJF, MAM, JJA and SON. The result carries climatological time (CF 7.4).

    Examples
    --------
    >>> Climatology(base="1991..2020", cycle="season")  # doctest: +SKIP
    """

    base: Period | None = parameter("years that define normal; all by default", example="1991..2020")
    cycle: Cycle = parameter("what repeats from year to year", default=Cycle.MONTH)
    min_coverage: float = parameter("share of the base's values that a normal needs", default=BASE_COVERAGE)

    def check(self) -> None:
        check_coverage(self.min_coverage)

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset with one step for each phase of the cycle.

        Raises
        ------
        DataError
            If there is no time axis, the data are coarser than the cycle, or the base is not covered.
        """
        base = Base.of(dataset, self.cycle, self.base, self.min_coverage)
        along_time, others = sort_by_time(dataset)
        coordinate = dataset.need(Role.TIME)
        made = {variable.name: variable for variable in others}
        made.update({v.name: v for v in _time_variables(coordinate, base)})
        for variable in along_time:
            made[variable.name] = _normal(dataset, variable, base)
        order = [name for name in dataset.variables if name in made] + [BOUNDS]
        return dataset.with_variables([made[name] for name in dict.fromkeys(order)],
                                      unlimited=dataset.unlimited - {str(coordinate.dimension)})  # fmt: skip


def _normal(dataset: Dataset, variable: Variable, base: Base) -> Variable:
    reduction, shape = base.reduction(dataset, variable)
    along = time_place(dataset, variable)
    dimensions = (variable.dimensions[along], *variable.dimensions[:along], *variable.dimensions[along + 1 :])
    return variable.with_(
        dimensions=dimensions,
        data=reduction.output("mean", shape, variable.floats().dtype),
        attributes=climatology_attributes(variable, base, str(dataset.need(Role.TIME).dimension)),
        storage=Storage(dtype=variable.storage.dtype),
        missing=None,
    )


def _time_variables(coordinate: Coordinate, base: Base) -> tuple[Variable, Variable]:
    """Return climatological time and its bounds (CF 7.4).

    A phase is placed in the middle of its first occurrence; its bounds run from the beginning of
    that to the end of its last.
    """
    axis, cycle, variable = base.axis, base.cycle, coordinate.variable
    ends = coordinate.bounds_variable.dimensions[-1] if coordinate.bounds_variable else "bounds"
    bounds = np.empty((base.present.size, 2))
    middles = np.empty(base.present.size)
    for row, phase in enumerate(base.present):
        first, last = (
            cycle.limits(int(phase), base.first, axis.calendar),
            cycle.limits(int(phase), base.last, axis.calendar),
        )
        middles[row] = (axis.to_number(first[0]) + axis.to_number(first[1])) / 2
        bounds[row] = axis.to_number(first[0]), axis.to_number(last[1])
    time = variable.without("bounds", climatology=BOUNDS).with_(data=InMemory(middles), storage=Storage(), missing=None)
    return time, Variable(BOUNDS, (*variable.dimensions, ends), InMemory(bounds))
