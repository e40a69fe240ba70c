"""A field on a map."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.cartography import MapFrame, field_of, outside_of_region
from rhodolite.drawing.choosing import chosen_part, only_one, variables_along
from rhodolite.drawing.classes import Classes
from rhodolite.drawing.legends import Marks, add_key, add_legend
from rhodolite.drawing.palettes import Scale, check_palette, colours, wanted_scale
from rhodolite.drawing.parameters import Limits, Size
from rhodolite.drawing.projections import ProjectionName
from rhodolite.drawing.titles import put_title
from rhodolite.drawing.wording import period_text, value_text
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.mesh import Mesh
from rhodolite.model.periods import Period
from rhodolite.model.ranges import Levels
from rhodolite.model.variable import Variable
from rhodolite.operations.areas import Areas
from rhodolite.operations.averaging import area_mean
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.subset import Subset

_WIDE = 1.35
"""Maps wider than this, in heights, have their legend below; others beside them."""


class Mark(StrEnum):
    """How cells are marked."""

    DOTS = "dots"
    HATCHES = "hatches"
    NONE = "none"


@operation
@dataclass(frozen=True)
class Map:
    """A field on a map with coastlines, country borders and a legend.

    Draws one step in time, or the mean of all steps that are left. The palette follows the
    quantity, and pivots on zero for departures. Cells without a value are hatched, and dots lie where
    a trend is significant. The line under the title says which time is shown, the area-weighted mean and the range.

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
    mark: Mark = parameter(
        "how cells are marked where a trend, or what --mark-by names, is significant", default=Mark.DOTS
    )
    mark_by: str | None = parameter("the variable that is 1 in cells to mark", example="NAME")
    points: str | None = parameter("a table of sites to put on the map", example="SITES.csv")
    region: Areas | None = parameter("outlines to draw over the map", example="Norway,FILE#NAME")
    projection: ProjectionName = parameter("how the sphere becomes flat", default=ProjectionName.EQUIRECTANGULAR)
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
        if self.projection.latitudes is not None:
            dataset = Subset(lat=self.projection.latitudes)(dataset)
        part = chosen_part(dataset, variable, self.time, self.level)
        values = field_of(part, part[variable.name], engine)
        classes = Classes.of(variable)
        if classes is not None:
            _need_single_step(part, variable)
            return self._figure(part, variable, values, classes, None, None)
        scale, centre = wanted_scale(values, variable, self.palette, self.limits, self.centre)
        return self._figure(part, variable, values, scale, centre, self._marked(dataset, variable, engine))

    def _marked(self, dataset: Dataset, variable: Variable, engine: Engine) -> Marks | None:
        """Return the cells to mark, and what the marks mean."""
        named = str(variable.attributes.get("ancillary_variables", "")).split()
        flags = self.mark_by or next((name for name in named if name.endswith("_significant")), None)
        if self.mark is Mark.NONE or flags is None or (self.mark_by is None and flags not in dataset.variables):
            return None
        flag = dataset[flags]
        part = chosen_part(dataset, flag, self.time, self.level)
        return Marks(field_of(part, part[flag.name], engine) == 1, self.mark is Mark.HATCHES, flag.quantity)

    def _figure(
        self,
        part: Dataset,
        variable: Variable,
        values: Array,
        scale: Scale | Classes,
        centre: float | None,
        marks: Marks | None,
    ) -> Any:
        from matplotlib.figure import Figure

        frame = MapFrame.of(part, self.projection)
        shape = frame.shape
        upright = shape < _WIDE
        size = self.size or _fitting_size(shape, upright)
        if isinstance(scale, Classes) and self.size is None and not upright:
            size = Size(size.width, round(max(420, 1030 / shape + 130)))  # words beside the map leave it less width
        figure = Figure((size.width / 100, size.height / 100), dpi=100, layout="compressed")
        axes = figure.add_subplot()
        outside = outside_of_region(part, frame.mesh)
        if isinstance(scale, Classes):
            mesh = frame.draw_field(axes, values, *scale.colours(self.palette), outside=outside)
            scale.add_legend(figure, mesh, axes)
        else:
            mesh = frame.draw_field(axes, values, *colours(scale, centre), outside=outside)
            add_legend(
                figure,
                mesh,
                axes,
                scale,
                variable,
                location="right" if upright else "bottom",
                shrink=0.85,
                aspect=35,
                pad=0.02,
            )
        put_title(figure, self.title or variable.quantity, _caption(part, variable, values), size)
        if marks is not None:
            frame.draw_marks(axes, marks, size.width)
        for outline in self.region.outlines() if self.region is not None else ():
            frame.draw_outline(axes, outline.shapes, "#ffffff", 3.2)
            frame.draw_outline(axes, outline.shapes, "#c2185b", 1.8)
        if self.points is not None:
            figure.draw_without_rendering()  # only then is it known where a place comes to lie
            frame.draw_points(axes, *_sites(self.points))
        missing = np.isnan(values) if outside is None else np.isnan(values) & ~outside
        add_key(axes, bool(missing.any()), marks)
        return figure


def _need_single_step(part: Dataset, variable: Variable) -> None:
    """Refuse several steps of classes, of which there is no mean."""
    time = part.coordinate(Role.TIME)
    if time is not None and time.dimension in variable.dimensions and time.values.size > 1:
        raise DataError(
            f"{variable.name} holds classes, of which there is no mean; choose one of its "
            f"{time.values.size} steps, such as --time {part.need_time().span.last}"
        )


def _fitting_size(shape: float, upright: bool) -> Size:
    """Return the size of a figure that a map of this shape (width over height) fills."""
    if upright:
        return Size(round(min(1280, 150 + 720 * shape + 90)), 820)
    return Size(1280, round(max(420, 1190 / shape + 190)))


def _sites(path: str) -> tuple[Array, Array, list[str]]:
    from rhodolite.formats.csv.reader import read_sites  # pandas takes long to import

    described, _ = read_sites(Path(path))
    values = {v.name: v.values() for v in described}
    names = next(v.values() for v in described if "cf_role" in v.attributes)
    return values["lon"], values["lat"], [str(name) for name in names]


def _caption(part: Dataset, variable: Variable, values: Array) -> str:
    if Classes.of(variable) is not None:
        return period_text(part.time)
    mean = area_mean(part, variable, values, Mesh.of(part).dimensions)
    words = [period_text(part.time)]
    vertical = part.coordinate(Role.LEVEL)
    if vertical is not None and vertical.values.size == 1:
        words.append(f"at {vertical.values[0]:g} {vertical.variable.units or ''}".strip())
    if not np.isnan(mean):
        low, high = np.nanmin(values), np.nanmax(values)
        words.append(f"area mean {value_text(mean, variable)}")
        words.append(f"from {value_text(float(low), variable)} to {value_text(float(high), variable)}")
    else:
        words.append("every value is missing")
    return " · ".join(word for word in words if word)
