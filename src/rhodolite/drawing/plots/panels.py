"""Small maps side by side, with one legend."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import FieldOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.canvas import new_figure
from rhodolite.drawing.parts.colouring import ColouredClasses, choose_colours
from rhodolite.drawing.parts.curves import labelled_parts
from rhodolite.drawing.parts.legend import add_key
from rhodolite.drawing.parts.map_frame import MapFrame, field_of
from rhodolite.drawing.parts.selection import cut_to_map, variable_of_map
from rhodolite.drawing.parts.text import period_text, region_text
from rhodolite.drawing.parts.title import put_title
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.time.period_text import Years
from rhodolite.model.time.time_intervals import Interval
from rhodolite.model.variable import Variable
from rhodolite.operations.aggregate import Aggregate
from rhodolite.operations.climatology import Climatology
from rhodolite.operations.declaration import parameter
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.subset import Subset

_MOST = 36
_MONTHS = 12


class By(StrEnum):
    """What each small map shows."""

    STEP = "step"
    MONTH = "month"
    SEASON = "season"
    YEAR = "year"
    LEVEL = "level"
    MEMBER = "member"


@dataclass(frozen=True)
class Panels(FigureOptions, FieldOptions, PartOptions, Drawing):
    """Small maps of the twelve months, the four seasons, years, levels or members, with one legend.

    By month and by season the maps show the mean cycle of all years that are left, by year the
    annual means, by level and by member the mean over time; otherwise each time step has its
    own map, or each value of an axis such as patterns where there are no times.

    Examples
    --------
    >>> Panels(by="season")  # doctest: +SKIP
    """

    by: By = parameter("what each map shows", default=By.STEP)
    years: Years | None = parameter("the years to draw", example="2010,2015..2018")

    one_panel = False

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:  # noqa: ARG002
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, or there are too many maps.
        """
        part, variable = self._chosen(dataset)
        panels = self._panels(self._grouped(part, variable), variable)
        fields = [
            (title, panel, field_of(panel, panel[variable.name], engine))
            for title, panel in panels
        ]
        return self._figure(part[variable.name], fields)

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`: a step for each map, or all of members."""
        return self._grouped(*self._chosen(dataset))

    def _chosen(self, dataset: Dataset) -> tuple[Dataset, Variable]:
        dataset = cut_to_map(dataset, self.variable)
        variable = variable_of_map(dataset, self.variable)
        part = Subset(
            variable=(variable.name,),
            time=self.time,
            years=self.years,
            level=self.level,
        )(dataset)
        return part, part[variable.name]

    @property
    def _role(self) -> Role:
        return Role.LEVEL if self.by is By.LEVEL else Role.TIME

    def _grouped(self, part: Dataset, variable: Variable) -> Dataset:
        """Return what the maps show: means of months, seasons or years, or the data themselves."""
        if self._by_name(part):
            return part
        if part.need(self._role).dimension not in variable.dimensions:
            raise DataError(
                f"{variable.name} has no {self._role} axis, so there is one map only; use draw map"
            )
        if self.by in (By.MONTH, By.SEASON) and not part.need_time().climatological:
            # Of all years that are left, be it one.
            return Climatology(cycle=Cycle.parse(self.by.value), min_years=1)(part)
        return Aggregate(to=Interval("year"))(part) if self.by is By.YEAR else part

    def _panels(self, part: Dataset, variable: Variable) -> list[tuple[str, Dataset]]:
        if self._by_name(part):
            return self._members(part, variable)
        role, coordinate = self._role, part.need(self._role)
        count = coordinate.values.size
        if count > _MOST:
            raise DataError(
                f"{count:,} maps are too many for one figure; choose up to {_MOST}, such as with "
                "--years, or draw --by month"
            )
        name = str(coordinate.dimension)
        parts = [take(part, {name: np.array([at])}) for at in range(count)]
        if role is Role.LEVEL:
            units = coordinate.variable.units or ""
            return [
                (f"{value:g} {units}".strip(), panel)
                for value, panel in zip(coordinate.values, parts, strict=True)
            ]
        return [(_short_title(panel), panel) for panel in parts]

    def _by_name(self, part: Dataset) -> bool:
        """Return whether maps are of what has a name: members, or patterns where there is no
        time."""
        time = part.coordinate(Role.TIME)
        timeless = self.by is By.STEP and (time is None or time.dimension is None)
        return self.by is By.MEMBER or timeless

    def _members(self, part: Dataset, variable: Variable) -> list[tuple[str, Dataset]]:
        """Return a map of the mean over time for each member of an ensemble, regions or other
        labelled parts."""
        parts = labelled_parts(part, variable)
        if len(parts) == 1:
            raise DataError(
                f"{variable.name} has neither times nor members; open several inputs with "
                "--members, or use draw map"
            )
        return parts

    def _figure(
        self, variable: Variable, fields: list[tuple[str, Dataset, Array]]
    ) -> Any:

        shown = fields[0][1][variable.name]
        values = np.stack([values for _, _, values in fields])
        colouring = choose_colours(
            values, shown, self.palette, self.limits, self.centre
        )
        shades, norm = colouring.colours()
        frame = MapFrame.of(fields[0][1])
        shape = frame.shape
        columns = _columns(len(fields), shape)
        rows = math.ceil(len(fields) / columns)
        # Words of classes stand beside the maps, and other legends below them.
        words = isinstance(colouring, ColouredClasses)
        width, below = (1065, 90) if words else (1230, 170)
        height = width / columns / shape * rows + 26 * rows + below
        size = self.size or Size(1280, int(np.clip(height, 420, 1600)))
        figure = new_figure(size, "compressed")
        grid = figure.subplots(rows, columns, squeeze=False, sharex=True, sharey=True)
        for axes in grid.flat[len(fields) :]:
            axes.remove()
        for axes, (title, _, field) in zip(grid.flat, fields, strict=False):
            mesh = frame.draw_field(axes, field, shades, norm, small=True)
            axes.set_title(title, fontsize=11, pad=4)
        for number in range(len(fields) - columns, len(fields)):
            grid.flat[number].xaxis.set_tick_params(labelbottom=True)
        colouring.add_legend(
            figure,
            mesh,
            list(grid.flat[: len(fields)]),
            location="bottom",
            shrink=0.7,
            aspect=45,
            pad=0.02,
        )
        put_title(figure, self.title or shown.quantity, self._caption(fields), size)
        add_key(grid.flat[0], frame.lacks_data(*values))
        return figure

    def _caption(self, fields: list[tuple[str, Dataset, Array]]) -> str:
        words = [region_text(fields[0][1])]
        if self.by is By.LEVEL or self._by_name(fields[0][1]):
            words.insert(0, period_text(fields[0][1].time))
        return " · ".join(word for word in words if word)


def _short_title(part: Dataset) -> str:
    """Name the time of a small map: the phase of a cycle alone, or the period."""
    axis = part.need_time()
    if axis.climatological:
        return period_text(axis).partition(",")[0]
    return period_text(axis)


def _columns(count: int, shape: float) -> int:
    """Return how many small maps of a shape go side by side in a figure of about 8 to 5."""
    if count == _MONTHS:
        return 4  # the months of a year, three seasons' worth to a column
    return min(
        range(1, count + 1),
        key=lambda n: abs(math.log(n * shape / math.ceil(count / n) / 1.9)),
    )
