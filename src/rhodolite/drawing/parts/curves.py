"""Values over time, of a cell or of the mean over an area, as curves."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine, InMemory
from rhodolite.drawing.parts.selection import choose_part, values_in_order
from rhodolite.drawing.parts.text import region_text
from rhodolite.drawing.parts.time_axis import plot_days
from rhodolite.errors import DataError, collecting
from rhodolite.kernels.polynomial_fit import fit_polynomial
from rhodolite.model.axes import Role
from rhodolite.model.cf.departures import BASE_PERIOD
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.labels import labels_along, text_along
from rhodolite.model.space.range_text import Levels, Position
from rhodolite.model.time.left_out_steps import find_breaks
from rhodolite.model.time.period_text import Period
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.anomaly import Anomaly
from rhodolite.operations.axis_reduction.area_mean import horizontal_axes, mean_over
from rhodolite.operations.axis_reduction.plan import Over
from rhodolite.operations.baseline.base_period import FEWEST_YEARS
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.window_width import WindowWidth
from rhodolite.operations.subset import Subset
from rhodolite.operations.summarise import Summarise
from rhodolite.operations.trend import Trend
from rhodolite.operations.variables.other_units import in_units
from rhodolite.operations.window import Window

_MOST = 20
"""Curves of regions, sites or members in one figure."""
_DESCRIBING = (
    "units",
    "units_metadata",
    "long_name",
    "standard_name",
    "cell_methods",
    BASE_PERIOD,
)
"""Attributes of a variable that hold for its curve."""


@dataclass(frozen=True)
class Curve:
    """One curve: its times, its values in their order, and what it shows; a label names its region,
    site or member."""

    axis: TimeAxis
    days: Array
    values: Array
    variable: Variable
    source: str
    place: str
    deseasonal: bool = False
    label: str = ""

    def without_cycle(self) -> Curve:
        """Return the curve without its mean annual cycle, about the same mean.

        Raises
        ------
        DataError
            If there are too few years to tell the cycle from the rest.
        """
        years = np.unique(self.axis.years).size
        if years < FEWEST_YEARS:
            raise DataError(
                f"--without-cycle needs data of {FEWEST_YEARS} years to tell the cycle from the "
                f"rest, and {self.source} has {years} ({self.axis.span}); leave it out"
            )
        part, name = self.as_dataset(), self.variable.name
        departures = Anomaly(cycle=cycle_of(self.axis))(part)[name].values()
        mean = mean_over(part, part[name], (Role.TIME,)).values()
        return replace(self, values=departures + mean, deseasonal=True)

    def smoothed(self, steps: int) -> Array:
        """Return the mean over a window of steps about each, missing as `window` has it."""
        part = self.as_dataset()
        with collecting():  # that windows at the ends lack steps is to be seen
            mean = Window(width=WindowWidth.parse(str(steps)))(part)[self.variable.name]
            return mean.values()

    def in_units(self, units: str) -> Curve:
        """Return the curve in other units."""
        part = self.as_dataset()
        changed = in_units(part, part[self.variable.name], units)
        variable = self.variable.edit(units=units)
        return replace(self, values=changed.values(), variable=variable)

    def broken(self, values: Array | None = None) -> tuple[Array, Array]:
        """Return days and values with a gap wherever steps are missing, so that no line bridges
        them."""
        values = self.values if values is None else values
        at = find_breaks(self.days)
        days = np.insert(
            self.days.astype(np.float64), at, (self.days[at] + self.days[at - 1]) / 2
        )
        return days, np.insert(values.astype(np.float64), at, np.nan)

    def as_dataset(self) -> Dataset:
        """Return the curve as a dataset of one series."""
        order = self.axis.order
        counted = {
            "units": self.axis.units,
            "calendar": self.axis.calendar,
            "axis": "T",
        }
        described = {}
        if self.axis.bounds is not None and not self.axis.climatological:
            counted["bounds"] = name = "time_bnds"
            limits = InMemory(self.axis.bounds[order])
            described[name] = Variable(name, ("time", "bnds"), limits)
        middles = InMemory(self.axis.middles[order])
        described["time"] = Variable("time", ("time",), middles, counted)
        attributes = {
            key: value
            for key, value in self.variable.attributes.items()
            if key in _DESCRIBING
        }
        if self.deseasonal:
            attributes.pop("standard_name", None)
            attributes[BASE_PERIOD] = str(self.axis.span)
        values = Variable(
            self.variable.name,
            ("time",),
            InMemory(self.values.astype(np.float64)),
            attributes,
        )
        return Dataset({**described, values.name: values})


def curve_of(
    dataset: Dataset,
    variable: Variable,
    time: Period | None,
    level: Levels | None,
    at: Position | None,
    engine: Engine,
) -> Curve:
    """Return the curve of a variable: of the cell at a position, or of the mean over the area.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    time : Period, optional
        Times to keep.
    level : Levels, optional
        Levels to keep.
    at : Position, optional
        Position of the one cell to keep.
    engine : Engine
        What computes the values.

    Raises
    ------
    DataError
        If there is no such part of the data, or another axis is left.
    """
    part = choose_part(dataset, variable, time, level)
    if at is not None:
        part = Subset(at=at)(part)
    shown = part[variable.name]
    cells = math.prod(shown.shape[axis] for axis in horizontal_axes(part, shown))
    if shown.classes and cells > 1:
        raise DataError(
            f"{shown.name} holds classes, of which there is no mean over an area; choose a cell "
            "with --at"
        )
    mean = mean_over(part, shown, (Role.LATITUDE, Role.LONGITUDE))
    values = values_in_order(mean, (part.need(Role.TIME).dimension,), engine)
    axis = part.need_time()
    place = region_text(part)
    place = place if place.startswith("cell") or not place else f"mean over {place}"
    order = axis.order
    return Curve(
        axis, plot_days(axis)[order], values[order], shown, dataset.label, place
    )


def data_of_curves(
    dataset: Dataset,
    variables: tuple[str, ...],
    time: Period | None,
    level: Levels | None,
    at: Position | None,
) -> Dataset:
    """Return what curves show, lazily: the cell at a position, or the mean over the area.

    Parameters
    ----------
    dataset : Dataset
    variables : tuple of str
        Names of those that are drawn.
    time, level, at
        As for `curve_of`.
    """
    part = Subset(variable=variables, time=time, level=level, at=at)(dataset)
    on_grid = part.axes.curvilinear or part.coordinate(Role.LATITUDE) is not None
    return Summarise(over=Over.AREA)(part) if on_grid and not part.axes.sites else part


def labelled_parts(dataset: Dataset, variable: Variable) -> list[tuple[str, Dataset]]:
    """Return a dataset for each region, site or member of a variable, or for each value of an axis
    of its own, such as patterns, with its name; else the whole.

    Raises
    ------
    DataError
        If there are more than can be distinguished.
    """
    known = {c.dimension for c in dataset.axes.by_role.values()}
    own = [
        name
        for name in variable.dimensions
        if name not in known and dataset.lengths[name] > 1
    ]
    for dimension in own:
        if text_along(dataset, dimension) is not None:
            names = labels_along(dataset, dimension)
            return _parts_along(dataset, variable, dimension, names)
    for dimension in own:
        names = _numbered(dataset, dimension)
        if names:
            return _parts_along(dataset, variable, dimension, names)
    return [("", dataset)]


def _parts_along(
    dataset: Dataset, variable: Variable, dimension: str, names: list[str]
) -> list[tuple[str, Dataset]]:
    if len(names) > _MOST:
        raise DataError(
            f"{variable.name} has {len(names)} curves along {dimension}; choose up to {_MOST}"
        )
    return [
        (text, take(dataset, {dimension: np.array([at])}))
        for at, text in enumerate(names)
    ]


def _numbered(dataset: Dataset, dimension: str) -> list[str]:
    """Return the numbers of an axis with its name and units; none of one without numbers."""
    along = dataset.variables.get(dimension)
    if along is None or along.dimensions != (dimension,):
        return []
    units = pretty(along.units) if along.units not in (None, "1") else ""
    word = dimension.replace("_", " ")
    return [f"{word} {value:g} {units}".strip() for value in along.values()]


def convert_to_common_units(curves: list[Curve]) -> list[Curve]:
    """Turn every curve into the units of the first."""
    first = curves[0].variable
    converted = [curves[0]]
    for curve in curves[1:]:
        if curve.variable.units == first.units:
            converted.append(curve)
        elif first.units and can_be_in(curve.variable, first.units):
            converted.append(curve.in_units(first.units))
        else:
            raise DataError(
                f"{first.name} is in {first.units} and {curve.variable.name} in "
                f"{curve.variable.units}, which cannot share an axis; choose with --variable "
                f"{first.name}"
            )
    return converted


def draw_trend(axes: Any, curve: Curve, colour: str, engine: Engine) -> str:
    """Draw the line of least squares through a curve, and return what there is to say about it."""
    part = curve.as_dataset()
    years = part.need_time().decimal_years
    fit = fit_polynomial(years, curve.values.astype(np.float64)[:, None], 1)
    axes.plot(
        curve.days,
        curve.values - fit.residuals[:, 0],
        color=colour,
        linewidth=2.2,
        linestyle=(0, (5, 2)),
        label="trend",
        zorder=5,
    )
    sentence = str(Trend()(part).remarks[0].text(engine)).partition(": ")[2]
    return sentence.partition("\n")[
        0
    ]  # how the interval was found is for the command to say


def cycle_of(axis: TimeAxis) -> Cycle:
    """Return the mean cycle that is taken away from values at such times.

    Raises
    ------
    DataError
        If there is one value a year.
    """
    if axis.resolution.unit == "year":
        raise DataError(
            "--without-cycle: the data have one value a year, in which there is no cycle"
        )
    return (
        Cycle.SEASON
        if axis.resolution.unit == "month" and axis.resolution.count == 3
        else Cycle.MONTH
    )
