"""Weights from the cells of one grid to those of another, and arrays that they are applied to."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.kernels.gradients import slopes
from rhodolite.kernels.interpolation import bilinear_in_quads, linear_weights, nearest
from rhodolite.model.mesh import Mesh

if TYPE_CHECKING:
    from scipy import sparse

_TURN = 2 * np.pi
_PIECE = 16 << 20
"""Bytes of float64 of the source that are worked on at once."""
_KEPT = 8
"""So many parts of the weights are kept for blocks to come."""


@dataclass(frozen=True, eq=False)
class Weights:
    """What each cell of a grid takes from the cells of another.

    Attributes
    ----------
    matrix : sparse array, shape (target, source)
        Each row adds up to the part of the target's cell that the source covers, at most 1.
    correction : sparse array or None
        What the slopes within cells add, where no value that it needs is missing. Its rows add up to zero.
    """

    matrix: sparse.csr_array
    correction: sparse.csr_array | None = None


def conservative(source: Mesh, target: Mesh, order: int) -> Weights:
    """Return weights by shared area, so that integrals over the area stay what they are.

    Notes
    -----
    Of second order with slopes of the field in latitude and longitude within each cell of the source, about its
    mean latitude and longitude, after Jones 1999, Monthly Weather Review 127, 2204-2210, equations 7 to 9.
    """
    from scipy import sparse

    areas = source.shared_areas(target)
    whole = target.areas.reshape(-1)
    scale = sparse.dia_array((np.divide(1.0, whole, out=np.zeros(whole.size), where=whole > 0)[None, :], [0]),
                             shape=(whole.size, whole.size))  # fmt: skip
    matrix = sparse.csr_array(scale @ areas)
    if order == 1:
        return Weights(matrix)
    north, east = (np.radians(part) for part in (source.latitudes, source.longitudes))
    along = (sparse.kron(slopes(north), sparse.eye_array(east.size)),
             sparse.kron(sparse.eye_array(north.size), slopes(east, _TURN if source.goes_round else None)))  # fmt: skip
    moments = source.first_moments(target)
    correction = sparse.csr_array(scale @ (moments[0] @ along[0] + moments[1] @ along[1]))
    correction.eliminate_zeros()
    return Weights(matrix, correction)


def bilinear(source: Mesh, target: Mesh) -> Weights:
    """Return weights of the four centres around each of the target's centres.

    Beyond the outermost centres the value is that of the nearest cell, as far as that reaches; across a pole
    values are interpolated along the meridian.
    """
    if not source.regular:
        return _bilinear_in_quads(source, target)
    assert source.latitude_edges is not None
    assert source.longitude_edges is not None
    period = 360.0 if source.goes_round else None
    if target.regular:
        return Weights(_over_rectangles(source, target.latitudes, target.longitudes, period))
    north, east = (part.reshape(-1) for part in target.centres)
    rows = linear_weights(source.latitudes, source.latitude_edges, north)
    columns = linear_weights(source.longitudes, source.longitude_edges, _near(east, source), period)
    return Weights(_products(rows, columns, source.shape))


def _over_rectangles(source: Mesh, north: Array, east: Array, period: float | None) -> sparse.csr_array:
    from scipy import sparse

    assert source.latitude_edges is not None
    assert source.longitude_edges is not None
    rows = linear_weights(source.latitudes, source.latitude_edges, north)
    columns = linear_weights(source.longitudes, source.longitude_edges, _near(east, source), period)
    made = sparse.kron(rows, columns, format="csr")
    if period is None:
        return sparse.csr_array(made)
    opposite = linear_weights(source.longitudes, source.longitude_edges, _near(east + 180.0, source), period)
    for edge, at in zip(source.latitude_edges[[0, -1]], (0, -1), strict=True):
        centre = source.latitudes[at]
        beyond = np.flatnonzero((np.sign(edge) * (north - centre) > 0) & (abs(edge) > 90 - 1e-6))
        if not beyond.size or abs(centre) >= 90:
            continue
        # From this row over the pole to the same row on the other side.
        part = (np.abs(north[beyond]) - abs(centre)) / (2 * (90.0 - abs(centre)))
        row = at % source.latitudes.size
        replaced = np.zeros(north.size)
        replaced[beyond] = 1.0
        other_side = sparse.csr_array((part, (beyond, np.full(beyond.size, row))),
                                      shape=(north.size, source.latitudes.size))  # fmt: skip
        this_side = sparse.csr_array((1 - part, (beyond, np.full(beyond.size, row))), shape=other_side.shape)
        keep = sparse.dia_array(((1 - replaced)[None, :], [0]), shape=(north.size, north.size))
        made = sparse.kron(keep, sparse.eye_array(east.size)) @ made
        made = made + sparse.kron(this_side, columns) + sparse.kron(other_side, opposite)
    made = sparse.csr_array(made)
    made.eliminate_zeros()
    return made


def _products(rows: sparse.csr_array, columns: sparse.csr_array, shape: tuple[int, int]) -> sparse.csr_array:
    """Return for each place the products of its weights along rows and along columns."""
    from scipy import sparse

    made = sparse.csr_array((rows.shape[0], shape[0] * shape[1]))
    for row, share in _pairs(rows):
        for column, part in _pairs(columns):
            values = share * part
            there = np.flatnonzero(values > 0)
            made = made + sparse.csr_array((values[there], (there, row[there] * shape[1] + column[there])),
                                           shape=made.shape)  # fmt: skip
    return sparse.csr_array(made)


def _pairs(matrix: sparse.csr_array) -> list[tuple[Array, Array]]:
    """Return the entries of rows that have two at most, as (columns, weights) of the first and of the second."""
    found = []
    counts = np.diff(matrix.indptr)
    for at in range(2):
        there = counts > at
        places = np.zeros(matrix.shape[0], dtype=np.intp)
        weights = np.zeros(matrix.shape[0])
        places[there] = matrix.indices[matrix.indptr[:-1][there] + at]
        weights[there] = matrix.data[matrix.indptr[:-1][there] + at]
        found.append((places, weights))
    return found


def _near(longitudes: Array, source: Mesh) -> Array:
    """Return longitudes turned to where the source's lie."""
    assert source.longitude_edges is not None
    low, high = source.longitude_edges.min(), source.longitude_edges.max()
    turned = low + np.mod(longitudes - low, 360.0)
    # A place on the eastern edge itself would be turned to the western one.
    return np.asarray(np.where((turned > high) & (turned - 360.0 >= low - 1e-6), turned - 360.0, turned))


def _bilinear_in_quads(source: Mesh, target: Mesh) -> Weights:
    from scipy import sparse

    north, east = (part.reshape(-1) for part in target.centres)
    latitudes, longitudes = (part.reshape(-1) for part in source.centres)
    cells, _ = nearest(latitudes, longitudes, north, east)
    matrix = bilinear_in_quads(*source.centres, north, east, cells[:, 0])
    alone = np.diff(matrix.indptr) == 0
    rim = sparse.dia_array((alone.astype(float)[None, :], [0]), shape=(alone.size, alone.size))
    return Weights(sparse.csr_array(matrix + rim @ nearest_cells(source, target).matrix))


def nearest_cells(source: Mesh, target: Mesh) -> Weights:
    """Return weights that take the value of the cell with the nearest centre, as far as the cells reach."""
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
        inside = apart <= source.radii[cells]
    rows = np.flatnonzero(inside & np.isfinite(north))
    made = sparse.csr_array((np.ones(rows.size), (rows, cells[rows])), shape=(north.size, source.size))
    return Weights(made)


class Remapped(LazyArray):
    """Another array on other cells.

    Parameters
    ----------
    source : LazyArray
    axes : tuple of int
        Where the rows and the columns of the cells lie, in the source and in the result.
    shape : tuple of int
        Rows and columns of the new grid.
    weights : Weights
    coverage : float
        Share of the weight of a cell that has to be there; at 0 any value will do.
    """

    def __init__(self, source: LazyArray, axes: tuple[int, int], shape: tuple[int, int], weights: Weights,
                 coverage: float) -> None:  # fmt: skip
        self._source, self._axes, self._weights, self._coverage = source, axes, weights, coverage
        self._inner = tuple(source.shape[axis] for axis in axes)
        self._outer = shape
        new = dict(zip(axes, shape, strict=True))
        self.shape = tuple(new.get(axis, n) for axis, n in enumerate(source.shape))
        self.dtype = source.dtype
        chunks = source.chunks or (1,) * source.ndim
        self.chunks = tuple(new.get(axis, n) for axis, n in enumerate(chunks))
        self._prepared: dict[tuple[int, ...], _Part] = {}
        self._lock = threading.Lock()

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_prepared": {}, "_lock": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._lock = threading.Lock()

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        share = self._inner[0] * self._inner[1] / max(self._outer[0] * self._outer[1], 1)
        return self._source.decoded_share * max(share, 1.0)

    def read(self, region: Region) -> Array:
        part = self._part(region[self._axes[0]], region[self._axes[1]])
        inner = list(region)
        inner[self._axes[0]], inner[self._axes[1]] = part.rows, part.columns
        shape = tuple(region[axis].stop - region[axis].start for axis in self._axes)
        made, along = [], 0
        for piece, along in self._pieces(inner):  # noqa: B007
            block = np.moveaxis(self._source.read(tuple(piece)), self._axes, (-2, -1))
            values = part.apply(block.reshape(-1, block.shape[-2] * block.shape[-1]), self._coverage, self.dtype)
            made.append(np.moveaxis(values.reshape(*block.shape[:-2], *shape), (-2, -1), self._axes))
        return made[0] if len(made) == 1 else np.concatenate(made, axis=along)

    def _pieces(self, region: list[slice]) -> Iterator[tuple[list[slice], int]]:
        """Yield parts of a block of the source that take little memory, and the axis along which they follow."""
        first = next((axis for axis in range(len(region)) if axis not in self._axes), None)
        if first is None:
            yield region, 0
            return
        sizes = [part.stop - part.start for part in region]
        step = max(1, _PIECE * sizes[first] // max(8 * int(np.prod(sizes)), 1))
        for start in range(region[first].start, region[first].stop, step):
            part = slice(start, min(start + step, region[first].stop))
            yield [*region[:first], part, *region[first + 1 :]], first

    def _part(self, rows: slice, columns: slice) -> _Part:
        key = (rows.start, rows.stop, columns.start, columns.stop)
        with self._lock:
            if key not in self._prepared:
                if len(self._prepared) > _KEPT:
                    self._prepared.clear()
                self._prepared[key] = _Part.of(self._weights, self._outer, self._inner, rows, columns)
            return self._prepared[key]


class _Part:
    """The weights of a block of the new grid, for the rows and columns of the old one that it takes from."""

    def __init__(self, rows: slice, columns: slice, matrix: sparse.csr_array,
                 correction: sparse.csr_array | None) -> None:  # fmt: skip
        from scipy import sparse

        self.rows, self.columns = rows, columns
        self._full = np.asarray(matrix.sum(axis=1)).reshape(-1)
        self._matrix = matrix
        self._normal = _scaled(matrix, self._full)
        self._correction = None if correction is None else _scaled(correction, self._full)
        self._touched = None
        if correction is not None:
            ones = np.ones(correction.nnz)
            self._touched = sparse.csr_array((ones, correction.indices, correction.indptr), correction.shape)

    @classmethod
    def of(cls, weights: Weights, outer: tuple[int, int], inner: tuple[int, ...], rows: slice, columns: slice) -> _Part:
        from scipy import sparse

        wanted = np.ravel_multi_index(np.ix_(np.arange(rows.start, rows.stop), np.arange(columns.start, columns.stop)),
                                      outer).reshape(-1)  # fmt: skip
        whole = wanted.size == outer[0] * outer[1]
        matrix = weights.matrix if whole else weights.matrix[wanted]
        correction = weights.correction if whole or weights.correction is None else weights.correction[wanted]
        used = np.unique(np.concatenate([m.indices for m in (matrix, correction) if m is not None]))
        if not used.size:
            return cls(slice(0, 1), slice(0, 1), sparse.csr_array((wanted.size, 1)), None)
        j, i = np.divmod(used, inner[1])
        source_rows, source_columns = slice(int(j.min()), int(j.max()) + 1), slice(int(i.min()), int(i.max()) + 1)
        if source_rows.stop - source_rows.start < inner[0] or source_columns.stop - source_columns.start < inner[1]:
            inside = [np.arange(part.start, part.stop) for part in (source_rows, source_columns)]
            cells = np.ravel_multi_index(np.ix_(*inside), inner).reshape(-1)
            matrix = matrix[:, cells]
            correction = None if correction is None else correction[:, cells]
        return cls(source_rows, source_columns, matrix, correction)

    def apply(self, block: Array, coverage: float, dtype: Any) -> Array:
        """Return the values of the new cells, shape (k, cells), for those of the old, shape (k, cells)."""
        made = np.empty((len(block), self._matrix.shape[0]), dtype)
        needed = max(coverage - 1e-9, 1e-12)
        last: Array | None = None
        there = np.ones(0)
        lost = np.zeros(0, dtype=bool)
        for at, values in enumerate(block):
            missing = np.isnan(values)
            if not missing.any():
                found = self._normal @ values.astype(np.float64)
                if self._correction is not None:
                    found += self._correction @ values.astype(np.float64)
                found[self._full < needed] = np.nan
                made[at] = found
                continue
            if last is None or not np.array_equal(missing, last):  # many fields have the same gaps at all times
                last = missing
                there = self._matrix @ (~missing).astype(np.float64)
                lost = there < needed
                if self._touched is not None:
                    whole = self._touched @ missing.astype(np.float64) == 0
            filled = np.where(missing, 0.0, values)
            found = np.divide(self._matrix @ filled, there, out=np.full(there.shape, np.nan), where=~lost)
            if self._correction is not None:
                found += np.where(whole, self._correction @ filled, 0.0)
            made[at] = found
        return made


def _scaled(matrix: sparse.csr_array, full: Array) -> sparse.csr_array:
    """Return a matrix with its rows divided by numbers; rows of none stay empty."""
    factors = np.divide(1.0, full, out=np.zeros(full.shape), where=full > 0)
    made = matrix.copy()
    made.data = matrix.data * np.repeat(factors, np.diff(matrix.indptr))
    return made
