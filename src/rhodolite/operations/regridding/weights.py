"""Weights from the cells of one grid to those of another."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.kernels.interpolation import bilinear_in_quads, linear_weights, nearest
from rhodolite.kernels.slope_matrix import slopes
from rhodolite.kernels.sphere import great_circle
from rhodolite.kernels.triangles import linear_in_triangles
from rhodolite.model.cf.vocabulary import COVERED_AREA
from rhodolite.model.space.cell_lists import ROW
from rhodolite.model.space.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.variable import Variable
from rhodolite.operations.regridding.remapped_array import Weights

if TYPE_CHECKING:
    from scipy import sparse

_TURN = 2 * np.pi
_BESIDE = 1.6
"""Times the usual distance of neighbours within which columns lie beside each other."""
_OF_CORNERS = 1e-4
"""Share of a cell by which its corners, rounded, may miss where they are."""
_ROUNDING = 1e-11
"""Part of the moment of a cell about its edge that rounding can leave of none."""


def conservative(source: Mesh, target: Mesh, order: int) -> Weights:
    """Return weights by shared area, so that integrals over the area stay what they are.

    Parameters
    ----------
    source : Mesh
        Cells of the old grid.
    target : Mesh
        Cells of the new grid.
    order : int
        1 or 2.

    Notes
    -----
    Of second order with slopes of the field in latitude and longitude within each cell of the
    source, about its mean latitude and longitude, after Jones 1999, Monthly Weather Review 127,
    2204-2210, equations 7 to 9.
    """
    from scipy import sparse

    areas = source.shared_areas(target)
    whole = target.areas.reshape(-1)
    scale = sparse.dia_array(
        (
            np.divide(1.0, whole, out=np.zeros(whole.size), where=whole > 0)[None, :],
            [0],
        ),
        shape=(whole.size, whole.size),
    )
    matrix = sparse.csr_array(scale @ areas)
    if order == 1:
        return Weights(matrix)
    north, east = (np.radians(part) for part in (source.latitudes, source.longitudes))
    along = (
        sparse.kron(slopes(north), sparse.eye_array(east.size)),
        sparse.kron(
            sparse.eye_array(north.size),
            slopes(east, _TURN if source.goes_round else None),
        ),
    )
    moments = [_without_rounding(part, source) for part in source.first_moments(target)]
    correction = sparse.csr_array(
        scale @ (moments[0] @ along[0] + moments[1] @ along[1])
    )
    correction.eliminate_zeros()
    return Weights(matrix, correction)


def _without_rounding(moments: sparse.csr_array, source: Mesh) -> sparse.csr_array:
    """Return moments without those of whole cells, of which rounding leaves some 1e-17: they would
    make neighbours needed that add nothing."""
    assert source.latitude_edges is not None
    assert source.longitude_edges is not None
    widths = [
        np.abs(np.diff(np.radians(e))).max()
        for e in (source.latitude_edges, source.longitude_edges)
    ]
    scale = source.areas.reshape(-1) * max(widths)
    moments.data[np.abs(moments.data) < _ROUNDING * scale[moments.indices]] = 0.0
    moments.eliminate_zeros()
    return moments


def carry_coverage(
    weights: Weights, share: Array, target: Mesh, method: str
) -> tuple[Weights, Variable]:
    """Return weights with which each old cell counts by its covered share, and the covered area of
    the new cells.

    The mean over the new cells by their covered areas is then that over the old ones, where weights
    are those of shared areas.

    Parameters
    ----------
    share : ndarray of float64, shape (source.size,)
        Part of each old cell that counts, from 0 to 1.
    """
    from scipy import sparse

    whole = target.areas.reshape(-1)
    area = (weights.matrix @ share) * whole
    if method == "conservative":
        matrix = sparse.csr_array(
            weights.matrix
            @ sparse.dia_array((share[None, :], [0]), shape=(share.size,) * 2)
        )
        full = np.asarray(matrix.sum(axis=1)).reshape(-1)
        matrix.data = matrix.data / np.repeat(
            np.where(full > 0, full, 1.0), np.diff(matrix.indptr)
        )
        matrix.eliminate_zeros()
        weights = Weights(matrix)
    data = InMemory((area * EARTH_RADIUS**2).reshape(target.shape))
    return weights, Variable(COVERED_AREA, target.dimensions, data)


def bilinear(source: Mesh, target: Mesh) -> Weights:
    """Return weights of the four centres around each of the target's centres.

    Beyond the outermost centres the value is that of the nearest cell, as far as that reaches;
    across a pole values are interpolated along the meridian. Of cells in a list it is the three
    centres around, whose triangles know no poles.
    """
    if ROW in source.dimensions:
        return _linear_in_triangles(source, target)
    if not source.regular:
        return _bilinear_in_quads(source, target)
    assert source.latitude_edges is not None
    assert source.longitude_edges is not None
    period = 360.0 if source.goes_round else None
    if target.regular:
        return Weights(
            _over_rectangles(source, target.latitudes, target.longitudes, period)
        )
    north, east = (part.reshape(-1) for part in target.centres)
    rows = linear_weights(source.latitudes, source.latitude_edges, north)
    columns = linear_weights(
        source.longitudes, source.longitude_edges, _near(east, source), period
    )
    return Weights(_products(rows, columns, source.shape))


def _over_rectangles(
    source: Mesh, north: Array, east: Array, period: float | None
) -> sparse.csr_array:
    from scipy import sparse

    assert source.latitude_edges is not None
    assert source.longitude_edges is not None
    rows = linear_weights(source.latitudes, source.latitude_edges, north)
    columns = linear_weights(
        source.longitudes, source.longitude_edges, _near(east, source), period
    )
    matrix = sparse.kron(rows, columns, format="csr")
    if period is None:
        return sparse.csr_array(matrix)
    opposite = linear_weights(
        source.longitudes, source.longitude_edges, _near(east + 180.0, source), period
    )
    for edge, at in zip(source.latitude_edges[[0, -1]], (0, -1), strict=True):
        centre = source.latitudes[at]
        beyond = np.flatnonzero(
            (np.sign(edge) * (north - centre) > 0) & (abs(edge) > 90 - 1e-6)
        )
        if not beyond.size or abs(centre) >= 90:
            continue
        # From this row over the pole to the same row on the other side.
        part = (np.abs(north[beyond]) - abs(centre)) / (2 * (90.0 - abs(centre)))
        row = at % source.latitudes.size
        replaced = np.zeros(north.size)
        replaced[beyond] = 1.0
        other_side = sparse.csr_array(
            (part, (beyond, np.full(beyond.size, row))),
            shape=(north.size, source.latitudes.size),
        )
        this_side = sparse.csr_array(
            (1 - part, (beyond, np.full(beyond.size, row))), shape=other_side.shape
        )
        keep = sparse.dia_array(
            ((1 - replaced)[None, :], [0]), shape=(north.size, north.size)
        )
        matrix = sparse.kron(keep, sparse.eye_array(east.size)) @ matrix
        matrix = (
            matrix + sparse.kron(this_side, columns) + sparse.kron(other_side, opposite)
        )
    matrix = sparse.csr_array(matrix)
    matrix.eliminate_zeros()
    return matrix


def _products(
    rows: sparse.csr_array, columns: sparse.csr_array, shape: tuple[int, int]
) -> sparse.csr_array:
    """Return for each place the products of its weights along rows and along columns."""
    from scipy import sparse

    total = sparse.csr_array((rows.shape[0], shape[0] * shape[1]))
    for row, share in _pairs(rows):
        for column, part in _pairs(columns):
            values = share * part
            there = np.flatnonzero(values > 0)
            total = total + sparse.csr_array(
                (values[there], (there, row[there] * shape[1] + column[there])),
                shape=total.shape,
            )
    return sparse.csr_array(total)


def _pairs(matrix: sparse.csr_array) -> list[tuple[Array, Array]]:
    """Return the entries of rows that have two at most, as (columns, weights) of the first and of
    the second."""
    pairs = []
    counts = np.diff(matrix.indptr)
    for at in range(2):
        there = counts > at
        places = np.zeros(matrix.shape[0], dtype=np.intp)
        weights = np.zeros(matrix.shape[0])
        places[there] = matrix.indices[matrix.indptr[:-1][there] + at]
        weights[there] = matrix.data[matrix.indptr[:-1][there] + at]
        pairs.append((places, weights))
    return pairs


def _near(longitudes: Array, source: Mesh) -> Array:
    """Return longitudes turned to where the source's lie."""
    assert source.longitude_edges is not None
    low, high = source.longitude_edges.min(), source.longitude_edges.max()
    turned = low + np.mod(longitudes - low, 360.0)
    # A place on the eastern edge itself would be turned to the western one.
    return np.asarray(
        np.where(
            (turned > high) & (turned - 360.0 >= low - 1e-6), turned - 360.0, turned
        )
    )


def _bilinear_in_quads(source: Mesh, target: Mesh) -> Weights:
    north, east = (part.reshape(-1) for part in target.centres)
    latitudes, longitudes = (part.reshape(-1) for part in source.centres)
    cells, _ = nearest(latitudes, longitudes, north, east)
    closed = _columns_close(*source.centres)
    matrix = bilinear_in_quads(*source.centres, north, east, cells[:, 0], closed=closed)
    return Weights(_with_rim(matrix, nearest_cells(source, target).matrix))


def _columns_close(latitudes: Array, longitudes: Array) -> bool:
    """Return whether the last column of a two-dimensional grid lies beside the first, in half of
    the rows or more; one that repeats the first needs no neighbour."""
    if latitudes.shape[1] < 3:
        return False
    following = np.roll(latitudes, -1, axis=1), np.roll(longitudes, -1, axis=1)
    apart = great_circle(latitudes, longitudes, *following)
    apart = apart[np.isfinite(apart).all(axis=1)]  # some grids leave cells on land out
    across, usual = apart[:, -1], np.median(apart[:, :-1], axis=1)
    beside = (across > 0) & (across < _BESIDE * usual)
    return beside.size > 0 and float(beside.mean()) >= 0.5


def _linear_in_triangles(source: Mesh, target: Mesh) -> Weights:
    """Return weights between the centres of cells in a list, as far as the cells reach."""
    from scipy import sparse

    latitudes, longitudes = (part.reshape(-1) for part in source.centres)
    north, east = (part.reshape(-1) for part in target.centres)
    closest = nearest_cells(source, target).matrix
    # Places in a hole between the cells lie within triangles, too.
    reached = np.flatnonzero(np.diff(closest.indptr))
    try:
        within = linear_in_triangles(
            latitudes, longitudes, north[reached], east[reached]
        )
    except ValueError as error:
        raise DataError(
            f"bilinear: {error} between the centres of the cells; take --method nearest"
        ) from None
    put_back = sparse.csr_array(
        (np.ones(reached.size), (reached, np.arange(reached.size))),
        shape=(north.size, reached.size),
    )
    return Weights(_with_rim(sparse.csr_array(put_back @ within), closest))


def _with_rim(matrix: sparse.csr_array, closest: sparse.csr_array) -> sparse.csr_array:
    """Return weights with those of the nearest cell where there are none."""
    from scipy import sparse

    alone = np.diff(matrix.indptr) == 0
    rim = sparse.dia_array(
        (alone.astype(float)[None, :], [0]), shape=(alone.size, alone.size)
    )
    return sparse.csr_array(matrix + rim @ closest)


def nearest_cells(source: Mesh, target: Mesh) -> Weights:
    """Return weights that take the value of the cell with the nearest centre, as far as the cells
    reach.
    """
    from scipy import sparse

    north, east = (part.reshape(-1) for part in target.centres)
    latitudes, longitudes = (part.reshape(-1) for part in source.centres)
    cells, apart = nearest(latitudes, longitudes, north, east)
    cells, apart = cells[:, 0], apart[:, 0]
    if source.regular:
        assert source.latitude_edges is not None
        assert source.longitude_edges is not None
        low, high = source.latitude_edges.min(), source.latitude_edges.max()
        inside = (north >= low - 1e-9) & (north <= high + 1e-9)
        if not source.goes_round:
            inside &= _near(east, source) <= source.longitude_edges.max() + 1e-9
    else:
        # A place at the very corner of cells is not lost by rounding.
        inside = apart <= source.radii[cells] * (1 + _OF_CORNERS)
    rows = np.flatnonzero(inside & np.isfinite(north))
    matrix = sparse.csr_array(
        (np.ones(rows.size), (rows, cells[rows])), shape=(north.size, source.size)
    )
    return Weights(matrix)
