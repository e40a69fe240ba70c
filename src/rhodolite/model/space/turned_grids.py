"""Where the cells of a grid whose positions have two dimensions are found in another, which may
list them otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import product

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.alike_positions import (
    NEAR,
    Indices,
    Positions,
    are_equal,
    lie_alike,
    numbers_along,
    read_numbers,
)
from rhodolite.model.space.precision import SAME_CELL
from rhodolite.model.variable import Variable


@dataclass(frozen=True)
class Placement:
    """Where the places of one dataset are found in another.

    Attributes
    ----------
    dimensions : mapping of str to str
        What dimensions of the first are called in the other.
    orders : mapping of str to ndarray of int
        The places along dimensions of the other in the order of the first, where it is another.
    """

    dimensions: Mapping[str, str] = field(default_factory=dict)
    orders: Mapping[str, Indices] = field(default_factory=dict)


@dataclass(frozen=True)
class _Turn:
    """One of the eight ways to list the cells of a grid."""

    exchanged: bool
    down: bool
    left: bool

    def of(self, positions: Positions) -> Positions:
        north, east = (part.T if self.exchanged else part for part in positions)
        rows, columns = (
            slice(None, None, -1 if s else 1) for s in (self.down, self.left)
        )
        return north[rows, columns], east[rows, columns]

    def placement(self, dimensions: tuple[str, ...], other: Dataset) -> Placement:
        """Return the placement of a grid along some dimensions in one that is turned so."""
        axes = grid_dimensions(other)[:: -1 if self.exchanged else 1]
        back = zip(axes, (self.down, self.left), strict=True)
        orders = {
            name: np.arange(other.lengths[name])[::-1] for name, runs in back if runs
        }
        return Placement(dict(zip(dimensions, axes, strict=True)), orders)


_TURNS = [_Turn(*ways) for ways in product((False, True), repeat=3)]


def place_grid(dataset: Dataset, other: Dataset) -> Placement | None:
    """Return where the cells of a grid of two-dimensional positions are found in another, whose
    rows and columns may be exchanged or run the other way; None where they lie elsewhere.

    Parameters
    ----------
    dataset, other : Dataset
        Both with such a grid.
    """
    names = grid_dimensions(dataset)
    if names == grid_dimensions(other) and _are_listed_alike(dataset, other):
        return _TURNS[0].placement(names, other)
    here, there = dataset.positions, other.positions
    near = min(NEAR, SAME_CELL * _spacing(*here))
    for turn in _TURNS:
        if lie_alike(here, turn.of(there), near):
            return turn.placement(names, other)
    return None


def grid_dimensions(dataset: Dataset) -> tuple[str, ...]:
    """Return the dimensions of a grid of two-dimensional positions; none where there is no such."""
    names = dataset.axes.curvilinear
    return () if names is None else dataset.variables[names[0]].dimensions


def _are_listed_alike(dataset: Dataset, other: Dataset) -> bool:
    """Return whether cells are the same in their order, which most are."""
    # Positions follow from a projection, and need not be read then.
    same = _have_same_projection(dataset, other)
    return same or are_equal(dataset.positions, other.positions)


def _have_same_projection(dataset: Dataset, other: Dataset) -> bool:
    """Return whether rows and columns have the same coordinates of the same projection."""
    first, second = _only_mapping(dataset), _only_mapping(other)
    if first is None or second is None:
        return False
    tables = [repr(sorted(each.attributes.items())) for each in (first, second)]
    names = grid_dimensions(dataset)
    return tables[0] == tables[1] and all(
        _have_same_numbers(dataset, other, name) for name in names
    )


def _only_mapping(dataset: Dataset) -> Variable | None:
    """Return the grid mapping of a dataset; None where it has none, or several."""
    mappings = [
        v for v in dataset.variables.values() if "grid_mapping_name" in v.attributes
    ]
    return mappings[0] if len(mappings) == 1 else None


def _have_same_numbers(dataset: Dataset, other: Dataset, name: str) -> bool:
    ours, theirs = numbers_along(dataset, name), numbers_along(other, name)
    if ours is None or theirs is None or ours.units != theirs.units:
        return False
    return np.array_equal(read_numbers(ours), read_numbers(theirs))


def _spacing(latitudes: Array, longitudes: Array) -> float:
    """Return the usual distance of neighbours, in degrees of arc."""
    apart = [
        great_circle(
            *(p[1:] for p in (north, east)), *(p[:-1] for p in (north, east))
        ).ravel()
        for north, east in ((latitudes, longitudes), (latitudes.T, longitudes.T))
    ]
    distances = np.concatenate(apart)
    known = distances[np.isfinite(distances) & (distances > 0)]
    return float(np.median(known)) if known.size else np.inf
