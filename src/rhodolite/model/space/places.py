"""Which place of one dataset is which of another, where latitude and longitude are no axes: cells
of grids whose positions have two dimensions, sites, and whatever has names or numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, read_small
from rhodolite.errors import DataError
from rhodolite.kernels.great_circles import unit_vectors
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import text_along
from rhodolite.model.space.precision import SAME_CELL, slack
from rhodolite.model.variable import Variable

Indices = NDArray[np.intp]
_NEAR = 0.01
"""Degrees of arc by which a place may be written otherwise in another file; 1 km."""
_SAME_NAME = 0.5
"""Degrees of arc between sites of one name: farther apart they are not the same."""


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


def order_all_places(
    dataset: Dataset, other: Dataset, same: Mapping[str, str]
) -> dict[str, Indices] | None:
    """Return the places of another dataset in the order of one, along dimensions that are no axes
    of latitude, longitude, level or time.

    Parameters
    ----------
    dataset, other : Dataset
    same : mapping of str to str
        What dimensions of the first are called in the other.

    Returns
    -------
    dict of str to ndarray of int, or None
        By dimensions of the other, where the order is another; None where they are other places.

    Raises
    ------
    DataError
        If sites of one name lie far apart.
    """
    known = [d.coordinate(role) for d in (dataset, other) for role in Role]
    axes = {coordinate.dimension for coordinate in known if coordinate is not None}
    orders: dict[str, Indices] = {}
    if all(_grid_dimensions(d) for d in (dataset, other)):
        rows_and_columns = set(_grid_dimensions(dataset))
        if rows_and_columns <= same.keys():
            placement = place_grid(dataset, other)
            if placement is None:
                return None
            orders |= placement.orders
            axes |= rows_and_columns
    for name, theirs in same.items():
        if name in axes or theirs in axes:
            continue
        order = order_places(dataset, name, other, theirs)
        if order is None:
            return None
        if (np.diff(order) != 1).any():
            orders[theirs] = order
    return orders


def pair_named(
    dataset: Dataset, other: Dataset, dimensions: Sequence[str]
) -> dict[str, str]:
    """Return what dimensions of one dataset are called in another, where their places have the same
    names: `station` of a file is `site` of a table.

    Parameters
    ----------
    dataset, other : Dataset
    dimensions : sequence of str
        Of the other, that the first has not.
    """
    pairs: dict[str, str] = {}
    for theirs in dimensions:
        names = _names_along(other, theirs)
        for ours in dataset.lengths.keys() - other.lengths.keys():
            if names and names == _names_along(dataset, ours):
                pairs[ours] = theirs
    return pairs


def _names_along(dataset: Dataset, dimension: str) -> list[str]:
    """Return the names of places along a dimension, sorted; none where there is no text."""
    text = text_along(dataset, dimension) if dimension in dataset.lengths else None
    return [] if text is None else sorted(str(value) for value in text.values())


def place_grid(dataset: Dataset, other: Dataset) -> Placement | None:
    """Return where the cells of a grid of two-dimensional positions are found in another, whose
    rows and columns may be exchanged or run the other way; None where they lie elsewhere.

    Parameters
    ----------
    dataset, other : Dataset
        Both with such a grid.
    """
    names = [_grid_dimensions(d) for d in (dataset, other)]
    as_they_are = Placement({name: name for name in names[0]})
    if names[0] == names[1] and _have_same_projection(dataset, other, names[0]):
        return as_they_are
    here, there = dataset.positions, other.read_positions()
    if names[0] == names[1] and _are_equal(here, there):
        return as_they_are
    near = min(_NEAR, SAME_CELL * _spacing(*here))
    for exchanged, down, left in product((False, True), repeat=3):
        axes = names[1][::-1] if exchanged else names[1]
        turned = [part.T if exchanged else part for part in there]
        turned = [part[:: -1 if down else 1, :: -1 if left else 1] for part in turned]
        if _lie_alike(here, (turned[0], turned[1]), near):
            orders = {
                name: np.arange(other.lengths[name])[::-1]
                for name, runs_back in zip(axes, (down, left), strict=True)
                if runs_back
            }
            return Placement(dict(zip(names[0], axes, strict=True)), orders)
    return None


def _have_same_projection(
    dataset: Dataset, other: Dataset, dimensions: tuple[str, ...]
) -> bool:
    """Return whether rows and columns have the same coordinates of the same projection, from which
    all positions follow, so that these need not be read."""
    mappings = [
        [v for v in d.variables.values() if "grid_mapping_name" in v.attributes]
        for d in (dataset, other)
    ]
    if [len(each) for each in mappings] != [1, 1]:
        return False
    (first,), (second,) = mappings
    if repr(sorted(first.attributes.items())) != repr(
        sorted(second.attributes.items())
    ):
        return False
    for name in dimensions:
        ours, theirs = _numbers(dataset, name), _numbers(other, name)
        if ours is None or theirs is None or ours.units != theirs.units:
            return False
        if not np.array_equal(_read(ours), _read(theirs)):
            return False
    return True


def order_places(
    dataset: Dataset, name: str, other: Dataset, their_name: str
) -> Indices | None:
    """Return the places along a dimension of another dataset in the order of one: by their names,
    their positions, or their numbers; as they are where nothing tells.

    Parameters
    ----------
    dataset, other : Dataset
    name, their_name : str
        The dimension, as each calls it.

    Returns
    -------
    ndarray of int, or None
        None where they are other places.

    Raises
    ------
    DataError
        If sites of one name lie far apart.
    """
    if dataset.lengths[name] != other.lengths[their_name]:
        return None
    as_they_are = np.arange(other.lengths[their_name])
    are_sites = _are_sites(dataset, name) and _are_sites(other, their_name)
    if are_sites and _lie_alike(dataset.positions, other.read_positions(), _NEAR):
        return as_they_are
    texts = [text_along(dataset, name), text_along(other, their_name)]
    if texts[0] is not None and texts[1] is not None:
        here, there = (
            [str(value) for value in text.values()] for text in texts if text
        )
        order = order_names(here, there)
        if order is not None and are_sites:
            _need_same_sites(dataset, other, order, here)
        if order is not None or not are_sites:
            return order
    if are_sites:
        return _order_positions(dataset.positions, other.read_positions())
    first, second = _numbers(dataset, name), _numbers(other, their_name)
    if first is None or second is None or first.units != second.units:
        return as_they_are
    return _order_numbers(*(_read(variable) for variable in (first, second)))


def order_names(here: list[str], there: list[str]) -> Indices | None:
    """Return where names stand among others; None where these are not the same.

    Examples
    --------
    >>> order_names(["a", "b", "c"], ["c", "a", "b"]).tolist()
    [1, 2, 0]
    """
    if sorted(here) != sorted(there) or len(set(here)) < len(here):
        return None if here != there else np.arange(len(here))
    at = {name: place for place, name in enumerate(there)}
    return np.array([at[name] for name in here], dtype=np.intp)


def _order_positions(
    here: tuple[Array, Array], there: tuple[Array, Array]
) -> Indices | None:
    from scipy.spatial import cKDTree

    if not all(np.isfinite(part).all() for part in (*here, *there)):
        return None
    _, order = cKDTree(unit_vectors(*there)).query(unit_vectors(*here))
    nearest = (there[0][order], there[1][order])
    is_each_once = np.unique(order).size == order.size
    return order if is_each_once and _lie_alike(here, nearest, _NEAR) else None


def _order_numbers(here: Array, there: Array) -> Indices | None:
    near = slack(np.concatenate([here, there]), np.dtype("f4"))
    order = np.argsort(there, kind="stable")[
        np.argsort(np.argsort(here, kind="stable"))
    ]
    return order if np.allclose(here, there[order], rtol=0, atol=near) else None


def _numbers(dataset: Dataset, name: str) -> Variable | None:
    """Return the coordinate of numbers along a dimension; None where there is none."""
    variable = dataset.variables.get(name)
    if variable is None or variable.dimensions != (name,) or not variable.numeric:
        return None
    return variable


def _need_same_sites(
    dataset: Dataset, other: Dataset, order: Indices, names: list[str]
) -> None:
    here, there = dataset.positions, other.read_positions()
    apart = great_circle(*here, there[0][order], there[1][order])
    far = np.flatnonzero(apart > _SAME_NAME)
    if far.size:
        raise DataError(
            f"{names[far[0]]} of {dataset.label} and {names[far[0]]} of {other.label} lie "
            f"{apart[far[0]]:.3g} degrees apart, so they are not the same site; give sites that "
            "differ other names"
        )


def _are_equal(here: tuple[Array, Array], there: tuple[Array, Array]) -> bool:
    pairs = zip(here, there, strict=True)
    return all(np.array_equal(a, b, equal_nan=True) for a, b in pairs)


def _lie_alike(
    here: tuple[Array, Array], there: tuple[Array, Array], near: float
) -> bool:
    """Return whether places lie at others, as far as their positions are known."""
    if here[0].shape != there[0].shape:
        return False
    if _are_equal(here, there):
        return True
    apart = great_circle(*here, *there)
    ours, theirs = (np.isnan(part[0]) | np.isnan(part[1]) for part in (here, there))
    return np.array_equal(ours, theirs) and bool((apart[~ours] <= near).all())


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


def _grid_dimensions(dataset: Dataset) -> tuple[str, ...]:
    """Return the dimensions of a grid of two-dimensional positions; none where there is no such."""
    names = dataset.axes.curvilinear
    return () if names is None else dataset.variables[names[0]].dimensions


def _are_sites(dataset: Dataset, name: str) -> bool:
    sites = dataset.axes.sites
    return sites is not None and dataset.variables[sites[0]].dimensions == (name,)


def _read(variable: Variable) -> Array:
    return np.asarray(read_small(variable.floats()), dtype=np.float64)
