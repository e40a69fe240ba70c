"""Which place of one dataset is which of another, where latitude and longitude are no axes: cells
of grids whose positions have two dimensions, sites, and whatever has names or numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.great_circles import unit_vectors
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import text_along
from rhodolite.model.space.alike_positions import (
    NEAR,
    Indices,
    Positions,
    lie_alike,
    numbers_along,
    read_numbers,
)
from rhodolite.model.space.precision import slack
from rhodolite.model.space.turned_grids import grid_dimensions, place_grid

_SAME_NAME = 0.5
"""Degrees of arc between sites of one name: farther apart they are not the same."""


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
    orders: dict[str, Indices] = {}
    known = _axes_of(dataset) | _axes_of(other)
    grid = grid_dimensions(dataset)
    if grid and grid_dimensions(other) and same.keys() >= set(grid):
        placement = place_grid(dataset, other)
        if placement is None:
            return None
        orders |= placement.orders
        known |= set(grid)
    for name, theirs in same.items():
        if name in known or theirs in known:
            continue
        order = order_places(dataset, name, other, theirs)
        if order is None:
            return None
        if (np.diff(order) != 1).any():
            orders[theirs] = order
    return orders


def _axes_of(dataset: Dataset) -> set[str | None]:
    """Return the dimensions of latitude, longitude, level and time."""
    axes = [dataset.coordinate(role) for role in Role]
    return {axis.dimension for axis in axes if axis is not None}


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
        names = _texts(other, theirs) if theirs in other.lengths else None
        for ours in dataset.lengths.keys() - other.lengths.keys():
            if names and sorted(names) == sorted(_texts(dataset, ours) or []):
                pairs[ours] = theirs
    return pairs


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
    names = _texts(dataset, name), _texts(other, their_name)
    if _are_sites(dataset, name) and _are_sites(other, their_name):
        return _order_sites(dataset, other, *names)
    if names[0] is not None and names[1] is not None:
        return order_names(names[0], names[1])
    first, second = numbers_along(dataset, name), numbers_along(other, their_name)
    if first is None or second is None or first.units != second.units:
        return np.arange(other.lengths[their_name])
    return _order_numbers(read_numbers(first), read_numbers(second))


def _texts(dataset: Dataset, name: str) -> list[str] | None:
    """Return the names of places along a dimension; None where there are none."""
    text = text_along(dataset, name)
    return None if text is None else [str(value) for value in text.values()]


def _order_sites(
    dataset: Dataset, other: Dataset, here: list[str] | None, there: list[str] | None
) -> Indices | None:
    """Return sites in the order of others: as they are, by names, or else by positions."""
    if lie_alike(dataset.positions, other.positions, NEAR):
        return np.arange(other.positions[0].size)
    order = None if here is None or there is None else order_names(here, there)
    if order is None or here is None:
        return _order_positions(dataset.positions, other.positions)
    _need_same_sites(dataset, other, order, here)
    return order


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


def _order_positions(here: Positions, there: Positions) -> Indices | None:
    from scipy.spatial import cKDTree

    if not all(np.isfinite(part).all() for part in (*here, *there)):
        return None
    _, order = cKDTree(unit_vectors(*there)).query(unit_vectors(*here))
    nearest = (there[0][order], there[1][order])
    is_each_once = np.unique(order).size == order.size
    return order if is_each_once and lie_alike(here, nearest, NEAR) else None


def _order_numbers(here: Array, there: Array) -> Indices | None:
    near = slack(np.concatenate([here, there]), np.dtype("f4"))
    order = np.argsort(there, kind="stable")[
        np.argsort(np.argsort(here, kind="stable"))
    ]
    return order if np.allclose(here, there[order], rtol=0, atol=near) else None


def _need_same_sites(
    dataset: Dataset, other: Dataset, order: Indices, names: list[str]
) -> None:
    here, there = dataset.positions, other.positions
    apart = great_circle(*here, there[0][order], there[1][order])
    far = np.flatnonzero(apart > _SAME_NAME)
    if far.size:
        raise DataError(
            f"{names[far[0]]} of {dataset.label} and {names[far[0]]} of {other.label} lie "
            f"{apart[far[0]]:.3g} degrees apart, so they are not the same site; give sites that "
            "differ other names"
        )


def _are_sites(dataset: Dataset, name: str) -> bool:
    sites = dataset.axes.sites
    return sites is not None and dataset.variables[sites[0]].dimensions == (name,)
