"""From one set of levels to another."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role, is_in_order
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import convert, convertible, is_unit
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.variables.references import drop_stale, without_axes
from rhodolite.operations.vertical.conditions import ColumnCondition
from rhodolite.operations.vertical.coordinate import Vertical
from rhodolite.operations.vertical.first_level import find_first_level
from rhodolite.operations.vertical.level_array import Releveled
from rhodolite.operations.vertical.new_levels import NewLevels


class LevelMethod(StrEnum):
    """The coordinate in which interpolation between levels is linear."""

    LOG_PRESSURE = "log-pressure"
    LINEAR = "linear"


@dataclass(frozen=True)
class Relevel(Operation):
    """Values at other pressures, heights or depths.

    Interpolation between the levels on both sides is linear in the logarithm of pressure where
    levels are pressures, and in height or depth otherwise. For model levels (hybrid
    sigma-pressure, sigma) pressures are computed from the formula terms in the file. Values are
    missing beyond the outermost level, unless `--extrapolate` continues the outermost gradient,
    and where a level that is needed is missing.

    `--by zg` brings pressure levels to heights, or model levels to those that a variable gives at
    each cell: a geopotential height, a geopotential, or a pressure. `--find` gives the first level,
    from the ground up or from the surface of the sea down, where a condition is met: 'ta < 0degC'
    is the freezing level, 'thetao differs 0.2K from 10m' the depth of the mixed layer.

    Examples
    --------
    >>> Relevel(to="850hPa,500hPa")  # doctest: +SKIP
    """

    to: NewLevels | None = parameter(
        "new levels, with units", example="850hPa,500hPa|100m..2000m/100m"
    )
    method: LevelMethod | None = parameter(
        "coordinate of the linear interpolation (default: log-pressure for pressures)"
    )
    extrapolate: bool = parameter(
        "extrapolate beyond the outermost levels", default=False
    )
    by: str | None = parameter(
        "a variable of heights or pressures that --to is of, such as geopotential height",
        example="NAME",
    )
    find: ColumnCondition | None = parameter(
        "instead of --to, the first level from the surface where a condition is met",
        example="'ta < 0degC'",
    )

    def check(self) -> None:
        if self.find is not None:
            if self.to is not None or self.by is not None:
                raise UsageError(
                    "--find: the level is what is looked for; leave --to and --by out"
                )
            return
        if self.to is None:
            raise UsageError(
                "relevel: to which levels? Add --to 850hPa,500hPa or --to 100m..2000m/100m"
            )
        if self.to.units and not is_unit(self.to.units):
            raise UsageError(f"--to: UDUNITS does not know '{self.to.units}'")

    def apply(self, dataset: Dataset) -> Dataset:
        """Return the dataset at the other levels.

        Raises
        ------
        DataError
            If there are no levels, they cannot be found, or are of another kind.
        """
        if self.find is not None:
            level = find_first_level(dataset, self.find)
            gone = str(dataset.need(Role.LEVEL).dimension)
            return without_axes(dataset, (gone,), {}, [level])
        vertical = Vertical.of(dataset)
        if self.by is not None:
            vertical = vertical.given_by(dataset[self.by])
        levels, wanted, units = self._wanted(vertical)
        logarithmic = self._is_logarithmic(vertical, wanted)
        self._warn_of_ends(vertical, wanted, units)
        results = {
            v.name: [self._relevel(v, vertical, wanted, logarithmic)]
            for v in _along(dataset, vertical)
        }
        coordinate = self._coordinate(dataset, vertical, levels, units)
        return without_axes(dataset, (vertical.dimension,), results, [coordinate])

    def _wanted(self, vertical: Vertical) -> tuple[Array, Array, str]:
        """Return the new levels as they were asked for and in the units of the old ones, and their
        units."""
        assert self.to is not None
        units = self.to.units or vertical.units
        if not convertible(units, vertical.units):
            kind = "pressures" if vertical.pressure else "heights or depths"
            raise DataError(
                f"--to {self.to}: the levels are {kind} (in {vertical.units}), which {units} "
                "cannot be converted to"
            )
        typed = np.array(self.to.values)
        converted = np.asarray(convert(typed, units, vertical.units), dtype=np.float64)
        counted = vertical.counted(converted)
        turned = counted is not converted
        levels = _in_order(-typed if turned else typed, vertical)
        wanted = np.asarray(convert(levels, units, vertical.units), dtype=np.float64)
        return levels, vertical.nearest(wanted), units

    def _is_logarithmic(self, vertical: Vertical, wanted: Array) -> bool:
        """Return whether lines are straight in the logarithm of pressure."""
        if self.method is LevelMethod.LOG_PRESSURE and not vertical.pressure:
            raise DataError(
                f"--method log-pressure: the levels are not pressures but in {vertical.units}"
            )
        logarithmic = vertical.pressure and self.method is not LevelMethod.LINEAR
        if logarithmic and (wanted <= 0).any():
            raise DataError(f"--to {self.to}: a pressure has to be above zero")
        return logarithmic

    def _warn_of_ends(self, vertical: Vertical, wanted: Array, units: str) -> None:
        if vertical.values is None or self.extrapolate:
            return
        beyond = vertical.beyond(wanted)
        if beyond.all():
            raise DataError(
                f"--to {self.to}: all lie beyond the levels that there are "
                f"({vertical.ends_in(units)} {units}); --extrapolate goes on beyond them"
            )
        if beyond.any():
            listed = ", ".join(
                f"{float(convert(value, vertical.units, units)):g}"
                for value in wanted[beyond][:5]
            )
            warn(
                f"{int(beyond.sum())} of {wanted.size} new levels lie beyond the old ones "
                f"({listed} {units}) and have no values; --extrapolate goes on beyond them"
            )

    def _relevel(
        self, variable: Variable, vertical: Vertical, wanted: Array, logarithmic: bool
    ) -> Variable:
        data = Releveled(
            variable.floats(),
            variable.dimensions.index(vertical.dimension),
            vertical,
            vertical.heights(variable),
            wanted,
            logarithmic,
            self.extrapolate,
        )
        dimensions = tuple(
            _name(vertical) if name == vertical.dimension else name
            for name in variable.dimensions
        )
        return drop_stale(variable.derive(data, dimensions=dimensions))

    def _coordinate(
        self, dataset: Dataset, vertical: Vertical, levels: Array, units: str
    ) -> Variable:
        old = dataset.need(Role.LEVEL).variable
        name = _name(vertical)
        if vertical.values is None and not vertical.pressure:
            about: dict[str, Any] = {
                "standard_name": "height",
                "long_name": "height",
                "positive": "up",
                "axis": "Z",
            }
        elif vertical.values is None:
            about = {
                "standard_name": "air_pressure",
                "long_name": "pressure",
                "positive": "down",
                "axis": "Z",
            }
        else:
            about = dict(
                old.edit(
                    "bounds", "actual_range", "valid_range", "valid_min", "valid_max"
                ).attributes
            )
        return Variable(name, (name,), InMemory(levels), {**about, "units": units})


def _along(dataset: Dataset, vertical: Vertical) -> list[Variable]:
    """Return the variables of numbers that run along the levels.

    Raises
    ------
    DataError
        If there are none.
    """
    terms = {term.name for term in vertical.terms}
    along = [
        v
        for v in dataset.fields
        if vertical.dimension in v.dimensions and v.name not in terms and v.numeric
    ]
    if not along:
        raise DataError(
            f"{dataset.label}: no variable of numbers runs along {vertical.dimension}"
        )
    return along


def _in_order(levels: Array, vertical: Vertical) -> Array:
    """Return levels as they were named where they rise or fall throughout, else in the direction of
    the old ones."""
    if is_in_order(levels):
        return levels
    falls = vertical.values is None or vertical.values[-1] < vertical.values[0]
    return np.sort(levels)[::-1] if falls else np.sort(levels)


def _name(vertical: Vertical) -> str:
    if vertical.values is not None:
        return vertical.dimension
    return "plev" if vertical.pressure else "height"
