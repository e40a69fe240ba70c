"""A field on a map: its cells, the outlines over them, and the frame around."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.parts.legend import GROUND, HATCH, Marks
from rhodolite.drawing.parts.map_decoration import dot_size, halo, label
from rhodolite.drawing.parts.map_geometry import COARSE_BEYOND, MapGeometry
from rhodolite.drawing.parts.selection import values_in_order
from rhodolite.drawing.parts.text import degrees_east, degrees_north
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.area_mean import mean_over
from rhodolite.regions import coastlines

_DOTS_APART = 9.0
"""Pixels; dots closer than this would hide the field."""
_MOST_NAMED = 400
"""Of more places none is named, since names would hide the field."""
_Box = tuple[float, float, float, float]
"""Left, bottom, right and top, in pixels."""
_LETTER, _LINE = 6.2, 14.0
"""Width of a letter and height of a line of names, in pixels."""
_DOT = 5.0
"""Pixels from the middle of a place's dot to its edge."""
_BESIDE = (
    (8, -6, "left"),
    (-8, -6, "right"),
    (0, 8, "center"),
    (0, -21, "center"),
    (6, 5, "left"),
    (-6, 5, "right"),
    (6, -18, "left"),
    (-6, -18, "right"),
    (16, 14, "left"),
    (-16, 14, "right"),
    (16, -28, "left"),
    (-16, -28, "right"),
)
"""Where the name of a place may stand, in pixels from it."""


def field_of(part: Dataset, variable: Variable, engine: Engine) -> Array:
    """Return the values to draw, shape (rows, columns) of the grid: one step, or the mean over
    time.
    """
    averaged = mean_over(part, variable, (Role.TIME,))
    return values_in_order(averaged, mesh_of(part).dimensions, engine)


@dataclass(frozen=True, eq=False)
class MapFrame(MapGeometry):
    """A map: its field, the outlines over it, marks, places, and the frame around them."""

    def draw_field(
        self,
        axes: Any,
        values: Array,
        shades: Any,
        norm: Any,
        *,
        small: bool = False,
    ) -> Any:
        """Draw a field, shape (rows, columns), with outlines and a frame, and return what a legend
        needs.

        Parameters
        ----------
        axes : matplotlib.axes.Axes
        values : ndarray
            NaN leaves the hatched ground, and blank what lies outside a region that was cut out.
        shades, norm
            Colour map and norm.
        small : bool
            Whether lines and letters are those of a small map.
        """
        from matplotlib.colors import BoundaryNorm, ListedColormap
        from matplotlib.patches import Polygon

        ground = Polygon(
            self.rim,
            facecolor=GROUND,
            edgecolor="#9a9a9a",
            hatch="////",
            linewidth=0,
            zorder=0,
        )
        axes.add_patch(ground)
        if self.outside is not None and self.outside.any():
            self._cells(
                axes,
                np.where(self.outside, 0.5, np.nan),
                ListedColormap(["white"]),
                BoundaryNorm([0, 1], 1),
            )
        mesh = self._cells(axes, values, shades, norm)
        thickness = 0.55 if small else 1.0
        scale = "110m" if self.east - self.west > COARSE_BEYOND else "50m"
        # A pale line under the coast keeps it visible on dark colours.
        for kind, colour, width in (
            ("border", "#4d4d4d", 0.6),
            ("coast", "#ffffffa0", 2.2),
            ("coast", "#111111", 0.9),
        ):
            self._lines(axes, coastlines.lines(kind, scale), colour, width * thickness)
        self._frame(axes, 4 if small else 7)
        axes.tick_params(labelsize=8.5 if small else 10, color="#777777")
        if not self.plain:
            rim = Polygon(
                self.rim, fill=False, edgecolor="#333333", linewidth=0.8, zorder=4
            )
            axes.add_patch(rim)
            for artist in (*axes.collections,):
                artist.set_clip_path(rim)
        return mesh

    def draw_outline(
        self, axes: Any, shapes: Iterable[Any], colour: str, width: float
    ) -> None:
        """Draw the rings of polygons in degrees."""
        import shapely

        rings = [
            shapely.get_coordinates(ring)
            for shape in shapes
            for ring in shapely.get_rings(shape)
        ]
        self._lines(axes, rings, colour, width, zorder=5)

    def draw_marks(self, axes: Any, marks: Marks, width: float) -> None:
        """Mark cells so that the field stays visible: on fine grids every so many rows and columns.

        `width` is that of the figure in pixels.
        """
        x, y = self.place(self.mesh.centres[1], self.mesh.centres[0])
        if marks.hatches and self.mesh.regular and self.plain:
            axes.contourf(
                x[0],
                y[:, 0],
                marks.cells.astype(float),
                levels=[0.5, 1.5],
                colors="none",
                hatches=[HATCH],
                zorder=3,
            )
            return
        every = max(1, round(_DOTS_APART / (0.9 * width / marks.cells.shape[1])))
        part = (slice(every // 2, None, every),) * 2
        chosen = marks.cells[part]
        axes.scatter(
            x[part][chosen],
            y[part][chosen],
            s=4.0,
            color="#000000",
            alpha=0.65,
            linewidths=0,
            zorder=3,
        )

    def draw_points(
        self, axes: Any, longitudes: Array, latitudes: Array, names: list[str]
    ) -> None:
        """Draw places, the smaller the closer they lie, with their names where these fit."""
        placed = np.isfinite(longitudes) & np.isfinite(latitudes)
        names = [name for name, there in zip(names, placed, strict=True) if there]
        x, y = self.place(longitudes[placed], latitudes[placed])
        pixels = axes.transData.transform(np.stack([x, y], axis=1))
        size = dot_size(pixels)
        axes.scatter(
            x,
            y,
            s=size,
            color="#111111",
            edgecolors="white",
            linewidths=min(1.2, size / 12),
            zorder=6,
        )
        if len(names) > _MOST_NAMED:
            return
        taken: list[_Box] = [
            (px - _DOT, py - _DOT, px + _DOT, py + _DOT) for px, py in pixels
        ]
        frame = axes.get_window_extent()
        for pixel, at_x, at_y, name in zip(pixels, x, y, names, strict=True):
            place = _find_room(name, pixel, taken, (frame.x0, frame.x1))
            if place is not None:
                shift, align, box = place
                label(axes, name, (at_x, at_y), shift, align)
                taken.append(box)

    def _cells(self, axes: Any, values: Array, shades: Any, norm: Any) -> Any:
        from matplotlib.collections import PolyCollection

        if self.mesh.regular:
            east, north = self.columns[0], self.mesh.latitude_edges
            assert north is not None
            flat = (east, north)
            if not self.plain:
                flat = self.projection.flat(*np.meshgrid(east, np.clip(north, -90, 90)))
            return axes.pcolormesh(*flat, self.drawn(values), cmap=shades, norm=norm)
        corners: Any = np.concatenate(
            [
                np.stack(self.projection.flat(*place), axis=-1)
                for _, place in self.corners
            ]
        )
        shades = shades.copy()
        shades.set_bad(alpha=0.0)
        cells = PolyCollection(
            corners,
            array=self.drawn(values),
            cmap=shades,
            norm=norm,
            edgecolors="face",
            linewidths=0.6,
            zorder=1,
        )
        return axes.add_collection(cells, autolim=False)

    def _within_frame(self, line: Array) -> Iterator[tuple[Array, Array]]:
        """Yield the longitudes and latitudes of a line, in each turn in which it is in the frame;
        outlines run from -180 to 180, and the data may begin anywhere."""
        longitudes, latitudes = line[:, 0], line[:, 1]
        if latitudes.max() < self.south or latitudes.min() > self.north:
            return
        if self.polar:
            yield longitudes, latitudes
            return
        first = math.ceil((self.west - longitudes.max()) / 360.0)
        last = math.floor((self.east - longitudes.min()) / 360.0)
        for turn in range(first, last + 1):
            moved = longitudes + 360.0 * turn
            if not self.plain:
                inside = (moved >= self.west) & (moved <= self.east)
                moved = np.where(inside, moved, np.nan)
            yield moved, latitudes

    def _lines(
        self,
        axes: Any,
        lines: Iterable[Array],
        colour: str,
        width: float,
        zorder: float = 2,
    ) -> None:
        """Draw lines in degrees, as far as they lie in the frame."""
        from matplotlib.collections import LineCollection

        shown = [
            np.stack(self.projection.flat(longitudes, latitudes), axis=1)
            for line in lines
            for longitudes, latitudes in self._within_frame(line)
        ]
        axes.add_collection(
            LineCollection(shown, colors=colour, linewidths=width, zorder=zorder),
            autolim=False,
        )

    def _frame(self, axes: Any, ticks: int) -> None:
        from matplotlib.ticker import FuncFormatter, MaxNLocator

        axes.set_aspect(self.aspect)
        x, y = self.rim.T
        margin = 0.0 if self.plain else 0.01
        axes.set_xlim(x.min() - margin * np.ptp(x), x.max() + margin * np.ptp(x))
        axes.set_ylim(y.min() - margin * np.ptp(y), y.max() + margin * np.ptp(y))
        if self.plain:
            for axis, write in (
                (axes.xaxis, degrees_east),
                (axes.yaxis, degrees_north),
            ):
                axis.set_major_locator(
                    MaxNLocator(ticks, steps=[1, 1.5, 2, 3, 4.5, 5, 6, 9, 10])
                )
                axis.set_major_formatter(
                    FuncFormatter(lambda value, _, write=write: write(round(value, 6)))
                )
            return
        axes.set_axis_off()
        self._graticule(axes)

    def _graticule(self, axes: Any) -> None:
        """Draw meridians and parallels, and say which they are."""
        rows = np.arange(-80, 81, 20) if self.polar else np.arange(-60, 61, 30)
        rows = rows[(rows > self.south) & (rows < self.north)]
        columns = np.arange(np.ceil(self.west / 60) * 60, self.east, 60.0)
        up, along = (
            np.linspace(self.south, self.north, 91),
            np.linspace(self.west, self.east, 361),
        )
        lines = [np.stack([np.full(91, column), up], axis=1) for column in columns]
        lines += [np.stack([along, np.full(361, row)], axis=1) for row in rows]
        self._lines(axes, lines, "#00000030", 0.6, zorder=2.5)
        for row in rows:
            x, y = self.projection.flat(
                np.array(self.west if not self.polar else 45.0), np.array(float(row))
            )
            side = "center" if self.polar else "right"
            axes.text(
                x,
                y,
                f"{degrees_north(float(row))} ",
                fontsize=9,
                color="#333333",
                ha=side,
                va="center",
                zorder=7,
                path_effects=[halo()],
            )
        if self.polar:
            edge = self.south if self.projection.sign > 0 else self.north  # type: ignore[attr-defined]
            for column in columns:
                x, y = self.projection.flat(np.array(column), np.array(edge))
                axes.text(
                    1.06 * x,
                    1.06 * y,
                    degrees_east(column),
                    fontsize=9,
                    color="#333333",
                    ha="center",
                    va="center",
                )


def _find_room(
    name: str, pixel: Array, taken: list[_Box], between: tuple[float, float]
) -> tuple[tuple[float, float], str, _Box] | None:
    """Return where a name fits beside a place: its distance, how it is aligned, and its box.

    Parameters
    ----------
    name : str
    pixel : ndarray, shape (2,)
        Of the place.
    taken : list of tuple of float
        Boxes that it must not touch.
    between : tuple of float
        The sides of the map.
    """
    wide, high = _LETTER * len(name), _LINE
    for dx, dy, align in _BESIDE:
        before = {"left": 0.0, "right": wide, "center": wide / 2}[align]
        left, low = pixel[0] + dx - before, pixel[1] + dy
        box = (left, low, left + wide, low + high)
        is_within = box[0] > between[0] and box[2] < between[1]
        if is_within and not any(_touch(box, other) for other in taken):
            return (dx, dy), align, box
    return None


def _touch(box: _Box, other: _Box) -> bool:
    beside = box[2] < other[0] or box[0] > other[2]
    return not (beside or box[3] < other[1] or box[1] > other[3])
