"""A field on a map: its cells, the outlines over them, and the frame around."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.choosing import drop_axes, squeezed
from rhodolite.drawing.palettes import Scale
from rhodolite.drawing.wording import degrees_east, degrees_north, with_units
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.grid import cell_edges
from rhodolite.model.variable import Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.regions import outlines

_GROUND = "#e4e4e4"
_HATCH = "\\\\\\\\"
_DOTS_APART = 9.0
"""Pixels; dots closer than this would hide the field."""
_COARSE_BEYOND = 100.0
"""Maps wider than this many degrees get the 1:110m outlines, others the 1:50m ones."""


def field_of(part: Dataset, variable: Variable, engine: Engine) -> Array:
    """Return the values to draw, shape (latitudes, longitudes): one step, or the mean over time."""
    averaged = mean_over(part, variable, (Role.TIME,))
    order = tuple(part.need(role).dimension for role in (Role.LATITUDE, Role.LONGITUDE))
    extra = squeezed(averaged, order)
    values = drop_axes(averaged.values(engine), extra)
    kept = [name for name in averaged.dimensions if name in order]
    return values if kept == list(order) else values.T


def shape_of(part: Dataset) -> float:
    """Return the width of a map in heights."""
    longitude, latitude = (cell_edges(part.need(role)) for role in (Role.LONGITUDE, Role.LATITUDE))
    return float(abs(np.ptp(longitude)) / (abs(np.ptp(latitude)) * _aspect(longitude, latitude)))


def draw_field(axes: Any, part: Dataset, values: Array, shades: Any, norm: Any, *, small: bool = False) -> Any:
    """Draw a field, shape (latitudes, longitudes), with outlines and a frame, and return what a legend needs.

    Parameters
    ----------
    axes : matplotlib.axes.Axes
    part : Dataset
        Whose grid it is.
    values : ndarray
        NaN leaves the hatched ground.
    shades, norm
        Colour map and norm.
    small : bool
        Whether lines and letters are those of a small map.
    """
    longitude, latitude = (cell_edges(part.need(role)) for role in (Role.LONGITUDE, Role.LATITUDE))
    axes.add_patch(_ground(longitude, latitude))
    mesh = axes.pcolormesh(longitude, latitude, np.ma.masked_invalid(values), cmap=shades, norm=norm)
    _draw_outlines(axes, longitude, latitude, 0.55 if small else 1.0)
    _draw_frame(axes, longitude, latitude, _aspect(longitude, latitude), 4 if small else 7)
    axes.tick_params(labelsize=8.5 if small else 10, color="#777777")
    return mesh


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


def _draw_outlines(axes: Any, longitude: Array, latitude: Array, thickness: float) -> None:
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
        axes.add_collection(LineCollection(shown, colors=colour, linewidths=width * thickness))


def _draw_frame(axes: Any, longitude: Array, latitude: Array, aspect: float, ticks: int) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    axes.set_aspect(aspect)
    axes.set_xlim(longitude.min(), longitude.max())
    axes.set_ylim(latitude.min(), latitude.max())
    for axis, write in ((axes.xaxis, degrees_east), (axes.yaxis, degrees_north)):
        axis.set_major_locator(MaxNLocator(ticks, steps=[1, 1.5, 2, 3, 4.5, 5, 6, 9, 10]))
        axis.set_major_formatter(FuncFormatter(lambda value, _, write=write: write(round(value, 6))))


@dataclass(frozen=True)
class Marks:
    """Cells to mark, shape (latitudes, longitudes), with hatches or dots, and what that means."""

    cells: NDArray[np.bool_]
    hatches: bool
    meaning: str


def draw_marks(axes: Any, part: Dataset, marks: Marks, width: float) -> None:
    """Mark cells so that the field stays visible: on fine grids every so many rows and columns.

    `width` is that of the figure in pixels.
    """
    longitude, latitude = (cell_edges(part.need(role)) for role in (Role.LONGITUDE, Role.LATITUDE))
    middles = [(edges[1:] + edges[:-1]) / 2 for edges in (longitude, latitude)]
    if marks.hatches:
        axes.contourf(*middles, marks.cells.astype(float), levels=[0.5, 1.5], colors="none", hatches=[_HATCH], zorder=3)
        return
    every = max(1, round(_DOTS_APART / (0.9 * width / marks.cells.shape[1])))
    start = every // 2
    rows, columns = np.nonzero(marks.cells[start::every, start::every])
    axes.scatter(middles[0][start::every][columns], middles[1][start::every][rows], s=4.0, color="#000000", alpha=0.65,
                 linewidths=0, zorder=3)  # fmt: skip


def add_key(axes: Any, missing: bool, marks: Marks | None = None) -> None:
    """Say what hatched ground and marks mean, where there are any."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = []
    if missing:
        handles.append(Patch(facecolor=_GROUND, edgecolor="#9a9a9a", hatch="////", linewidth=0, label="no data"))
    if marks is not None:
        words = marks.meaning.partition(" is ")[2] or marks.meaning
        handles.append(Patch(facecolor="white", hatch=_HATCH, linewidth=0, label=words) if marks.hatches else
                       Line2D([], [], color="black", marker=".", markersize=4, linestyle="", label=words))  # fmt: skip
    if handles:
        axes.legend(handles=handles, loc="lower left", fontsize=10, framealpha=0.9, handlelength=1.6)


def add_legend(figure: Any, mesh: Any, axes: Any, scale: Scale, variable: Variable, **place: Any) -> None:
    """Add the legend of a field: its colours, their limits, and the quantity with its units.

    Numbers that are very small or large are written as multiples of a power of ten, which goes to the units.
    """
    largest = float(np.abs(scale.edges).max())
    power = 0 if 1e-2 <= largest < 1e5 or largest == 0 else int(np.floor(np.log10(largest)))

    def write(value: float, _: Any) -> str:
        value = 0.0 if abs(value) < 1e-9 * largest else value / 10.0**power
        return f"{value:.6g}".replace("-", "−")

    bar = figure.colorbar(mesh, ax=axes, extend=scale.extend, ticks=scale.edges, format=write, **place)
    units = f"1e{power} {variable.units or ''}".strip() if power else variable.units
    bar.set_label(with_units(variable.name, units), fontsize=12)
