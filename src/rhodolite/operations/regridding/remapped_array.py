"""Arrays on other cells than those of their source, by weights of its cells."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region

if TYPE_CHECKING:
    from scipy import sparse

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
        What the slopes within cells add, where no value that it needs is missing. Its rows add up
        to zero.
    """

    matrix: sparse.csr_array
    correction: sparse.csr_array | None = None


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

    def __init__(
        self,
        source: LazyArray,
        axes: tuple[int, int],
        shape: tuple[int, int],
        weights: Weights,
        coverage: float,
    ) -> None:
        self._source, self._axes, self._weights, self._coverage = (
            source,
            axes,
            weights,
            coverage,
        )
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
        share = (
            self._inner[0] * self._inner[1] / max(self._outer[0] * self._outer[1], 1)
        )
        return self._source.decoded_share * max(share, 1.0)

    def read(self, region: Region) -> Array:
        part = self._part(region[self._axes[0]], region[self._axes[1]])
        inner = list(region)
        inner[self._axes[0]], inner[self._axes[1]] = part.rows, part.columns
        shape = tuple(region[axis].stop - region[axis].start for axis in self._axes)
        pieces, along = [], 0
        for piece, along in self._pieces(inner):  # noqa: B007
            block = np.moveaxis(self._source.read(tuple(piece)), self._axes, (-2, -1))
            values = part.apply(
                block.reshape(-1, block.shape[-2] * block.shape[-1]),
                self._coverage,
                self.dtype,
            )
            pieces.append(
                np.moveaxis(
                    values.reshape(*block.shape[:-2], *shape), (-2, -1), self._axes
                )
            )
        return pieces[0] if len(pieces) == 1 else np.concatenate(pieces, axis=along)

    def _pieces(self, region: list[slice]) -> Iterator[tuple[list[slice], int]]:
        """Yield parts of a block of the source that take little memory, and the axis along which
        they follow."""
        first = next(
            (axis for axis in range(len(region)) if axis not in self._axes), None
        )
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
                self._prepared[key] = _Part.of(
                    self._weights, self._outer, self._inner, rows, columns
                )
            return self._prepared[key]


class _Part:
    """The weights of a block of the new grid, for the rows and columns of the old one that it takes
    from."""

    def __init__(
        self,
        rows: slice,
        columns: slice,
        matrix: sparse.csr_array,
        correction: sparse.csr_array | None,
    ) -> None:
        from scipy import sparse

        self.rows, self.columns = rows, columns
        self._full = np.asarray(matrix.sum(axis=1)).reshape(-1)
        self._matrix = matrix
        self._normal = _scaled(matrix, self._full)
        self._correction = (
            None if correction is None else _scaled(correction, self._full)
        )
        self._touched = None
        if correction is not None:
            ones = np.ones(correction.nnz)
            self._touched = sparse.csr_array(
                (ones, correction.indices, correction.indptr), correction.shape
            )

    @classmethod
    def of(
        cls,
        weights: Weights,
        outer: tuple[int, int],
        inner: tuple[int, ...],
        rows: slice,
        columns: slice,
    ) -> _Part:
        from scipy import sparse

        wanted = np.ravel_multi_index(
            np.ix_(
                np.arange(rows.start, rows.stop), np.arange(columns.start, columns.stop)
            ),
            outer,
        ).reshape(-1)
        whole = wanted.size == outer[0] * outer[1]
        matrix = weights.matrix if whole else weights.matrix[wanted]
        correction = (
            weights.correction
            if whole or weights.correction is None
            else weights.correction[wanted]
        )
        used = np.unique(
            np.concatenate([m.indices for m in (matrix, correction) if m is not None])
        )
        if not used.size:
            return cls(
                slice(0, 1), slice(0, 1), sparse.csr_array((wanted.size, 1)), None
            )
        j, i = np.divmod(used, inner[1])
        source_rows, source_columns = (
            slice(int(j.min()), int(j.max()) + 1),
            slice(int(i.min()), int(i.max()) + 1),
        )
        if (
            source_rows.stop - source_rows.start < inner[0]
            or source_columns.stop - source_columns.start < inner[1]
        ):
            inside = [
                np.arange(part.start, part.stop)
                for part in (source_rows, source_columns)
            ]
            cells = np.ravel_multi_index(np.ix_(*inside), inner).reshape(-1)
            matrix = matrix[:, cells]
            correction = None if correction is None else correction[:, cells]
        return cls(source_rows, source_columns, matrix, correction)

    def apply(self, block: Array, coverage: float, dtype: Any) -> Array:
        """Return the values of the new cells, shape (k, cells), for those of the old, shape (k,
        cells)."""
        result = np.empty((len(block), self._matrix.shape[0]), dtype)
        needed = max(coverage - 1e-9, 1e-12)
        last: Array | None = None
        there = np.ones(0)
        lost = np.zeros(0, dtype=bool)
        for at, values in enumerate(block):
            missing = np.isnan(values)
            if not missing.any():
                means = self._normal @ values.astype(np.float64)
                if self._correction is not None:
                    means += self._correction @ values.astype(np.float64)
                means[self._full < needed] = np.nan
                result[at] = means
                continue
            if last is None or not np.array_equal(
                missing, last
            ):  # many fields have the same gaps at all times
                last = missing
                there = self._matrix @ (~missing).astype(np.float64)
                lost = there < needed
                if self._touched is not None:
                    whole = self._touched @ missing.astype(np.float64) == 0
            filled = np.where(missing, 0.0, values)
            means = np.divide(
                self._matrix @ filled,
                there,
                out=np.full(there.shape, np.nan),
                where=~lost,
            )
            if self._correction is not None:
                means += np.where(whole, self._correction @ filled, 0.0)
            result[at] = means
        return result


def _scaled(matrix: sparse.csr_array, full: Array) -> sparse.csr_array:
    """Return a matrix with its rows divided by numbers; rows of none stay empty."""
    factors = np.divide(1.0, full, out=np.zeros(full.shape), where=full > 0)
    scaled = matrix.copy()
    scaled.data = matrix.data * np.repeat(factors, np.diff(matrix.indptr))
    return scaled
