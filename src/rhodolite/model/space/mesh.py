"""The horizontal cells of a dataset: rectangles between latitudes and longitudes, or each with its
own corners."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.interval_overlap import (
    ZoneMoments,
    overlaps,
    overlaps_round,
    zones,
)
from rhodolite.kernels.sphere import great_circle, widths, zone_areas
from rhodolite.kernels.spherical_cells import areas_of_cells, outlines_in_plane
from rhodolite.model.space.axis_cells import covers_globe
from rhodolite.model.space.extent import NARROW_GAP, find_ends, increasing
from rhodolite.regions.outlined_area import Outline
from rhodolite.regions.polygon_overlap import common, cut, moved_by, polygons

if TYPE_CHECKING:
    from scipy import sparse

_TURN = 2 * np.pi
_FINE = 0.2
"""Degrees; outlines get points so close before they are bent into the plane that keeps areas."""
_CELLS_AT_ONCE = 50_000
EARTH_RADIUS = 6371007.2
"""Metres; of the sphere that has the area of the Earth (WGS 84)."""


@dataclass(frozen=True, eq=False)
class Mesh:
    """Cells in rows and columns.

    Attributes
    ----------
    dimensions : tuple of str
        Of rows and columns.
    latitudes, longitudes : ndarray of float64
        Of the centres, in degrees: along the rows and along the columns, or shape (rows, columns).
    latitude_edges, longitude_edges : ndarray of float64 or None
        Degrees, where cells are rectangles; shapes (rows + 1,) and (columns + 1,).
    corners : tuple of ndarray or None
        Latitudes and longitudes of corners otherwise, shape (rows, columns, 4).
    straight : bool
        Whether edges between corners run along parallels and meridians, and not along great
        circles.
    slack : float
        Degrees by which an edge may miss another and still be meant to lie on it.
    """

    dimensions: tuple[str, str]
    latitudes: Array
    longitudes: Array
    latitude_edges: Array | None = None
    longitude_edges: Array | None = None
    corners: tuple[Array, Array] | None = None
    straight: bool = False
    slack: float = 1e-9

    def without_slivers(self, areas: sparse.csr_array) -> sparse.csr_array:
        """Return shared areas, shape (n, size), without those that rounding alone made of edges
        that coincide."""
        whole = self.areas.reshape(-1)
        widths = [
            float(np.abs(np.diff(e)).max())
            for e in (self.latitude_edges, self.longitude_edges)
            if e is not None
        ]
        least = max(1e-9, 2 * self.slack / min(widths)) if widths else 1e-9
        areas.data[areas.data < least * whole[areas.indices]] = 0.0
        areas.eliminate_zeros()
        return areas

    @property
    def regular(self) -> bool:
        """Whether cells are rectangles between latitudes and longitudes."""
        return self.corners is None

    @property
    def shape(self) -> tuple[int, int]:
        if self.regular:
            return self.latitudes.size, self.longitudes.size
        return self.latitudes.shape[0], self.latitudes.shape[1]

    @property
    def size(self) -> int:
        return self.shape[0] * self.shape[1]

    @property
    def goes_round(self) -> bool:
        """Whether the last column lies next to the first."""
        return self.regular and covers_globe(self.longitudes)

    @cached_property
    def centres(self) -> tuple[Array, Array]:
        """Latitudes and longitudes of all centres, each of shape (rows, columns)."""
        if not self.regular:
            return self.latitudes, self.longitudes
        return tuple(np.meshgrid(self.latitudes, self.longitudes, indexing="ij"))  # type: ignore[return-value]

    @cached_property
    def areas(self) -> Array:
        """Areas of the cells on the unit sphere, shape (rows, columns)."""
        if self.latitude_edges is not None and self.longitude_edges is not None:
            return np.outer(
                zone_areas(self.latitude_edges), widths(self.longitude_edges)
            )
        assert self.corners is not None
        north, east = (part.reshape(self.size, -1) for part in self.corners)
        return areas_of_cells(north, east, straight=self.straight).reshape(self.shape)

    @cached_property
    def radii(self) -> Array:
        """How far a cell of any form reaches from its centre, in degrees of arc, shape (size,)."""
        assert self.corners is not None
        north, east = (part.reshape(self.size, -1) for part in self.corners)
        centres = [part.reshape(self.size, 1) for part in self.centres]
        return np.asarray(np.nanmax(great_circle(north, east, *centres), axis=1))

    @cached_property
    def reach(self) -> tuple[float, float]:
        """The minimum and the maximum latitude that cells reach, in degrees."""
        if self.latitude_edges is not None:
            return float(self.latitude_edges.min()), float(self.latitude_edges.max())
        import shapely

        low, high = np.clip(shapely.total_bounds(self.outlines)[[1, 3]], -1.0, 1.0)
        return float(np.degrees(np.arcsin(low))), float(np.degrees(np.arcsin(high)))

    @property
    def span(self) -> tuple[float, float]:
        """The western and the eastern end of the cells, in degrees east; 360 degrees apart where
        they go round."""
        if self.longitude_edges is not None:
            return float(self.longitude_edges.min()), float(self.longitude_edges.max())
        assert self.corners is not None
        west, east = increasing(*find_ends(self.corners[1] % 360.0))
        holds_pole = self.reach[0] < -90 + 1e-6 or self.reach[1] > 90 - 1e-6
        # Where no gap is wider than a few cells, they lie all around, as about a pole.
        if holds_pole or east - west > 360.0 - NARROW_GAP:
            return 0.0, 360.0
        turn = 360.0 if west > 180.0 else 0.0
        return west - turn, east - turn

    @cached_property
    def outlines(self) -> Array:
        """A polygon for each cell in the plane that keeps areas, in the order of storage."""
        return np.concatenate([polygons(*part) for part in self._rings()])

    def _rings(self) -> Iterator[tuple[Array, Array, int]]:
        """Yield closed outlines in the plane that keeps areas, of some cells after another, so that
        few are held.

        For each part: points, the cell of each counted within the part, and the number of cells.
        """
        if self.corners is not None:
            corners = tuple(part.reshape(self.size, -1) for part in self.corners)
        else:
            assert self.latitude_edges is not None
            assert self.longitude_edges is not None
            north = np.stack(
                [self.latitude_edges[at] for at in (_upto, _upto, _from, _from)], axis=1
            )
            east = np.stack(
                [self.longitude_edges[at] for at in (_upto, _from, _from, _upto)],
                axis=1,
            )
            corners = (
                np.repeat(north, self.shape[1], axis=0),
                np.tile(east, (self.shape[0], 1)),
            )
        for first in range(0, self.size, _CELLS_AT_ONCE):
            part = slice(first, min(first + _CELLS_AT_ONCE, self.size))
            outlines = outlines_in_plane(
                corners[0][part],
                corners[1][part],
                straight=self.straight or self.regular,
            )
            yield *outlines, part.stop - part.start

    def shared_areas(self, target: Mesh) -> sparse.csr_array:
        """Return the areas that cells of another grid have in common with these.

        Returns
        -------
        sparse array, shape (target.size, size)
            Areas on the unit sphere. The sum of a column is the area of the cell, where the target
            covers it.
        """
        from scipy import sparse

        if self.regular and target.regular:
            ours, theirs = self.edges, target.edges
            return sparse.csr_array(
                sparse.kron(
                    overlaps(ours[0], theirs[0], zones),
                    overlaps_round(ours[1], theirs[1], _TURN),
                    format="csr",
                )
            )
        if target.regular:
            cells, shapes, areas = target._cut_by(self.outlines, degrees=False)
        elif self.regular:
            shapes, cells, areas = self._cut_by(target.outlines, degrees=False)
        else:
            shapes, cells, areas = common(target.outlines, self.outlines, _TURN)
        return sparse.csr_array(
            (areas, (shapes, cells)), shape=(target.size, self.size)
        )

    def first_moments(self, target: Mesh) -> tuple[sparse.csr_array, sparse.csr_array]:
        """Return the shared areas times the distance of their middle from that of the cell, in
        radians.

        Only for rectangles. The first is for distances in latitude, the second for those in
        longitude; columns add up to zero where the target covers the cell.
        """
        from scipy import sparse

        ours, theirs = self.edges, target.edges
        centres = (ours[1][1:] + ours[1][:-1]) / 2
        areas = (
            overlaps(ours[0], theirs[0], zones),
            overlaps_round(ours[1], theirs[1], _TURN),
        )
        moments = (
            overlaps(ours[0], theirs[0], ZoneMoments(ours[0])),
            overlaps_round(ours[1], theirs[1], _TURN, centres),
        )
        return (
            sparse.csr_array(sparse.kron(moments[0], areas[1], format="csr")),
            sparse.csr_array(sparse.kron(areas[0], moments[1], format="csr")),
        )

    @property
    def edges(self) -> tuple[Array, Array]:
        """Edges of rows and columns in radians, where cells are rectangles."""
        assert self.latitude_edges is not None
        assert self.longitude_edges is not None
        return np.radians(self.latitude_edges), np.radians(self.longitude_edges)

    def in_bands(self, edges: Array) -> sparse.csr_array:
        """Return the areas of the cells in bands of latitude, shape (bands, size)."""
        from scipy import sparse

        low = self.longitude_edges.min() if self.longitude_edges is not None else -180.0
        middles = (edges[1:] + edges[:-1]) / 2
        bands = Mesh(
            ("band", "round"),
            middles,
            np.array([low + 180.0]),
            edges,
            np.array([low, low + 360.0]),
        )
        if self.regular:
            return self.without_slivers(self.shared_areas(bands))
        # Cells lie in few bands each, so these are cut along the edges of bands.
        parts, rows, _, areas = cut(
            self.outlines,
            np.array([-4 * np.pi, 4 * np.pi]),
            np.sin(np.radians(edges)),
            degrees=False,
        )
        return self.without_slivers(
            sparse.csr_array((areas, (rows, parts)), shape=(len(middles), self.size))
        )

    def covered_areas(self, outlines: Sequence[Outline]) -> sparse.csr_array:
        """Return the area of each cell that lies in each outlined area, shape (len(outlines),
        size)."""
        from scipy import sparse

        shapes = np.concatenate([outline.shapes for outline in outlines])
        owners = np.repeat(
            np.arange(len(outlines)), [outline.shapes.size for outline in outlines]
        )
        which, cells, areas = (
            self._cut_by(shapes, degrees=True) if self.regular else self._met_by(shapes)
        )
        matrix = sparse.csr_array(
            (areas, (owners[which], cells)), shape=(len(outlines), self.size)
        )
        whole = self.areas.reshape(-1)
        matrix.data = np.minimum(matrix.data, whole[matrix.indices])
        if not any(outline.outside for outline in outlines):
            return matrix
        rows = []
        for at, outline in enumerate(outlines):
            row = matrix[[at]]
            if outline.outside:
                left = whole - row.toarray()[0]
                row = sparse.csr_array(
                    np.where(left < 1e-9 * whole, 0.0, left)[None, :]
                )
            rows.append(row)
        return sparse.csr_array(sparse.vstack(rows, format="csr"))

    def _cut_by(self, shapes: Array, *, degrees: bool) -> tuple[Array, Array, Array]:
        """Return shape, cell and area of the overlaps of rectangles with shapes in degrees, or in
        the plane."""
        import shapely

        assert self.latitude_edges is not None
        assert self.longitude_edges is not None
        x, y = (
            edges if edges[-1] > edges[0] else edges[::-1]
            for edges in (self.longitude_edges, self.latitude_edges)
        )
        flipped = x is not self.longitude_edges, y is not self.latitude_edges
        turn = 360.0
        if not degrees:
            x, y, turn = np.radians(x), np.sin(np.radians(y)), _TURN
        bounds = shapely.bounds(shapes)
        pieces = []
        for times in range(-3, 4):
            near = np.flatnonzero(
                (bounds[:, 0] + times * turn < x[-1])
                & (bounds[:, 2] + times * turn > x[0])
            )
            which, rows, columns, areas = cut(
                moved_by(shapes[near], times * turn), x, y, degrees=degrees
            )
            columns = self.shape[1] - 1 - columns if flipped[0] else columns
            rows = self.shape[0] - 1 - rows if flipped[1] else rows
            pieces.append((near[which], rows * self.shape[1] + columns, areas))
        return tuple(np.concatenate([piece[i] for piece in pieces]) for i in range(3))  # type: ignore[return-value]

    def _met_by(self, shapes: Array) -> tuple[Array, Array, Array]:
        """Return shape, cell and area of the overlaps of cells of any form with shapes in
        degrees."""
        import shapely

        bent = shapely.make_valid(
            shapely.transform(shapely.segmentize(shapes, _FINE), _in_plane)
        )
        pieces, owners = _small(bent)
        which, cells, areas = common(pieces, self.outlines, _TURN)
        return owners[which], cells, areas


_upto, _from = slice(None, -1), slice(1, None)


def _in_plane(points: Array) -> Array:
    return np.stack(
        [np.radians(points[:, 0]), np.sin(np.radians(points[:, 1]))], axis=1
    )


def _small(shapes: Array) -> tuple[Array, Array]:
    """Cut large shapes into pieces of a few degrees, so that each meets few cells; return these and
    whose they are."""
    import shapely

    low, high = shapely.total_bounds(shapes)[::2]
    x = np.arange(low, high + 0.1, 0.1)
    y = np.linspace(-1, 1, 41)
    columns, rows = np.meshgrid(np.arange(x.size - 1), np.arange(40))
    boxes = shapely.box(x[columns], y[rows], x[columns + 1], y[rows + 1]).reshape(-1)
    ours, theirs = shapely.STRtree(boxes).query(shapes)
    pieces = shapely.intersection(shapes[ours], boxes[theirs])
    parts, which = shapely.get_parts(pieces, return_index=True)
    areal = shapely.area(parts) > 0  # cuts along an edge leave lines and points, too
    return parts[areal], ours[which[areal]]
