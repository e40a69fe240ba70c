"""Functions of people's own over a variable, block by block along the dimensions that they need."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import (
    Array,
    FirstAxisMoved,
    LazyArray,
    Reduction,
    Region,
    SeriesKernel,
)
from rhodolite.errors import UsageError
from rhodolite.model.variable import Storage, Variable

OwnFunction = Callable[[Array], Any]


def run_own_function(
    variable: Variable,
    function: OwnFunction,
    along: tuple[str, ...],
    *,
    units: str | None = None,
    drop: bool = False,
) -> Variable:
    """Return what a function makes of a variable, lazily.

    Parameters
    ----------
    variable : Variable
    function : callable
        From an array of float64 to one of the same shape, or without the axes of `along`.
    along : tuple of str
        Dimensions of which it needs all values.
    units : str, optional
        Of the result; those of the variable by default.
    drop : bool
        Whether it leaves the dimensions in `along` out.

    Raises
    ------
    UsageError
        If there is no such dimension.
    """
    _need_dimensions(variable, along, drop=drop)
    axes = tuple(sorted(variable.dimensions.index(name) for name in along))
    checked = _Checked(function, axes if drop else ())
    data: LazyArray
    if len(axes) == 1:
        data = _along_one(variable, checked, axes[0], drop=drop)
    else:
        data = _OfBlocks(variable.floats(), checked, axes, drop=drop)
    dropped = along if drop else ()
    dimensions = tuple(name for name in variable.dimensions if name not in dropped)
    if units is not None:
        # What the values mean is the function's own matter; what they lie on stays.
        gone = ("standard_name", "cell_methods", "units_metadata")
        variable = variable.edit(*gone, units=units)
    return variable.replace(
        dimensions=dimensions, data=data, missing=None, storage=Storage()
    )


def _need_dimensions(variable: Variable, along: tuple[str, ...], *, drop: bool) -> None:
    for name in along:
        if name not in variable.dimensions:
            raise UsageError(
                f"along: {variable.name} has no dimension '{name}'; it has "
                f"{', '.join(variable.dimensions)}"
            )
    if drop and not along:
        raise UsageError("drop: along which dimensions? Name them with along")


@dataclass(frozen=True)
class _Checked:
    """A function whose result has the shape that it should have."""

    function: OwnFunction
    dropped: tuple[int, ...]

    def __call__(self, block: Array) -> Array:
        expected = tuple(
            n for at, n in enumerate(block.shape) if at not in self.dropped
        )
        result = np.asarray(self.function(block.astype(np.float64)), dtype=np.float64)
        if result.shape != expected:
            name = getattr(self.function, "__name__", "the function")
            raise UsageError(
                f"{name} returned an array of shape {result.shape} for a block of shape "
                f"{block.shape}, and {expected} was expected; say which dimensions it needs with "
                "along, and with drop=True that it leaves them out"
            )
        return result


def _along_one(
    variable: Variable, function: _Checked, axis: int, *, drop: bool
) -> LazyArray:
    """Return the result of a function of whole series, which are put together once."""
    length = variable.shape[axis]
    work = _OfSeries(function, axis, length, drop)
    cells = variable.shape[:axis] + variable.shape[axis + 1 :]
    shape = cells if drop else (length, *cells)
    result = Reduction(variable.floats(), series=work).output("value", shape)
    return result if drop else FirstAxisMoved(result, axis)


@dataclass
class _OfSeries(SeriesKernel):
    function: _Checked
    axis: int
    length: int
    drop: bool

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": (() if self.drop else (self.length,), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        # Blocks come with the axis first; people's functions know it in its place.
        result = self.function(np.moveaxis(block, 0, self.axis))
        return {
            "value": result if self.drop else np.moveaxis(result, self.axis, 0)
        }, Counter()


class _OfBlocks(LazyArray):
    """What a function makes of blocks that hold all values along some axes."""

    dtype = np.dtype("f8")

    def __init__(
        self,
        source: LazyArray,
        function: _Checked,
        axes: tuple[int, ...],
        *,
        drop: bool,
    ) -> None:
        self._source, self._function, self._axes, self._drop = (
            source,
            function,
            axes,
            drop,
        )
        pieces = source.chunks or (1,) * source.ndim
        whole = [n if at in axes else pieces[at] for at, n in enumerate(source.shape)]
        remaining = [at for at in range(source.ndim) if not (drop and at in axes)]
        self.shape = tuple(source.shape[at] for at in remaining)
        self.chunks = tuple(whole[at] for at in remaining)

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        left_out = [self._source.shape[at] for at in self._axes if self._drop]
        return self._source.decoded_share * math.prod(left_out)

    def read(self, region: Region) -> Array:
        given = iter(region)
        wanted: list[slice] = []
        cut: list[slice] = []
        for at, length in enumerate(self._source.shape):
            if at not in self._axes:
                wanted.append(next(given))
                cut.append(slice(None))
            else:
                wanted.append(slice(0, length))
                cut += [] if self._drop else [next(given)]
        values = self._function(self._source.read(tuple(wanted)))
        return values[tuple(cut)]
