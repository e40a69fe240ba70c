"""Curves over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.choosing import chosen_part, drop_axes, squeezed, variables_along
from rhodolite.drawing.dates import date_labels, plot_days
from rhodolite.drawing.palettes import LINE_COLOURS, pivots
from rhodolite.drawing.parameters import Limits, Size
from rhodolite.drawing.titles import put_title
from rhodolite.drawing.wording import capitalised, region_text, with_units
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.periods import Period
from rhodolite.model.ranges import Levels, Position
from rhodolite.model.units import convert, convertible
from rhodolite.model.variable import Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.others import Other
from rhodolite.operations.subset import Subset


@dataclass(frozen=True)
class Curve:
    """One curve: its times as Matplotlib's days, its values, and what it shows."""

    days: Array
    values: Array
    variable: Variable
    source: str
    place: str


@operation
@dataclass(frozen=True)
class Series:
    """Curves over time, of a cell or of the mean over the area.

    Each variable and each file makes a curve; all have to be in units that can be turned into
    those of the first. Means over the area weight cells by their true area on the sphere and
    leave missing cells out.

    Examples
    --------
    >>> Series(variable="tas", at="64.1N,21.9W")  # doctest: +SKIP
    """

    variable: tuple[str, ...] | None = parameter("the variables to draw", example="NAME,...")
    at: Position | None = parameter("draw the cell at a position, not the mean over the area", example="64.1N,21.9W")
    time: Period | None = parameter("the times to draw", example="2012..2018")
    level: Levels | None = parameter("the level to draw, where there are several", example="850hPa")
    with_: Other | None = parameter("another file or pattern to draw in the same figure", example="FILE")
    limits: Limits | None = parameter("range of the value axis", example="-2..2")
    title: str | None = parameter("title to use instead of the quantity", example="TEXT")
    size: Size = parameter("width and height in pixels", default=Size(), example="1280x800")

    def __call__(self, dataset: Dataset, engine: Engine | None = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, or units do not go together.
        """
        engine = engine or Engine()
        curves = self._curves(dataset, engine)
        if self.with_ is not None:
            curves += self._curves(self.with_.dataset, engine)
        return self._figure(_in_common_units(curves))

    def _curves(self, dataset: Dataset, engine: Engine) -> list[Curve]:
        chosen = variables_along(dataset, (Role.TIME,), self.variable)
        made = []
        for variable in chosen:
            part = chosen_part(dataset, variable, self.time, self.level)
            if self.at is not None:
                part = Subset(at=self.at)(part)
            shown = part[variable.name]
            mean = mean_over(part, shown, (Role.LATITUDE, Role.LONGITUDE))
            extra = squeezed(mean, (part.need(Role.TIME).dimension,))
            axis = part.need_time()
            place = region_text(part)
            place = place if place.startswith("cell") or not place else f"mean over {place}"
            values = drop_axes(mean.values(engine), extra)
            order = np.argsort(axis.middles, kind="stable")
            made.append(Curve(plot_days(axis)[order], values[order], shown, dataset.label, place))
        return made

    def _figure(self, curves: list[Curve]) -> Any:
        from matplotlib.dates import AutoDateLocator
        from matplotlib.figure import Figure

        figure = Figure((self.size.width / 100, self.size.height / 100), dpi=100, layout="constrained")
        axes = figure.add_subplot()
        for curve, colour in zip(curves, LINE_COLOURS * (len(curves) // len(LINE_COLOURS) + 1), strict=False):
            dense = curve.days.size > 150
            axes.plot(curve.days, curve.values, color=colour, linewidth=0.9 if dense else 1.5,
                      marker="" if dense else "o", markersize=3.5, label=_label(curve, curves))  # fmt: skip
        if all(pivots(curve.variable) for curve in curves):
            axes.axhline(0, color="#444444", linewidth=0.8, zorder=1)
        axes.xaxis.set_major_locator(AutoDateLocator(minticks=4, maxticks=12))  # type: ignore[no-untyped-call]
        axes.xaxis.set_major_formatter(date_labels())
        axes.margins(x=0.01)
        if self.limits is not None:
            axes.set_ylim(self.limits.low, self.limits.high)
        axes.grid(color="#dddddd", linewidth=0.6)
        axes.spines[["top", "right"]].set_visible(False)
        first = curves[0].variable
        names = dict.fromkeys(curve.variable.name for curve in curves)
        axes.set_ylabel(with_units(", ".join(names), first.units), fontsize=12)
        axes.tick_params(labelsize=11)
        places = " · ".join(dict.fromkeys(c.place for c in curves if c.place))
        put_title(figure, self.title or _common_quantity(curves), places, self.size)
        if len(curves) > 1:
            figure.legend(loc="outside lower left", ncols=2, fontsize=11, frameon=False)
        return figure


def _in_common_units(curves: list[Curve]) -> list[Curve]:
    """Turn every curve into the units of the first."""
    first = curves[0].variable
    made = [curves[0]]
    for curve in curves[1:]:
        units = curve.variable.units
        if units == first.units:
            made.append(curve)
        elif units and first.units and convertible(units, first.units) and not pivots(curve.variable):
            values = convert(curve.values, units, first.units)
            made.append(Curve(curve.days, values, curve.variable, curve.source, curve.place))
        else:
            raise DataError(f"{first.name} is in {first.units} and {curve.variable.name} in {units}, which cannot "
                            f"share an axis; choose with --variable {first.name}")  # fmt: skip
    return made


def _label(curve: Curve, curves: list[Curve]) -> str:
    """Say what tells a curve from the others: the quantity, the file, or both."""
    parts = []
    if len({c.variable.quantity for c in curves}) > 1:
        parts.append(capitalised(curve.variable.quantity))
    if len({c.source for c in curves}) > 1:
        parts.append(curve.source)
    return ", ".join(parts) or curve.variable.name


def _common_quantity(curves: list[Curve]) -> str:
    quantities = dict.fromkeys(curve.variable.quantity for curve in curves)
    return " and ".join(quantities)
