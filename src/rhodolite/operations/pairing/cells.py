"""Whether two datasets can be calculated with cell by cell."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Aligned, Array, Selected
from rhodolite.errors import DataError, nearest_names
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension
from rhodolite.model.space.cell_lists import is_cell_list
from rhodolite.model.space.level_direction import counted_as
from rhodolite.model.space.places import order_all_places, pair_named
from rhodolite.model.space.precision import SAME_CELL
from rhodolite.model.space.turned_grids import place_grid
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable
from rhodolite.operations.pairing.members import with_members_of
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.variables.other_units import in_units

_HORIZONTAL = (Role.LATITUDE, Role.LONGITUDE)
_ROUNDED = 1e-3
"""Of the length of an axis, by which its places may have been rounded."""


def counterpart(variable: Variable, other: Dataset) -> Variable:
    """Return the variable of another dataset that goes with one: of its name, or the only one of
    its standard name.

    Raises
    ------
    DataError
        If there is none.
    """
    if variable.name in other.variables:
        return other.variables[variable.name]
    standard_name = variable.attributes.get("standard_name")
    same = [
        v
        for v in other.fields
        if standard_name and v.attributes.get("standard_name") == standard_name
    ]
    if len(same) != 1:
        names = [v.name for v in other.fields]
        raise DataError(
            f"{other.label} has no variable '{variable.name}'. "
            f"{nearest_names(variable.name, names)}"
        )
    return same[0]


def partner_of(variable: Variable, other: Dataset, named: OtherDataset) -> Variable:
    """Return the variable of another dataset that goes with one, of whatever quantity: the one that
    is named, the only one, or that of the same name.

    Raises
    ------
    DataError
        If it could be any of several.
    """
    if named.variable is not None:
        return other[named.variable]
    quantities = [v for v in other.fields if v.numeric]
    if len(quantities) == 1:
        return quantities[0]
    if variable.name in other.variables:
        return other.variables[variable.name]
    names = [v.name for v in quantities]
    raise DataError(
        f"{other.label} holds several variables; write --with {named}:NAME. "
        f"{nearest_names(variable.name, names)}"
    )


def in_line(
    dataset: Dataset,
    variable: Variable,
    other: Dataset,
    its: Variable,
    without: Role,
    *,
    units: bool = True,
) -> Variable:
    """Return a variable of another dataset in the units of one, with its axes in the same order and
    its rows, columns and levels in the order of the same.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    other : Dataset
    its : Variable
        The variable of the other dataset.
    without : Role
        Role of an axis along which they may differ.
    units : bool
        Whether both are of one quantity, so that units have to be the same.

    Raises
    ------
    DataError
        If their cells differ along another axis; says where, and what makes them alike.
    """
    if units and its.units and variable.units and its.units != variable.units:
        its = in_units(other, its, variable.units)
    its = with_members_of(dataset, variable, other, its)
    same = dimensions_in(dataset, other, its)
    its = _with_axes_of(dataset, variable, its, same)
    ours = _dimensions(dataset, variable, without)
    theirs = _dimensions(other, its, without)
    _need_same_sizes(dataset, variable, other, its, (ours, theirs))
    for role in (*_HORIZONTAL, Role.LEVEL):
        first, second = dataset.coordinate(role), other.coordinate(role)
        if first is None or second is None or first.dimension not in ours:
            continue
        order = _matching_order(role, first, second)
        if order is None or second.dimension not in its.dimensions:
            raise _other_cells(variable, dataset, other, first, second)
        its = in_order(its, str(second.dimension), order)
    return _with_places_of(dataset, variable, other, its, same)


def in_order(its: Variable, dimension: str, order: NDArray[np.intp]) -> Variable:
    """Return a variable whose places along a dimension stand in another order.

    Parameters
    ----------
    its : Variable
    dimension : str
    order : ndarray of int
        The places in the new order.
    """
    # What is in order already is read as it lies.
    if (np.diff(order) == 1).all():
        return its
    picks = [order if name == dimension else None for name in its.dimensions]
    return its.replace(data=Selected(its.data, picks))


def _with_places_of(
    dataset: Dataset,
    variable: Variable,
    other: Dataset,
    its: Variable,
    same: Mapping[str, str],
) -> Variable:
    """Return the other variable with its cells of two-dimensional positions, its sites, and what
    has names or numbers in the order of the first.

    Raises
    ------
    DataError
        If they are other places.
    """
    _refuse_other_kind(dataset, variable, other, its)
    # Members have been put in order by their names already.
    members = find_member_dimension(dataset)
    shared = {
        name: theirs
        for name, theirs in same.items()
        if name in variable.dimensions and theirs in its.dimensions
        if name in dataset.lengths and theirs in other.lengths and name != members
    }
    orders = order_all_places(dataset, other, shared)
    if orders is None:
        raise DataError(
            f"{variable.name} lies at other places in {dataset.label} than in {other.label}; bring "
            "both to the same ones first, with regrid --like FILE, extract or subset"
        )
    for theirs, order in orders.items():
        its = in_order(its, theirs, order)
    return its


def _refuse_other_kind(
    dataset: Dataset, variable: Variable, other: Dataset, its: Variable
) -> None:
    """Refuse what lies along axes in one dataset and at listed positions in the other."""
    kinds = [_kind(d, v) for d, v in ((dataset, variable), (other, its))]
    if "" not in kinds and kinds[0] != kinds[1]:
        raise DataError(
            f"{variable.name} lies {kinds[0]} in {dataset.label} and {kinds[1]} in {other.label}; "
            "bring both to the same places first, with regrid --like FILE or extract"
        )


def _kind(dataset: Dataset, variable: Variable) -> str:
    """Say how a variable lies on the globe; nothing where it does not."""
    along = set(variable.dimensions)
    for names, words in (
        (dataset.axes.curvilinear, "on a grid of two-dimensional positions"),
        (dataset.axes.sites, "at sites or on cells in a list"),
    ):
        if names and set(dataset.variables[names[0]].dimensions) <= along:
            return words
    axes = [dataset.coordinate(role) for role in _HORIZONTAL]
    is_grid = all(axis is not None and axis.dimension in along for axis in axes)
    return "along latitudes and longitudes" if is_grid else ""


def _other_cells(
    variable: Variable,
    dataset: Dataset,
    other: Dataset,
    first: Coordinate,
    second: Coordinate,
) -> DataError:
    remedy = "relevel" if first.role is Role.LEVEL else "regrid --like FILE"
    return DataError(
        f"{variable.name} lies on other {first.role}s in {dataset.label} than in {other.label} "
        f"({_ends(first.values)} and {_ends(second.values)}); bring both to the same grid "
        f"first, with {remedy}"
    )


def _need_same_sizes(
    dataset: Dataset,
    variable: Variable,
    other: Dataset,
    its: Variable,
    along: tuple[Sequence[str], Sequence[str]],
) -> None:
    """Refuse variables with other numbers of cells along the dimensions that are compared.

    Raises
    ------
    DataError
        With both numbers.
    """
    ours, theirs = (
        [v.shape[v.dimensions.index(d)] for d in dimensions]
        for v, dimensions in zip((variable, its), along, strict=True)
    )
    if ours == theirs:
        return
    places = "cells"
    remedy = "bring both to the same region and grid first, with subset and regrid --like FILE"
    if dataset.axes.sites and other.axes.sites and not is_cell_list(dataset):
        places, remedy = "sites", "take the same sites of both first, with subset"
    raise DataError(
        f"{variable.name} has {_times(ours)} {places} in {dataset.label} and {_times(theirs)} in "
        f"{other.label}; {remedy}"
    )


def _with_axes_of(
    dataset: Dataset, variable: Variable, its: Variable, same: Mapping[str, str]
) -> Variable:
    """Return the other variable with its axes in the order in which the first has the same."""
    known = {same.get(name) for name in variable.dimensions}
    left = iter([name for name in its.dimensions if name not in known])
    time = dataset.coordinate(Role.TIME)
    wanted = []
    for name in variable.dimensions:
        theirs = same.get(name)
        if theirs not in its.dimensions and (time is None or name != time.dimension):
            # What neither tells by a name or a place goes with what is left, in order.
            theirs = next(left, None)
        wanted += [theirs] if theirs in its.dimensions else []
    wanted += left
    if tuple(wanted) == its.dimensions:
        return its
    shape = tuple(its.shape[its.dimensions.index(name)] for name in wanted)
    turned = Aligned(its.data, its.dimensions, tuple(wanted), shape)
    return its.replace(data=turned, dimensions=tuple(wanted))


def dimensions_in(dataset: Dataset, other: Dataset, its: Variable) -> dict[str, str]:
    """Return what dimensions of a dataset are called in another: those that play the same role, or
    have the same name.

    Parameters
    ----------
    dataset, other : Dataset
    its : Variable
        Of the other, whose names count.
    """
    same = {name: name for name in its.dimensions}
    for role in Role:
        first, second = (_dimension_of(d, role) for d in (dataset, other))
        if first and second:
            same[first] = second
    if dataset.axes.curvilinear and other.axes.curvilinear:
        placement = place_grid(dataset, other)
        same |= {} if placement is None else placement.dimensions
    if dataset.axes.sites and other.axes.sites:
        ours = dataset.variables[dataset.axes.sites[0]].dimensions[0]
        same[ours] = other.variables[other.axes.sites[0]].dimensions[0]
    strangers = [name for name in its.dimensions if name not in dataset.lengths]
    return same | pair_named(dataset, other, strangers)


def _dimension_of(dataset: Dataset, role: Role) -> str | None:
    coordinate = dataset.coordinate(role)
    return None if coordinate is None else coordinate.dimension


def _matching_order(
    role: Role, first: Coordinate, second: Coordinate
) -> NDArray[np.intp] | None:
    """Return the cells of the second axis in the order of the first; None where they are others."""
    values = second.values
    units = [coordinate.variable.units or "1" for coordinate in (first, second)]
    if role is Role.LEVEL and units[0] != units[1] and convertible(units[1], units[0]):
        values = np.asarray(convert(values, units[1], units[0]), dtype=np.float64)
    if role is Role.LEVEL:
        values = counted_as(second, values, first)
    apart = np.diff(np.sort(first.values))
    # Coarse grids are no reason to take what lies degrees apart for the same.
    rounded = min(SAME_CELL * apart.min(initial=np.inf), _ROUNDED * apart.sum())
    near = max(first.slack, second.slack, rounded)
    if first.values.size != values.size:
        return None
    for order in (np.arange(values.size), np.arange(values.size)[::-1]):
        if _apart(role, first.values, values[order]).max(initial=0.0) <= near:
            return order
    if role is not Role.LONGITUDE:
        return None
    # Counted from another meridian: the same columns in a circle.
    start = int(np.argmin(_apart(role, values, first.values[:1])))
    order = (np.arange(values.size) + start) % values.size
    return order if _apart(role, first.values, values[order]).max() <= near else None


def _apart(role: Role, first: Array, second: Array) -> Array:
    apart = first - second
    if role is Role.LONGITUDE:
        apart = shortest_turn(apart)
    return np.asarray(np.abs(apart))


def _ends(values: Array) -> str:
    return f"{values[0]:g} to {values[-1]:g}" if values.size > 1 else f"{values[0]:g}"


def _dimensions(dataset: Dataset, variable: Variable, without: Role) -> list[str]:
    coordinate = dataset.coordinate(without)
    return [
        d
        for d in variable.dimensions
        if coordinate is None or d != coordinate.dimension
    ]


def _times(sizes: list[int]) -> str:
    return " x ".join(map(str, sizes)) or "single"
