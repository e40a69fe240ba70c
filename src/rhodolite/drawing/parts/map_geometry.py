"""The part of the sphere that a map shows: its extent, its projection, its cells on the plane."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Array
from rhodolite.drawing.options import LEAST_POLAR, ProjectionName
from rhodolite.drawing.parts.map_decoration import cut_near
from rhodolite.drawing.parts.projections import (
    EqualArea,
    Equirectangular,
    Polar,
    Projection,
)
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.cf.vocabulary import COVERED_AREA
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of

_ON_POLE = 1e-5
"""Degrees, within which a corner that was computed lies on the pole."""
COARSE_BEYOND = 100.0
"""Maps wider than this many degrees get the 1:110m outlines, others the 1:50m ones."""


@dataclass(frozen=True, eq=False)
class MapGeometry:
    """The part of the sphere that a map shows, and where its cells lie on the flat map.

    Attributes
    ----------
    mesh : Mesh
        The cells of the field.
    projection : Projection
    west, east, south, north : float
        Degrees.
    outside : ndarray of bool, shape (rows, columns), optional
        Cells outside a region that was cut out.
    """

    mesh: Mesh
    projection: Projection
    west: float
    east: float
    south: float
    north: float
    outside: Array | None = None

    def lacks_data(self, *fields: Array) -> bool:
        """Return whether a field is missing somewhere within what is shown."""
        missing = np.isnan(fields).any(axis=0)
        if self.outside is not None:
            missing &= ~self.outside
        if isinstance(self.projection, Polar):
            missing &= ~_lie_beyond(self.mesh, self.projection.sign)
        return bool(missing.any())

    @classmethod
    def of(
        cls, part: Dataset, name: ProjectionName = ProjectionName.EQUIRECTANGULAR
    ) -> Self:
        """Return the frame that shows all cells of a dataset.

        Raises
        ------
        DataError
            If cells cannot be found.
        """
        mesh = mesh_of(part)
        frame = cls._around(mesh, name)
        return replace(frame, outside=_outside_of_region(part, mesh))

    @classmethod
    def _around(cls, mesh: Mesh, name: ProjectionName) -> Self:
        (west, east), (south, north) = mesh.span, mesh.reach
        if name is ProjectionName.EQUIRECTANGULAR:
            return cls(mesh, Equirectangular(west), west, east, south, north)
        if name is ProjectionName.EQUAL_AREA:
            cut = (
                cut_near(mesh, -180.0)
                if east - west > 359.9
                else (west + east) / 2 - 180.0
            )
            whole = east - west > 359.9
            return cls(
                mesh,
                EqualArea(cut),
                cut if whole else west,
                cut + 360.0 if whole else east,
                south,
                north,
            )
        sign = 1.0 if name is ProjectionName.NORTH_POLAR else -1.0
        return cls(mesh, Polar(sign), -180.0, 180.0, *_polar_reach(mesh, sign))

    @property
    def plain(self) -> bool:
        """Whether longitude runs along x and latitude along y."""
        return isinstance(self.projection, Equirectangular)

    @property
    def polar(self) -> bool:
        return isinstance(self.projection, Polar)

    @property
    def aspect(self) -> float:
        """How much longer a degree of y is drawn than one of x."""
        if not self.plain or self.east - self.west > COARSE_BEYOND:
            return 1.0
        return float(1 / max(np.cos(np.radians((self.south + self.north) / 2)), 0.2))

    @property
    def shape(self) -> float:
        """The width of the map in heights."""
        x, y = self.rim.T
        return float(np.ptp(x) / (np.ptp(y) * self.aspect))

    @cached_property
    def rim(self) -> Array:
        """The edge of what is shown, on the flat map, shape (n, 2)."""
        if self.polar:
            around = np.linspace(-180, 180, 361)
            edge = self.south if self.projection.sign > 0 else self.north  # type: ignore[attr-defined]
            return np.stack(self.projection.flat(around, np.full(361, edge)), axis=1)
        along, up = (
            np.linspace(self.west, self.east, 181),
            np.linspace(self.south, self.north, 91),
        )
        corners = [
            (along, np.full(181, self.south)),
            (np.full(91, self.east), up),
            (along[::-1], np.full(181, self.north)),
            (np.full(91, self.west), up[::-1]),
        ]
        return np.concatenate(
            [np.stack(self.projection.flat(*part), axis=1) for part in corners]
        )

    def place(self, longitudes: Array, latitudes: Array) -> tuple[Array, Array]:
        """Return where places lie on the flat map, longitudes in any convention."""
        turned = self.projection.west + np.mod(
            np.asarray(longitudes) - self.projection.west, 360.0
        )
        return self.projection.flat(turned, np.asarray(latitudes))

    def drawn(self, values: Array) -> Any:
        """Return the values of a field in the order in which its cells are drawn."""
        masked = np.ma.masked_invalid(values)
        if self.mesh.regular:
            return self.columns[1](masked)
        return masked.reshape(-1)[np.concatenate([cells for cells, _ in self.corners])]

    @cached_property
    def columns(self) -> tuple[Array, Any]:
        """The edges of columns from west to east as the map shows them, and what puts values in
        that order."""
        x = self.mesh.longitude_edges
        assert x is not None
        if self.plain or x[-1] < x[0] or self.polar or self.east - self.west < 359.9:
            return x, lambda values: values
        first = int(np.argmin(np.abs(shortest_turn(x[:-1] - self.west))))
        widths = np.diff(x)
        turned = self.west + np.concatenate(
            [[0.0], np.cumsum(np.concatenate([widths[first:], widths[:first]]))]
        )
        return turned, lambda values: np.roll(values, -first, axis=1)

    @cached_property
    def corners(self) -> list[tuple[Array, tuple[Array, Array]]]:
        """Cells of a two-dimensional grid, and the longitudes and latitudes of their corners where
        they are drawn.

        Those across the western edge of the map are drawn at its eastern end, too.
        """
        assert self.mesh.corners is not None
        north, east = (part.reshape(self.mesh.size, -1) for part in self.mesh.corners)
        cells = np.flatnonzero(
            np.isfinite(north).all(axis=1) & np.isfinite(east).all(axis=1)
        )
        north, east = north[cells], np.unwrap(east[cells], period=360.0, axis=1)
        if self.polar:
            return [(cells, (east, north))]
        cells, east, north = _divide_polar_cells(cells, east, north)
        east = east - 360.0 * np.floor(
            (east.mean(axis=1, keepdims=True) - self.projection.west) / 360.0
        )
        inside = []
        for turn in (0.0, -360.0, 360.0):
            moved = east + turn
            shown = (
                (np.ptp(east, axis=1) < 180.0)
                & (moved.max(axis=1) > self.west)
                & (moved.min(axis=1) < self.east)
            )
            inside.append((cells[shown], (moved[shown], north[shown])))
        return inside


def _divide_polar_cells(
    cells: Array, east: Array, north: Array
) -> tuple[Array, Array, Array]:
    """Return cells with those around a pole, or with one corner on it, as triangles between their
    edges and the pole, which is a line on such a map; corners stay as many, the last several times.

    Parameters
    ----------
    cells : ndarray of int, shape (n,)
    east, north : ndarray of float64, shape (n, corners)
        Longitudes without jumps.
    """
    on_pole = np.abs(north) > 90.0 - _ON_POLE
    touching = on_pole.sum(axis=1) == 1
    # A pole lies at every longitude: as a corner it is as far east as the one before.
    lone = on_pole & touching[:, None]
    east = np.where(lone, np.roll(east, 1, axis=1), east)
    closed = np.unwrap(
        np.concatenate([east, east[:, :1]], axis=1), period=360.0, axis=1
    )
    polar = touching | (np.abs(closed[:, -1] - closed[:, 0]) > 180.0)
    if not polar.any():
        return cells, east, north
    corners = east.shape[1]
    numbers, longitudes, latitudes = [cells[~polar]], [east[~polar]], [north[~polar]]
    for edge in range(corners):
        after = (edge + 1) % corners
        some = np.flatnonzero(polar & ~lone[:, edge] & ~lone[:, after])
        west_end, east_end = closed[some, edge], closed[some, edge + 1]
        low, high = north[some, edge], north[some, after]
        pole = np.copysign(90.0, north[some].mean(axis=1))
        for x, y in (
            ((west_end, east_end, east_end), (low, high, pole)),
            ((west_end, east_end, west_end), (low, pole, pole)),
        ):
            repeated = [0, 1, *[2] * (corners - 2)]
            numbers.append(cells[some])
            longitudes.append(np.stack([x[at] for at in repeated], axis=1))
            latitudes.append(np.stack([y[at] for at in repeated], axis=1))
    return (
        np.concatenate(numbers),
        np.concatenate(longitudes),
        np.concatenate(latitudes),
    )


def _polar_reach(mesh: Mesh, sign: float) -> tuple[float, float]:
    """Return the latitudes that a map about a pole shows: from the pole, whether the data reach it
    or not, to where the cells end of which it shows the middle.

    A part of a two-dimensional grid is a box of rows and columns, in which others lie as well.
    """
    south, north = mesh.reach
    edge = south if sign > 0 else -north
    beyond = _lie_beyond(mesh, sign).ravel()
    if mesh.corners is not None and beyond.any() and not beyond.all():
        # Up to those that are left out, so that no gaps show between them.
        corners = sign * mesh.corners[0].reshape(mesh.size, -1)
        edge = float(np.nanmax(corners[beyond]))
    edge = max(edge, 0.0)
    return (edge, 90.0) if sign > 0 else (-90.0, -edge)


def _lie_beyond(mesh: Mesh, sign: float) -> Array:
    """Return the cells that a map about a pole leaves out, shape (rows, columns)."""
    return np.asarray(sign * mesh.centres[0] < LEAST_POLAR)


def _outside_of_region(part: Dataset, mesh: Mesh) -> Array | None:
    """Return which cells lie outside a region that was cut out, shape (rows, columns); None where
    none was.
    """
    covered = part.variables.get(COVERED_AREA)
    if covered is None or set(covered.dimensions) != set(mesh.dimensions):
        return None
    values = covered.values()
    return np.asarray(
        (values if covered.dimensions == mesh.dimensions else values.T) <= 0
    )
