"""Curves over height, or against latitude or longitude, one for each level or time."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import CurveOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.averaging import average_all_but
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.selection import has_several, only_one, values_in_order
from rhodolite.drawing.parts.text import (
    axis_label,
    degrees_east,
    degrees_north,
    period_text,
)
from rhodolite.drawing.parts.vertical_axis import set_up
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import parameter
from rhodolite.operations.subset import Subset

_MOST = 60
_NAMED = 12
_MOST_DOTS = 40
"""So many curves are named one by one; more get a scale of colours."""


class Against(StrEnum):
    """What curves run along."""

    LEVEL = "level"
    LAT = "lat"
    LON = "lon"


class CurveBy(StrEnum):
    """What each curve stands for."""

    LEVEL = "level"
    TIME = "time"
    NONE = "none"


_ROLES = {
    "level": Role.LEVEL,
    "lat": Role.LATITUDE,
    "lon": Role.LONGITUDE,
    "time": Role.TIME,
}


@dataclass(frozen=True)
class Profile(FigureOptions, CurveOptions, PartOptions, Drawing):
    """Curves over height, or against latitude or longitude, coloured by level or time.

    Over height, values run along x and levels along y, with pressures and depths increasing
    downwards. Against latitude each level makes a curve. All other axes are averaged, weighted
    by cell area.

    Examples
    --------
    >>> Profile(variable="ta", against="lat")  # doctest: +SKIP
    """

    against: Against | None = parameter(
        "the axis along which curves are drawn (default: levels, or else latitude, or longitude)"
    )
    by: CurveBy | None = parameter(
        "what each curve shows (default: levels, or else one curve)"
    )
    log: bool = parameter("a logarithmic axis of levels", default=False)

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If an axis is missing, or there are too many curves.
        """
        part, variable, along, by, caption = self._averaged(dataset)
        shown, coordinate = part[variable.name], part.need(along)
        order = (
            [coordinate.dimension]
            if by is None
            else [part.need(by).dimension, coordinate.dimension]
        )
        curves = np.atleast_2d(values_in_order(shown, order, engine))
        if len(curves) > _MOST:
            raise DataError(
                f"{len(curves):,} curves are too many for one figure; choose up to {_MOST}, such "
                "as with --time"
            )
        of_curves = None if by is None else part.need(by)
        return self._figure(
            part, variable, coordinate, of_curves, curves, caption, axes
        )

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        return self._averaged(dataset)[0]

    def _averaged(
        self, dataset: Dataset
    ) -> tuple[Dataset, Variable, Role, Role | None, str]:
        """Return the data along the axes of the picture alone, the variable as it was, the axis of
        curves, that of which each place gets one, and what they are averaged over."""
        names = self.variable or tuple(
            v.name for v in dataset.fields if v.numeric and v.data.ndim >= 1
        )
        variable = only_one([dataset[name] for name in names], dataset)
        part = Subset(
            variable=(variable.name,), at=self.at, time=self.time, level=self.level
        )(dataset)
        along = self._along(part, variable.name)
        by = self._by(part, variable.name, along)
        text = period_text(part.time) if by is not Role.TIME else ""
        part, words = average_all_but(
            part, variable.name, (along,) if by is None else (along, by)
        )
        if self.at is not None:
            words = f"cell at {self.at}"
        caption = " · ".join(word for word in (text, words) if word)
        return part, variable, along, by, caption

    def _along(self, part: Dataset, name: str) -> Role:
        """Return the axis of curves: as asked for, else the first that there is."""
        if self.against is not None:
            return _ROLES[self.against.value]
        roles = [_ROLES[axis.value] for axis in Against]
        return next((r for r in roles if has_several(part, name, r)), Role.LEVEL)

    def _by(self, part: Dataset, name: str, along: Role) -> Role | None:
        if self.by is CurveBy.NONE:
            return None
        role = Role.LEVEL if self.by is None else _ROLES[self.by.value]
        coordinate = part.coordinate(role)
        there = (
            coordinate is not None
            and coordinate.dimension in part[name].dimensions
            and role is not along
        )
        if self.by is not None and not there:
            raise DataError(f"--by {self.by}: {name} has no such axis besides {along}")
        return role if there else None

    def _figure(
        self,
        part: Dataset,
        variable: Variable,
        along: Coordinate,
        by: Coordinate | None,
        curves: Array,
        caption: str,
        given: Any,
    ) -> Any:
        from matplotlib import colormaps

        canvas = Canvas.make(self.size or Size(), given)
        figure, axes = canvas.figure, canvas.axes
        # The palest end of the palette would not show on white.
        shades = (
            colormaps["viridis"](np.linspace(0.0, 0.9, len(curves)))
            if len(curves) > 1
            else ["#0072B2"]
        )
        labels = [""] if by is None else _labels(part, by)
        for values, colour, label in zip(curves, shades, labels, strict=True):
            _draw_curve(axes, along, values, color=colour, label=label)
        canvas.style_curves()
        axes.tick_params(labelsize=11)
        label = axis_label(variable.quantity, variable.units)
        if along.role is Role.LEVEL:
            set_up(axes, along, logarithmic=self.log)
            axes.set_xlabel(label, fontsize=12)
            limit = axes.set_xlim
        else:
            _set_degrees(axes, along.role)
            axes.set_ylabel(label, fontsize=12)
            limit = axes.set_ylim
        if self.limits is not None:
            limit(self.limits.low, self.limits.high)
        if by is not None and len(curves) > 1:
            _name_curves(figure, axes, by, labels)
        canvas.put_title(self.title or variable.quantity, caption)
        return figure


def _labels(part: Dataset, by: Coordinate) -> list[str]:
    if by.role is Role.LEVEL:
        return [f"{value:g} {by.variable.units or ''}".strip() for value in by.values]
    return time_labels(part.need_time())


def _name_curves(figure: Any, axes: Any, by: Coordinate, labels: list[str]) -> None:
    """Name curves one by one, from top to bottom as they lie, or where they are many only the first
    and the last."""
    handles = axes.get_lines()
    if len(labels) > _NAMED:
        chosen = np.unique(np.linspace(0, len(labels) - 1, _NAMED).round().astype(int))
        handles, labels = [handles[at] for at in chosen], [labels[at] for at in chosen]
    title = "Level" if by.role is Role.LEVEL else "Time"
    figure.legend(
        handles,
        labels,
        loc="outside right upper",
        fontsize=11,
        frameon=False,
        title=title,
    )


def _draw_curve(axes: Any, along: Coordinate, values: Array, **style: Any) -> None:
    """Draw values over a horizontal axis, or beside a vertical one."""
    upright = along.role is Role.LEVEL
    pair = (values, along.values) if upright else (along.values, values)
    # Where there are few places, each is shown.
    marker = "o" if along.values.size < _MOST_DOTS else ""
    axes.plot(
        *pair, linewidth=1.8, marker=marker, markersize=3.5, clip_on=False, **style
    )


def _set_degrees(axes: Any, role: Role) -> None:
    """Make the x axis of a figure one of latitudes or longitudes."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    write = degrees_north if role is Role.LATITUDE else degrees_east
    axes.xaxis.set_major_locator(MaxNLocator(9, steps=[1, 1.5, 2, 3, 4.5, 5, 6, 9, 10]))
    axes.xaxis.set_major_formatter(
        FuncFormatter(lambda value, _: write(round(value, 6)))
    )
    axes.margins(x=0.01)
