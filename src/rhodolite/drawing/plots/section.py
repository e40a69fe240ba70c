"""A field over latitude and height, or over time and latitude or longitude."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import FieldOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.averaging import average_all_but
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.colour_scale import choose_scale, colours
from rhodolite.drawing.parts.legend import add_legend
from rhodolite.drawing.parts.selection import has_several, only_one, values_in_order
from rhodolite.drawing.parts.text import (
    degrees_east,
    degrees_north,
    period_text,
    value_text,
)
from rhodolite.drawing.parts.time_axis import date_labels, plot_days
from rhodolite.drawing.parts.vertical_axis import set_up
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import cell_edges
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import parameter
from rhodolite.operations.subset import Subset


class Plane(StrEnum):
    """What runs along x and y."""

    LAT_LEVEL = "lat-level"
    LON_LEVEL = "lon-level"
    TIME_LEVEL = "time-level"
    TIME_LAT = "time-lat"
    LON_TIME = "lon-time"


_ROLES = {
    "lat": Role.LATITUDE,
    "lon": Role.LONGITUDE,
    "time": Role.TIME,
    "level": Role.LEVEL,
}


def _roles_of(plane: Plane) -> tuple[Role, Role]:
    x, y = plane.value.split("-")
    return _ROLES[x], _ROLES[y]


@dataclass(frozen=True)
class Section(FigureOptions, FieldOptions, PartOptions, Drawing):
    """A field over latitude and height, time and latitude, or longitude and time.

    All other axes are averaged, weighted by cell area. Pressures and depths increase downwards.
    The default of --plane is latitude and height where there are levels, and time and latitude
    otherwise, or the first pair of axes that the data have.

    Examples
    --------
    >>> Section(variable="ta", log=True)  # doctest: +SKIP
    """

    plane: Plane | None = parameter("the quantities on the x and y axes")
    log: bool = parameter("a logarithmic axis of levels", default=False)

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If an axis is missing, or it is not clear what to draw.
        """
        part, variable, roles, caption = self._averaged(dataset)
        coordinates = [part.need(role) for role in roles]
        values = _values(part[variable.name], coordinates, engine)
        return self._figure(part, variable, coordinates, values, caption, axes)

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        return self._averaged(dataset)[0]

    def _averaged(
        self, dataset: Dataset
    ) -> tuple[Dataset, Variable, tuple[Role, Role], str]:
        """Return the data over the plane alone, the variable as it was, the axes of the plane, and
        what the data are averaged over."""
        names = self.variable or tuple(
            v.name for v in dataset.fields if v.numeric and v.data.ndim >= 2
        )
        variable = only_one([dataset[name] for name in names], dataset)
        part = Subset(variable=(variable.name,), time=self.time, level=self.level)(
            dataset
        )
        roles = self._roles(part, variable.name)
        text = period_text(part.time) if Role.TIME not in roles else ""
        part, words = average_all_but(part, variable.name, roles)
        caption = " · ".join(word for word in (text, words) if word)
        return part, variable, roles, caption

    def _roles(self, part: Dataset, name: str) -> tuple[Role, Role]:
        """Return what runs along x and y: as asked for, else the first that there is."""
        if self.plane is not None:
            return _roles_of(self.plane)
        for plane in Plane:
            roles = _roles_of(plane)
            is_asked_away = Role.LEVEL in roles and self.level is not None
            if not is_asked_away and all(has_several(part, name, r) for r in roles):
                return roles
        return _roles_of(Plane.TIME_LAT)

    def _figure(
        self,
        part: Dataset,
        variable: Variable,
        coordinates: list[Coordinate],
        values: Array,
        caption: str,
        given: Any,
    ) -> Any:

        scale, centre = choose_scale(
            values, variable, self.palette, self.limits, self.centre
        )
        shades, norm = colours(scale, centre)
        canvas = Canvas.make(self.size or Size(1280, 760), given)
        figure, axes = canvas.figure, canvas.axes
        axes.set_facecolor("#e4e4e4")
        edges = [_edges(part, coordinate) for coordinate in coordinates]
        mesh = axes.pcolormesh(
            *edges, np.ma.masked_invalid(values), cmap=shades, norm=norm
        )
        for axis, coordinate, along in zip("xy", coordinates, edges, strict=True):
            _dress(axes, axis, coordinate, along, self.log)
        axes.tick_params(labelsize=11)
        add_legend(
            figure,
            mesh,
            axes,
            scale,
            variable,
            location="right",
            shrink=0.9,
            aspect=35,
            pad=0.02,
        )
        low, high = np.nanmin(values), np.nanmax(values)
        ends = [
            value_text(float(end), variable, float(high - low)) for end in (low, high)
        ]
        span = f"from {ends[0]} to {ends[1]}"
        line = " · ".join(word for word in (caption, span) if word)
        canvas.put_title(self.title or variable.quantity, line)
        return figure


def _values(variable: Variable, coordinates: list[Coordinate], engine: Engine) -> Array:
    """Return values of shape (y, x)."""
    order = [coordinate.dimension for coordinate in coordinates]
    values = values_in_order(variable, order[::-1], engine)
    if np.isnan(values).all():
        raise DataError(f"{variable.name}: every value is missing")
    return values


def _edges(part: Dataset, coordinate: Coordinate) -> Array:
    if coordinate.role in (Role.LATITUDE, Role.LONGITUDE):
        return cell_edges(coordinate)
    values = coordinate.values
    if coordinate.role is Role.TIME:
        values = plot_days(part.need_time())
        if (np.diff(values) <= 0).any():
            raise DataError(
                f"the times ({coordinate.name}) go up and down, which a section cannot show"
            )
    if values.size == 1:
        raise DataError(f"there is one {coordinate.role} only, which makes no section")
    inner = (values[1:] + values[:-1]) / 2
    return np.concatenate(
        [
            [values[0] - (inner[0] - values[0]) * (coordinate.role is Role.TIME)],
            inner,
            [values[-1] + (values[-1] - inner[-1]) * (coordinate.role is Role.TIME)],
        ]
    )


def _dress(
    axes: Any, axis: str, coordinate: Coordinate, edges: Array, logarithmic: bool
) -> None:
    """Give an axis its limits, ticks and label."""
    from matplotlib.dates import AutoDateLocator
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    if coordinate.role is Role.LEVEL:
        set_up(axes, coordinate, logarithmic=logarithmic)
        return
    dressed = axes.xaxis if axis == "x" else axes.yaxis
    (axes.set_xlim if axis == "x" else axes.set_ylim)(edges.min(), edges.max())
    if coordinate.role is Role.TIME:
        dressed.set_major_locator(AutoDateLocator(minticks=4, maxticks=12))  # type: ignore[no-untyped-call]
        of_cycle = "climatology" in coordinate.variable.attributes
        dressed.set_major_formatter(date_labels(of_cycle=of_cycle))
        return
    write = degrees_north if coordinate.role is Role.LATITUDE else degrees_east
    dressed.set_major_locator(MaxNLocator(7, steps=[1, 1.5, 2, 3, 4.5, 5, 6, 9, 10]))
    dressed.set_major_formatter(FuncFormatter(lambda value, _: write(round(value, 6))))
