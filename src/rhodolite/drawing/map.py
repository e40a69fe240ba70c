"""A field on a map."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.choosing import chosen_part, drop_axes, only_one, squeezed, variables_along
from rhodolite.drawing.palettes import Scale, check_palette, colours, pivots, scale_for
from rhodolite.drawing.parameters import Limits, Size
from rhodolite.drawing.titles import put_title
from rhodolite.drawing.wording import (
    degrees_east,
    degrees_north,
    period_text,
    value_text,
    with_units,
)
from rhodolite.kernels.averages import weighted_sums
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.grid import area_weights, cell_edges
from rhodolite.model.periods import Period
from rhodolite.model.ranges import Levels
from rhodolite.model.variable import Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.operations.declaration import operation, parameter
from rhodolite.regions import outlines

_GROUND = "#e4e4e4"
_WIDE = 1.35
"""Maps wider than this, in heights, have their legend below; others beside them."""
_COARSE_BEYOND = 100.0
"""Maps wider than this many degrees get the 1:110m outlines, others the 1:50m ones."""


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
        values = _field(part, part[variable.name], engine)
        limits = (self.limits.low, self.limits.high) if self.limits else (None, None)
        centre = 0.0 if self.centre is None and pivots(variable) else self.centre
        scale = scale_for(values, variable, self.palette, limits, centre)
        return self._figure(part, variable, values, scale, centre)

    def _figure(self, part: Dataset, variable: Variable, values: Array, scale: Scale, centre: float | None) -> Any:
        from matplotlib.figure import Figure

        longitude, latitude = (cell_edges(part.need(role)) for role in (Role.LONGITUDE, Role.LATITUDE))
        aspect = _aspect(longitude, latitude)
        shape = abs(np.ptp(longitude)) / (abs(np.ptp(latitude)) * aspect)
        upright = shape < _WIDE
        size = self.size or _fitting_size(shape, upright)
        figure = Figure((size.width / 100, size.height / 100), dpi=100, layout="compressed")
        axes = figure.add_subplot()
        axes.add_patch(_ground(longitude, latitude))
        shades, norm = colours(scale, centre)
        mesh = axes.pcolormesh(longitude, latitude, np.ma.masked_invalid(values), cmap=shades, norm=norm)
        _draw_outlines(axes, longitude, latitude)
        _draw_frame(axes, longitude, latitude, aspect)
        bar = figure.colorbar(mesh, ax=axes, extend=scale.extend, ticks=scale.edges, format=_tick_text,
                              location="right" if upright else "bottom", shrink=0.85, aspect=35, pad=0.02)  # fmt: skip
        bar.set_label(with_units(variable.name, variable.units), fontsize=12)
        put_title(figure, self.title or variable.quantity, _caption(part, variable, values), size)
        if np.isnan(values).any():
            _legend_for_missing(axes)
        return figure


def _fitting_size(shape: float, upright: bool) -> Size:
    """Return the size of a figure that a map of this shape (width over height) fills."""
    if upright:
        return Size(round(min(1280, 150 + 720 * shape + 90)), 820)
    return Size(1280, round(max(420, 1190 / shape + 190)))


def _field(part: Dataset, variable: Variable, engine: Engine) -> Array:
    """Return the values to draw, shape (latitudes, longitudes): one step, or the mean over time."""
    averaged = mean_over(part, variable, (Role.TIME,))
    order = tuple(part.need(role).dimension for role in (Role.LATITUDE, Role.LONGITUDE))
    extra = squeezed(averaged, order)
    values = drop_axes(averaged.values(engine), extra)
    kept = [name for name in averaged.dimensions if name in order]
    return values if kept == list(order) else values.T


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


def _aspect(longitude: Array, latitude: Array) -> float:
    """Return how much longer a degree of latitude is drawn than one of longitude."""
    if abs(np.ptp(longitude)) > _COARSE_BEYOND:
        return 1.0
    return float(1 / max(np.cos(np.radians(latitude.mean())), 0.2))


def _ground(longitude: Array, latitude: Array) -> Any:
    """Return the hatched ground that shows where cells have no value."""
    from matplotlib.patches import Rectangle

    return Rectangle((longitude.min(), latitude.min()), np.ptp(longitude), np.ptp(latitude),
                     facecolor=_GROUND, edgecolor="#9a9a9a", hatch="////", linewidth=0, zorder=0)  # fmt: skip


def _draw_outlines(axes: Any, longitude: Array, latitude: Array) -> None:
    from matplotlib.collections import LineCollection

    west, east = longitude.min(), longitude.max()
    south, north = latitude.min(), latitude.max()
    scale = "110m" if east - west > _COARSE_BEYOND else "50m"
    # A pale line under the coast keeps it visible on dark colours.
    for kind, colour, width in (
        ("border", "#4d4d4d", 0.6),
        ("coast", "#ffffffa0", 2.2),
        ("coast", "#111111", 0.9),
    ):
        shown = []
        for line in outlines.lines(kind, scale):
            if line[:, 1].max() < south or line[:, 1].min() > north:
                continue
            # The outlines run from -180 to 180; the data may begin anywhere.
            for turn in (-360.0, 0.0, 360.0):
                if line[:, 0].max() + turn >= west and line[:, 0].min() + turn <= east:
                    shown.append(line + (turn, 0.0))
        axes.add_collection(LineCollection(shown, colors=colour, linewidths=width))


def _draw_frame(axes: Any, longitude: Array, latitude: Array, aspect: float) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    axes.set_aspect(aspect)
    axes.set_xlim(longitude.min(), longitude.max())
    axes.set_ylim(latitude.min(), latitude.max())
    for axis, write in ((axes.xaxis, degrees_east), (axes.yaxis, degrees_north)):
        axis.set_major_locator(MaxNLocator(7, steps=[1, 1.5, 2, 3, 4.5, 5, 6, 10]))
        axis.set_major_formatter(FuncFormatter(lambda value, _, write=write: write(round(value, 6))))
    axes.tick_params(labelsize=10, color="#777777")


def _legend_for_missing(axes: Any) -> None:
    from matplotlib.patches import Patch

    patch = Patch(facecolor=_GROUND, edgecolor="#9a9a9a", hatch="////", linewidth=0, label="no data")
    axes.legend(handles=[patch], loc="lower left", fontsize=10, framealpha=0.9, handlelength=1.6)


def _tick_text(value: float, _: Any) -> str:
    return f"{0.0 if abs(value) < 1e-12 else value:.6g}".replace("-", "−")
