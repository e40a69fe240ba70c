"""A field on a map."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.cartography import add_legend, draw_field, field_of, legend_for_missing, shape_of
from rhodolite.drawing.choosing import chosen_part, only_one, variables_along
from rhodolite.drawing.palettes import Scale, check_palette, colours, pivots, scale_for
from rhodolite.drawing.parameters import Limits, Size
from rhodolite.drawing.titles import put_title
from rhodolite.drawing.wording import period_text, value_text
from rhodolite.kernels.averages import weighted_sums
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.grid import area_weights
from rhodolite.model.periods import Period
from rhodolite.model.ranges import Levels
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import operation, parameter

_WIDE = 1.35
"""Maps wider than this, in heights, have their legend below; others beside them."""


@operation
@dataclass(frozen=True)
class Map:
    """A field on a map with coastlines, country borders and a legend.

    Draws one step in time, or the mean of all steps that are left. The palette follows the
    quantity, and pivots on zero for departures. Cells without a value are hatched. The line
    under the title says which time is shown, the area-weighted mean and the range.

    Examples
    --------
    >>> Map(time="2014-01", limits="-6..6")  # doctest: +SKIP
    """

    variable: tuple[str, ...] | None = parameter("the variable to draw, where there are several", example="NAME")
    time: Period | None = parameter("the time to draw; the mean if it holds several steps", example="2014-01")
    level: Levels | None = parameter("the level to draw, where there are several", example="850hPa")
    palette: str | None = parameter("a Matplotlib colour map", example="NAME")
    limits: Limits | None = parameter("range of the legend", example="-2..2")
    centre: float | None = parameter("value that the middle of the palette stands for", example="VALUE")
    title: str | None = parameter("title to use instead of the quantity", example="TEXT")
    size: Size | None = parameter("width and height in pixels; by default they fit the map", example="1280x800")

    def check(self) -> None:
        if self.palette is not None:
            check_palette(self.palette)

    def __call__(self, dataset: Dataset, engine: Engine | None = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, or nothing is left to draw.
        """
        engine = engine or Engine()
        variable = only_one(variables_along(dataset, (Role.LATITUDE, Role.LONGITUDE), self.variable), dataset)
        part = chosen_part(dataset, variable, self.time, self.level)
        values = field_of(part, part[variable.name], engine)
        limits = (self.limits.low, self.limits.high) if self.limits else (None, None)
        centre = 0.0 if self.centre is None and pivots(variable) else self.centre
        scale = scale_for(values, variable, self.palette, limits, centre)
        return self._figure(part, variable, values, scale, centre)

    def _figure(self, part: Dataset, variable: Variable, values: Array, scale: Scale, centre: float | None) -> Any:
        from matplotlib.figure import Figure

        shape = shape_of(part)
        upright = shape < _WIDE
        size = self.size or _fitting_size(shape, upright)
        figure = Figure((size.width / 100, size.height / 100), dpi=100, layout="compressed")
        axes = figure.add_subplot()
        shades, norm = colours(scale, centre)
        mesh = draw_field(axes, part, values, shades, norm)
        add_legend(figure, mesh, axes, scale, variable, location="right" if upright else "bottom", shrink=0.85,
                   aspect=35, pad=0.02)  # fmt: skip
        put_title(figure, self.title or variable.quantity, _caption(part, variable, values), size)
        if np.isnan(values).any():
            legend_for_missing(axes)
        return figure


def _fitting_size(shape: float, upright: bool) -> Size:
    """Return the size of a figure that a map of this shape (width over height) fills."""
    if upright:
        return Size(round(min(1280, 150 + 720 * shape + 90)), 820)
    return Size(1280, round(max(420, 1190 / shape + 190)))


def _caption(part: Dataset, variable: Variable, values: Array) -> str:
    weights = {axis: area_weights(part.need(role)) for axis, role in enumerate((Role.LATITUDE, Role.LONGITUDE))}
    total, weight = weighted_sums(values, weights, (0, 1))
    words = [period_text(part.time)]
    vertical = part.coordinate(Role.LEVEL)
    if vertical is not None and vertical.values.size == 1:
        words.append(f"at {vertical.values[0]:g} {vertical.variable.units or ''}".strip())
    if weight > 0:
        low, high = np.nanmin(values), np.nanmax(values)
        words.append(f"area mean {value_text(float(total / weight), variable)}")
        words.append(f"from {value_text(float(low), variable)} to {value_text(float(high), variable)}")
    else:
        words.append("every value is missing")
    return " · ".join(word for word in words if word)
