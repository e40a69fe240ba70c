"""Where and when a value lies, in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from rhodolite.arrays import Array
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import labels_along, text_along
from rhodolite.model.space.range_text import format_latitude, format_longitude
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import base_years, time_labels
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable


@dataclass(frozen=True)
class _Cells:
    """Positions that run along other axes than latitude and longitude: of curvilinear grids, of
    cells in a list, of sites without names."""

    axes: tuple[int, ...]
    latitudes: Array
    longitudes: Array

    def at(self, place: tuple[int, ...]) -> list[str]:
        """Return latitude and longitude of a place among all axes."""
        cell = tuple(place[axis] for axis in self.axes)
        east = shortest_turn(float(self.longitudes[cell]))
        return [format_latitude(float(self.latitudes[cell])), format_longitude(east)]


@dataclass(frozen=True)
class Places:
    """What the places along the axes of a variable are called.

    Attributes
    ----------
    names : tuple of sequence of str
        For each axis; empty for one that tells nothing.
    cells : optional
        What has its position otherwise.
    """

    names: tuple[Sequence[str], ...]
    cells: _Cells | None = None

    @classmethod
    def of(cls, dataset: Dataset, variable: Variable) -> Places:
        """Return the names of the places of a variable."""
        roles = roles_of(dataset, variable)
        cells = _cells_of(dataset, variable)
        names = [
            ()
            if cells is not None and axis in cells.axes
            else _named(dataset, name, role)
            for axis, (name, role) in enumerate(
                zip(variable.dimensions, roles, strict=True)
            )
        ]
        return cls(tuple(names), cells)

    def at(self, place: tuple[int, ...]) -> str:
        """Return what a place is called, by its index along each axis."""
        words = [
            names[at] for names, at in zip(self.names, place, strict=True) if names
        ]
        return ", ".join([*words, *(self.cells.at(place) if self.cells else [])])

    def without(self, axis: int) -> Places:
        """Return the places along the other axes."""
        names = (*self.names[:axis], *self.names[axis + 1 :])
        if self.cells is None:
            return replace(self, names=names)
        if axis in self.cells.axes:
            return Places(names)
        axes = tuple(at - (at > axis) for at in self.cells.axes)
        return Places(names, replace(self.cells, axes=axes))


def roles_of(dataset: Dataset, variable: Variable) -> list[Role | None]:
    """Return what each axis of a variable is; of a curvilinear grid rows count as latitudes."""
    by_dimension = {str(c.dimension): role for role, c in dataset.axes.by_role.items()}
    for name in dataset.axes.curvilinear or ():
        latitude, longitude = dataset.variables[name].dimensions[-2:]
        by_dimension |= {latitude: Role.LATITUDE, longitude: Role.LONGITUDE}
    return [by_dimension.get(dimension) for dimension in variable.dimensions]


def _cells_of(dataset: Dataset, variable: Variable) -> _Cells | None:
    positions = dataset.axes.curvilinear or dataset.axes.sites
    if not positions:
        return None
    latitudes, longitudes = (dataset.variables[name] for name in positions)
    along = latitudes.dimensions
    if not set(along) <= set(variable.dimensions) or longitudes.dimensions != along:
        return None
    if len(along) == 1 and text_along(dataset, along[0]) is not None:
        return None
    axes = tuple(variable.dimensions.index(name) for name in along)
    return _Cells(axes, latitudes.values(), longitudes.values())


def _named(dataset: Dataset, dimension: str, role: Role | None) -> list[str]:
    """Return what the places along a dimension are called; nothing where there is one."""
    if dataset.lengths[dimension] < 2:
        return []
    if role is Role.TIME and dataset.time is not None:
        return _times(dataset.time)
    if role is None or role is Role.TIME:
        return labels_along(dataset, dimension)
    coordinate = dataset.need(role)
    values = [float(value) for value in coordinate.values]
    if role is Role.LATITUDE:
        return [format_latitude(value) for value in values]
    if role is Role.LONGITUDE:
        return [format_longitude(shortest_turn(value)) for value in values]
    units = pretty(coordinate.variable.units)
    return [f"{value:g} {units}".strip() for value in values]


def _times(axis: TimeAxis) -> list[str]:
    """Return what the steps are called, phases of normals with their years."""
    years = base_years(axis)
    labels = time_labels(axis)
    if not years:
        return labels
    return [label if label == years else f"{label}, {years}" for label in labels]
