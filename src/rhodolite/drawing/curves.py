"""Values over time, of a cell or of the mean over an area, as curves."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.choosing import chosen_part, drop_axes, squeezed
from rhodolite.drawing.dates import plot_days
from rhodolite.drawing.palettes import pivots
from rhodolite.drawing.wording import region_text
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.periods import Period
from rhodolite.model.ranges import Levels, Position
from rhodolite.model.time import TimeAxis
from rhodolite.model.units import convert, convertible
from rhodolite.model.variable import Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.operations.subset import Subset


@dataclass(frozen=True)
class Curve:
    """One curve: its times, its values in their order, and what it shows."""

    axis: TimeAxis
    days: Array
    values: Array
    variable: Variable
    source: str
    place: str


def curve_of(dataset: Dataset, variable: Variable, time: Period | None, level: Levels | None, at: Position | None,
             engine: Engine) -> Curve:  # fmt: skip
    """Return the curve of a variable: of the cell at a position, or of the mean over the area.

    Raises
    ------
    DataError
        If there is no such part of the data, or another axis is left.
    """
    part = chosen_part(dataset, variable, time, level)
    if at is not None:
        part = Subset(at=at)(part)
    shown = part[variable.name]
    mean = mean_over(part, shown, (Role.LATITUDE, Role.LONGITUDE))
    extra = squeezed(mean, (part.need(Role.TIME).dimension,))
    axis = part.need_time()
    place = region_text(part)
    place = place if place.startswith("cell") or not place else f"mean over {place}"
    values = drop_axes(mean.values(engine), extra)
    order = np.argsort(axis.middles, kind="stable")
    return Curve(axis, plot_days(axis)[order], values[order], shown, dataset.label, place)


def in_common_units(curves: list[Curve]) -> list[Curve]:
    """Turn every curve into the units of the first."""
    first = curves[0].variable
    made = [curves[0]]
    for curve in curves[1:]:
        units = curve.variable.units
        if units == first.units:
            made.append(curve)
        elif units and first.units and convertible(units, first.units) and not pivots(curve.variable):
            made.append(replace(curve, values=convert(curve.values, units, first.units)))
        else:
            raise DataError(f"{first.name} is in {first.units} and {curve.variable.name} in {units}, which cannot "
                            f"share an axis; choose with --variable {first.name}")  # fmt: skip
    return made
