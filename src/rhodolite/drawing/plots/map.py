"""A field on a map."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import (
    FieldOptions,
    FigureOptions,
    PartOptions,
    ProjectionOptions,
    Size,
)
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.class_colours import Classes
from rhodolite.drawing.parts.colouring import ColouredClasses, Colouring, choose_colours
from rhodolite.drawing.parts.legend import Marks, add_key
from rhodolite.drawing.parts.map_frame import MapFrame, field_of
from rhodolite.drawing.parts.selection import choose_part, cut_to_map, variable_of_map
from rhodolite.drawing.parts.text import period_text, value_text
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.time.dates import format_date
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.area_mean import area_mean
from rhodolite.operations.axis_reduction.plan import Over
from rhodolite.operations.declaration import parameter
from rhodolite.operations.parameters.regions import Regions
from rhodolite.operations.parameters.sites import Sites
from rhodolite.operations.summarise import Summarise

_WIDE = 1.35
"""Maps wider than this, in heights, have their legend below; others beside them."""


class Mark(StrEnum):
    """How cells are marked."""

    DOTS = "dots"
    HATCHES = "hatches"
    NONE = "none"


@dataclass(frozen=True)
class Map(FigureOptions, ProjectionOptions, FieldOptions, PartOptions, Drawing):
    """A field on a map with coastlines, country borders and a legend.

    Draws one time step, or the mean of all steps that are left. The colour map suits the
    quantity, and is centred on zero for anomalies. Grid cells without a value are hatched, and
    dots mark significant trends. The line below the title gives the time, the area-weighted
    mean and the range.

    Examples
    --------
    >>> Map(time="2014-01", limits="-6..6")  # doctest: +SKIP
    """

    mark: Mark = parameter(
        "how significant grid cells are marked",
        default=Mark.DOTS,
    )
    mark_by: str | None = parameter(
        "the variable that is 1 in grid cells to mark", example="NAME"
    )
    points: Sites | None = parameter(
        "a table of sites to put on the map", example="SITES.csv"
    )
    region: Regions | None = parameter(
        "outlines to draw over the map", example="Norway,FILE#NAME"
    )

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, or nothing is left to draw.
        """
        part, variable = self._chosen(dataset)
        values = field_of(part, part[variable.name], engine)
        colouring = choose_colours(
            values, variable, self.palette, self.limits, self.centre
        )
        marks = None
        if isinstance(colouring, ColouredClasses):
            _need_single_step(part, variable)
        else:
            marks = self._find_marks(dataset, variable, engine)
        return self._figure(part, variable, values, colouring, marks, axes)

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`: one step, or the mean over time."""
        part, variable = self._chosen(dataset)
        time = part.coordinate(Role.TIME)
        along = time is not None and time.dimension in variable.dimensions
        return (
            Summarise(over=Over.TIME)(part)
            if along and len(part.need_time()) > 1
            else part
        )

    def _chosen(self, dataset: Dataset) -> tuple[Dataset, Variable]:
        """Return the part of a dataset that is drawn, and the variable in all of it."""
        on_map = cut_to_map(dataset, self.variable, self.projection.latitudes)
        variable = variable_of_map(on_map, self.variable)
        return choose_part(on_map, variable, self.time, self.level), variable

    def _find_marks(
        self, dataset: Dataset, variable: Variable, engine: Engine
    ) -> Marks | None:
        """Return the cells to mark, and what the marks mean."""
        named = str(variable.attributes.get("ancillary_variables", "")).split()
        flags = self.mark_by or next(
            (name for name in named if name.endswith("_significant")), None
        )
        if (
            self.mark is Mark.NONE
            or flags is None
            or (self.mark_by is None and flags not in dataset.variables)
        ):
            return None
        on_map = cut_to_map(dataset, (flags,), self.projection.latitudes)
        flag = on_map[flags]
        part = choose_part(on_map, flag, self.time, self.level)
        return Marks(
            field_of(part, part[flag.name], engine) == 1,
            self.mark is Mark.HATCHES,
            flag.quantity,
        )

    def _figure(
        self,
        part: Dataset,
        variable: Variable,
        values: Array,
        colouring: Colouring,
        marks: Marks | None,
        given: Any,
    ) -> Any:
        frame = MapFrame.of(part, self.projection)
        upright = frame.shape < _WIDE
        words = isinstance(colouring, ColouredClasses)
        size = self.size or _fitting_size(frame.shape, upright, words=words)
        canvas = Canvas.make(size, given, layout="compressed")
        figure, axes = canvas.figure, canvas.axes
        mesh = frame.draw_field(axes, values, *colouring.colours())
        if words or np.isfinite(values).any():
            room = {"shrink": 0.85, "aspect": 35, "pad": 0.02}
            place = "right" if upright else "bottom"
            colouring.add_legend(figure, mesh, axes, location=place, **room)
        canvas.put_title(
            self.title or variable.quantity, _caption(part, variable, values)
        )
        if marks is not None:
            frame.draw_marks(axes, marks, canvas.size.width)
        self._draw_places(frame, canvas)
        add_key(axes, frame.lacks_data(values), marks)
        return figure

    def _draw_places(self, frame: MapFrame, canvas: Canvas) -> None:
        """Draw the outlines of regions and the sites that were asked for."""
        axes = canvas.axes
        for outline in self.region.outlines if self.region is not None else ():
            frame.draw_outline(axes, outline.shapes, "#ffffff", 3.2)
            frame.draw_outline(axes, outline.shapes, "#c2185b", 1.8)
        if self.points is not None:
            # Only then is it known where a place comes to lie.
            canvas.figure.draw_without_rendering()
            sites = self.points
            frame.draw_points(axes, sites.longitudes, sites.latitudes, sites.names)


def _need_single_step(part: Dataset, variable: Variable) -> None:
    """Refuse several steps of classes, of which there is no mean."""
    time = part.coordinate(Role.TIME)
    if (
        time is not None
        and time.dimension in variable.dimensions
        and time.values.size > 1
    ):
        last = format_date(part.need_time().reference_dates[-1]).replace(" ", "T")
        raise DataError(
            f"{variable.name} holds classes, of which there is no mean; choose one of its "
            f"{time.values.size} steps, such as --time {last}"
        )


def _fitting_size(shape: float, upright: bool, *, words: bool) -> Size:
    """Return the size of a figure that a map of this shape (width over height) fills."""
    if upright:
        return Size(round(min(1280, 150 + 720 * shape + 90)), 820)
    if words:
        # Those of classes, beside the map, leave it less width.
        return Size(1280, round(max(420, 1030 / shape + 130)))
    return Size(1280, round(max(420, 1190 / shape + 190)))


def _caption(part: Dataset, variable: Variable, values: Array) -> str:
    if Classes.of(variable) is not None:
        return period_text(part.time)
    mean = area_mean(part, variable, values, mesh_of(part).dimensions)
    words = [period_text(part.time)]
    vertical = part.coordinate(Role.LEVEL)
    if vertical is not None and vertical.values.size == 1:
        words.append(
            f"at {vertical.values[0]:g} {vertical.variable.units or ''}".strip()
        )
    if not np.isnan(mean):
        low, high = float(np.nanmin(values)), float(np.nanmax(values))
        ends = [value_text(end, variable, high - low) for end in (low, high)]
        words.append(f"area mean {value_text(mean, variable, high - low)}")
        words.append(f"from {ends[0]} to {ends[1]}")
    else:
        words.append("every value is missing")
    return " · ".join(word for word in words if word)
