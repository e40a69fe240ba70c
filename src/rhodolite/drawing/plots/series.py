"""Curves over time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import cycle
from typing import Any

import numpy as np

from rhodolite.arrays import Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import CurveOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.colour_scale import BLUE, LINE_COLOURS, ORANGE, palette_for
from rhodolite.drawing.parts.curves import (
    Curve,
    convert_to_common_units,
    curve_of,
    data_of_curves,
    draw_trend,
    labelled_parts,
)
from rhodolite.drawing.parts.selection import variables_along
from rhodolite.drawing.parts.text import (
    axis_label,
    capitalise,
    date_text,
    shown_units,
)
from rhodolite.drawing.parts.time_axis import date_labels
from rhodolite.errors import DataError, UsageError
from rhodolite.model.axes import Role
from rhodolite.model.cf.diverging import pivots
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import parameter
from rhodolite.operations.parameters.other_dataset import OtherDataset


@dataclass(frozen=True)
class Series(FigureOptions, CurveOptions, PartOptions, Drawing):
    """Curves over time, of a cell or of the mean over the area.

    Each variable, file, region, site or member makes a curve; all need units that can be
    converted to those of the first. Means over the area are weighted by the true area of the
    grid cells and leave missing cells out.

    Examples
    --------
    >>> Series(variable="tas", at="64.1N,21.9W")  # doctest: +SKIP
    """

    variable: tuple[str, ...] | None = parameter(
        "the variables to draw", example="NAME,..."
    )
    bars: bool = parameter(
        "bars from zero, in one colour above and another below", default=False
    )
    smooth: int | None = parameter(
        "add the centred running mean over N time steps", example="11"
    )
    without_cycle: bool = parameter(
        "add the curve without the mean annual cycle", default=False
    )
    trend: bool = parameter(
        "add the line of the trend, with its numbers in words", default=False
    )
    with_: OtherDataset | None = parameter(
        "another file or pattern to draw in the same figure", example="FILE[:NAME]"
    )

    def check(self) -> None:
        if self.smooth is not None and (self.smooth < 3 or self.smooth % 2 == 0):
            raise UsageError(
                f"--smooth: '{self.smooth}' is not an odd number of steps from 3 up; write 11"
            )

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, or units do not go together.
        """
        curves = self._curves(dataset, self.variable, engine)
        if self.with_ is not None:
            names = (
                self.variable if self.with_.variable is None else (self.with_.variable,)
            )
            curves += self._curves(self.with_.dataset, names, engine)
        curves = convert_to_common_units(curves)
        if self.without_cycle:
            curves = [
                shown for curve in curves for shown in (curve, curve.without_cycle())
            ]
        return self._figure(curves, engine, axes)

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        names = tuple(
            v.name for v in variables_along(dataset, (Role.TIME,), self.variable)
        )
        return data_of_curves(dataset, names, self.time, self.level, self.at)

    def _curves(
        self, dataset: Dataset, names: tuple[str, ...] | None, engine: Engine
    ) -> list[Curve]:
        chosen = variables_along(dataset, (Role.TIME,), names)
        return [
            replace(
                curve_of(
                    part, part[variable.name], self.time, self.level, self.at, engine
                ),
                label=label,
            )
            for variable in chosen
            for label, part in labelled_parts(dataset, variable)
        ]

    def _figure(self, curves: list[Curve], engine: Engine, given: Any) -> Any:
        canvas = Canvas.make(self.size or Size(), given)
        axes = canvas.axes
        if self.bars and len(curves) > 1:
            raise DataError(
                f"bars show one curve, and there are {len(curves)}; choose with --variable"
            )
        sentences = self._draw_all(axes, curves, engine)
        self._mark_axes(axes, curves)
        canvas.style_curves()
        first = curves[0].variable
        quantity, units = _common_quantity(curves), shown_units(first)
        if units != first.units:
            axes.yaxis.set_major_formatter(lambda value, _: date_text(value, first))
        axes.set_ylabel(axis_label(quantity, units), fontsize=12)
        axes.tick_params(labelsize=11)
        places = dict.fromkeys(curve.place for curve in curves if curve.place)
        canvas.put_title(self.title or quantity, " · ".join([*places, *sentences]))
        if len(curves) > 1 or self.bars or self.smooth or self.trend:
            canvas.add_names(columns=3 if self.bars else 2)
        return canvas.figure

    def _mark_axes(self, axes: Any, curves: list[Curve]) -> None:
        from matplotlib.dates import AutoDateLocator

        if all(pivots(curve.variable) for curve in curves):
            axes.axhline(0, color="#444444", linewidth=0.8, zorder=1)
        axes.xaxis.set_major_locator(AutoDateLocator(minticks=4, maxticks=12))  # type: ignore[no-untyped-call]
        of_cycle = all(curve.axis.climatological for curve in curves)
        axes.xaxis.set_major_formatter(date_labels(of_cycle=of_cycle))
        axes.margins(x=0.01)
        if self.limits is not None:
            axes.set_ylim(self.limits.low, self.limits.high)

    def _draw_all(self, axes: Any, curves: list[Curve], engine: Engine) -> list[str]:
        """Draw all curves, and return what there is to say of their trends."""
        sentences: list[str] = []
        for curve, colour in zip(curves, cycle(LINE_COLOURS), strict=False):
            self._draw(axes, curve, colour, _label(curve, curves))
            if self.trend and (curve.deseasonal or not self.without_cycle):
                shade = "#222222" if self.bars else colour
                sentences.append(draw_trend(axes, curve, shade, engine))
        return sentences

    def _draw(self, axes: Any, curve: Curve, colour: str, label: str) -> None:
        if self.bars:
            colour = "#222222"
            _draw_bars(axes, curve)
        else:
            dense = curve.days.size > 150
            faint = 0.45 if self.smooth else 1.0
            axes.plot(
                *curve.broken(),
                color=colour,
                linewidth=0.9 if dense else 1.5,
                alpha=faint,
                marker="" if dense else "o",
                markersize=3.5,
                label=label,
            )
        if self.smooth:
            steps = (
                f"{self.smooth} {curve.axis.spacing.unit}s"
                if curve.axis.spacing.as_interval.startswith("1 ")
                else f"{self.smooth} steps"
            )
            smooth = curve.broken(curve.smoothed(self.smooth))
            axes.plot(
                *smooth,
                color=colour,
                linewidth=2.4,
                label=f"mean of {steps}" if self.bars else f"{label}, mean of {steps}",
            )


def _draw_bars(axes: Any, curve: Curve) -> None:
    """Draw bars from zero, in the colours of warm and cold, or of wet and dry."""
    watery = palette_for(curve.variable, diverging=True) == "BrBG"
    above, below = (BLUE, ORANGE) if watery else (ORANGE, BLUE)
    width = float(np.median(np.diff(curve.days))) * 0.85 if curve.days.size > 1 else 1.0
    for chosen, colour, word in (
        (curve.values > 0, above, "above zero"),
        (curve.values < 0, below, "below zero"),
    ):
        axes.bar(
            curve.days[chosen], curve.values[chosen], width, color=colour, label=word
        )
    axes.axhline(0, color="#444444", linewidth=0.8)


def _label(curve: Curve, curves: list[Curve]) -> str:
    """Say what tells a curve from the others: the quantity, the file, or both."""
    parts = [curve.label] if curve.label else []
    if len({c.variable.quantity for c in curves}) > 1:
        parts.append(capitalise(curve.variable.quantity))
    if len({c.source for c in curves}) > 1:
        parts.append(curve.source)
    if curve.deseasonal:
        parts.append("without its cycle")
    return ", ".join(parts) or capitalise(curve.variable.quantity)


def _common_quantity(curves: list[Curve]) -> str:
    quantities = dict.fromkeys(curve.variable.quantity for curve in curves)
    return " and ".join(quantities)
