"""A map that moves through time."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path
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
from rhodolite.drawing.parts.canvas import new_figure
from rhodolite.drawing.parts.colouring import Colouring, choose_colours
from rhodolite.drawing.parts.legend import add_key
from rhodolite.drawing.parts.map_frame import MapFrame, field_of
from rhodolite.drawing.parts.selection import choose_part, cut_to_map, variable_of_map
from rhodolite.drawing.parts.text import capitalise, period_text
from rhodolite.drawing.parts.title import put_title
from rhodolite.errors import DataError, OutputError, UsageError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import parameter

_MOST = 600
_WIDE = 1.35


@dataclass(frozen=True)
class Animation(FigureOptions, ProjectionOptions, FieldOptions, PartOptions, Drawing):
    """A map for each step in time, one after another, with one legend and the date in the title.

    Written as .gif, or as .mp4 where the program ffmpeg is installed.

    Examples
    --------
    >>> Animation(time="2015", every=2)  # doctest: +SKIP
    """

    every: int = parameter("draw every n-th time step", default=1)
    rate: int = parameter("frames per second", default=4)

    moves = True
    one_panel = False

    def check(self) -> None:
        super().check()
        for name in ("every", "rate"):
            if not 1 <= getattr(self, name) <= 1000:
                raise UsageError(
                    f"--{name}: '{getattr(self, name)}' is not a number from 1 to 1000"
                )

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        part, _ = self._chosen(dataset)
        steps = np.arange(0, len(part.need_time()), self.every)
        return take(part, {str(part.need(Role.TIME).dimension): steps})

    def _chosen(self, dataset: Dataset) -> tuple[Dataset, Variable]:
        on_map = cut_to_map(dataset, self.variable, self.projection.latitudes)
        variable = variable_of_map(on_map, self.variable)
        return choose_part(on_map, variable, self.time, self.level), variable

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Film:  # noqa: ARG002
        """Return the maps, to be saved.

        Raises
        ------
        DataError
            If it is not clear what to draw, or there are too many steps.
        """
        part, variable = self._chosen(dataset)
        dimension = str(part.need(Role.TIME).dimension)
        steps = np.arange(0, len(part.need_time()), self.every)
        if steps.size > _MOST:
            raise DataError(
                f"{steps.size:,} maps are too many for one film; choose up to {_MOST}, with --time "
                "or --every"
            )
        parts = [take(part, {dimension: np.array([at])}) for at in steps]
        if dimension not in part[variable.name].dimensions:
            raise DataError(
                f"{variable.name} has no time axis, so nothing moves; use draw map"
            )
        whole = take(part, {dimension: steps})[variable.name]
        fields = [field_of(step, step[variable.name], engine) for step in parts]
        titles = [period_text(step.time) for step in parts]
        colouring = choose_colours(
            np.stack(fields), whole, self.palette, self.limits, self.centre
        )
        return Film(
            self,
            MapFrame.of(part, self.projection),
            variable,
            fields,
            titles,
            colouring,
        )


@dataclass(frozen=True, eq=False)
class Film:
    """Maps that follow each other, of which each is drawn when its turn comes."""

    wish: Animation
    frame: MapFrame
    variable: Variable
    fields: list[Array]
    titles: list[str]
    colouring: Colouring

    def savefig(self, path: Path, **_: Any) -> None:
        """Write the film in the format that the suffix names.

        Raises
        ------
        OutputError
            If it needs a program that is not there.
        """
        from matplotlib import rc_context
        from matplotlib.animation import FFMpegWriter, FuncAnimation, PillowWriter

        if path.suffix.lower() == ".mp4" and shutil.which("ffmpeg") is None:
            raise OutputError(
                f"{path.suffix} needs the program ffmpeg, which is not installed; write .gif "
                "instead"
            )
        writer: Any = FFMpegWriter if path.suffix.lower() == ".mp4" else PillowWriter
        with rc_context({"text.parse_math": False}):
            figure, mesh, date = self._first()

        def show(at: int) -> tuple[Any, ...]:
            mesh.set_array(self.frame.drawn(self.fields[at]))
            date.set_text(capitalise(self.titles[at]))
            return (mesh, date)

        film = FuncAnimation(figure, show, frames=len(self.fields))
        film.save(str(path), writer=writer(fps=self.wish.rate), dpi=100)

    def _first(self) -> tuple[Any, Any, Any]:
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        shape = self.frame.shape
        upright = shape < _WIDE
        size = self.wish.size or (
            Size(round(min(1280, 240 + 620 * shape)), 740)
            if upright
            else Size(1100, round(max(400, 1010 / shape + 190)))
        )
        figure = new_figure(size, "compressed")
        FigureCanvasAgg(figure)
        axes = figure.add_subplot()
        shades, norm = self.colouring.colours()
        mesh = self.frame.draw_field(axes, self.fields[0], shades, norm)
        place = "right" if upright else "bottom"
        self.colouring.add_legend(
            figure,
            mesh,
            axes,
            location=place,
            shrink=0.85,
            aspect=35,
            pad=0.02,
        )
        put_title(
            figure, self.wish.title or self.variable.quantity, self.titles[0], size
        )
        add_key(axes, self.frame.lacks_data(*self.fields))
        return figure, mesh, figure.texts[-1]
