"""Variables as layers of maps: a field at a time and a level, and fixed colours for all of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Selected, WithoutAxis
from rhodolite.drawing.parts.class_colours import Classes
from rhodolite.drawing.parts.colour_scale import scale_for
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.diverging import pivots
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension, member_dimension
from rhodolite.model.indexing import put_times_in_order
from rhodolite.model.labels import labels_along
from rhodolite.model.space.cell_lists import as_one_row
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.cell_areas import CellAreas, areas_of_cells
from rhodolite.operations.variables.other_units import in_units
from rhodolite.server.grid import Grid
from rhodolite.server.heights import nearest_level, texts_of_levels
from rhodolite.server.layer_colours import Colours, colours_of_classes, shades_of
from rhodolite.server.moments import nearest_step, steps_named, texts_of_moments
from rhodolite.server.recent import Recent
from rhodolite.server.served import Served

_SAMPLES = 5
"""Times that are looked at to choose the colours of a layer."""
Picks = tuple[tuple[str, int], ...]


_MOST_UNITS = 16


class Fields:
    """Fields that have been decoded, of which the latest are kept.

    Parameters
    ----------
    limit : int
        Bytes that are kept.
    """

    def __init__(self, limit: int) -> None:
        self._recent: Recent[Array] = Recent(limit, lambda field: field.nbytes)

    def get(self, layer: Layer, picks: Picks) -> Array:
        """Return a field of rows and columns."""
        variable = layer.variable
        version, name = layer.served.version, layer.served.name
        key = (version, name, variable.name, layer.member, variable.units, picks)
        return self._recent.get(key, lambda: layer.read(picks))


@dataclass(eq=False)
class Layer:
    """A variable on a horizontal grid.

    Parameters
    ----------
    served : Served
    variable : Variable
    grid : Grid
    members : tuple of str
        What the members of an ensemble are called; empty where there are none.
    whole : Variable, optional
        All members, of which `variable` is one.
    member : str
        Which one.
    """

    served: Served
    variable: Variable
    grid: Grid
    members: tuple[str, ...] = ()
    whole: Variable | None = None
    member: str = ""
    _scales: dict[Any, Colours] = field(default_factory=dict, repr=False)
    _converted: dict[str, Layer] = field(default_factory=dict, repr=False)
    _of_members: dict[str, Layer] = field(default_factory=dict, repr=False)

    def in_units(self, units: str) -> Layer:
        """Return the layer in other units.

        Parameters
        ----------
        units : str

        Raises
        ------
        DataError
            If its own cannot be converted to them.
        """
        if units == self.variable.units:
            return self
        if units not in self._converted:
            if len(self._converted) >= _MOST_UNITS:
                self._converted.clear()
            if not can_be_in(self.variable, units):
                raise DataError(
                    f"{self.variable.name} is in {self.variable.units or 'no units'}, which "
                    f"cannot be {units[:40]}"
                )
            variable = in_units(self.served.dataset, self.variable, units)
            self._converted[units] = self._showing(variable, self.member)
        return self._converted[units]

    def of_member(self, label: str) -> Layer:
        """Return the layer of another member of the ensemble.

        Parameters
        ----------
        label : str

        Raises
        ------
        DataError
            If there is none of that name.
        """
        if label == self.member:
            return self
        if label not in self.members or self.whole is None:
            there = ", ".join(self.members) or "none"
            raise DataError(f"there is no member '{label[:40]}'; there are {there}")
        if label not in self._of_members:
            at = self.members.index(label)
            variable = _one_member(self.served.dataset, self.whole, at)
            self._of_members[label] = self._showing(variable, label)
        return self._of_members[label]

    def _showing(self, variable: Variable, member: str) -> Layer:
        """Return the layer with other values, for which nothing is known yet."""
        known: dict[str, Any] = {"_scales": {}, "_converted": {}, "_of_members": {}}
        return replace(self, variable=variable, member=member, **known)

    @cached_property
    def classes(self) -> Classes | None:
        """The classes that values stand for; None where they are quantities."""
        return Classes.of(self.variable)

    @cached_property
    def cell_areas(self) -> tuple[CellAreas, Array]:
        """The areas of the cells, and the number of each among them by row and column."""
        dataset = self.served.dataset
        mesh = mesh_of(dataset)
        known = areas_of_cells(dataset, mesh, [self.whole or self.variable])
        cells = np.arange(mesh.size).reshape(mesh.shape)
        return known, cells if self.grid.dimensions == mesh.dimensions else cells.T

    @property
    def name(self) -> str:
        """As it stands in requests."""
        return f"{self.served.name}/{self.variable.name}"

    @cached_property
    def others(self) -> tuple[str, ...]:
        """Dimensions besides rows and columns."""
        return tuple(
            d for d in self.variable.dimensions if d not in self.grid.dimensions
        )

    @cached_property
    def time(self) -> TimeAxis | None:
        """The times of the variable."""
        coordinate = self.served.dataset.coordinate(Role.TIME)
        if coordinate is None or coordinate.dimension not in self.others:
            return None
        return self.served.dataset.time

    @cached_property
    def time_dimension(self) -> str:
        """The dimension of the times."""
        return str(self.served.dataset.need(Role.TIME).dimension)

    @cached_property
    def moments(self) -> list[str]:
        """The times in ISO 8601."""
        return [] if self.time is None else texts_of_moments(self.time)

    @cached_property
    def levels(self) -> Array | None:
        """The levels of the variable; None where it has none."""
        coordinate = self.served.dataset.coordinate(Role.LEVEL)
        if coordinate is None or coordinate.dimension not in self.others:
            return None
        return np.asarray(coordinate.values, dtype=np.float64)

    @cached_property
    def level_texts(self) -> list[str]:
        """The levels in the fewest digits of their own precision; empty where it has none."""
        return [] if self.levels is None else texts_of_levels(self._level_axis)

    def picks(self, time: str | None, level: str | None) -> Picks:
        """Return where a time and a level lie, the nearest ones; without them the last time and
        the first level.

        Raises
        ------
        Refused
            If they cannot be read, or lie outside of what the data cover.
        """
        chosen = []
        for dimension in self.others:
            size = self.served.dataset.lengths[dimension]
            at = 0
            if self.time is not None and dimension == self.time_dimension:
                latest = time in (None, "", "current", "default")
                at = size - 1 if latest else nearest_step(self.time, str(time))
            elif self.levels is not None and dimension == self._level_dimension:
                lowest = level in (None, "", "default")
                at = 0 if lowest else nearest_level(self._level_axis, str(level))
            chosen.append((dimension, at))
        return tuple(chosen)

    @property
    def _level_dimension(self) -> str:
        return str(self._level_axis.dimension)

    @property
    def _level_axis(self) -> Coordinate:
        return self.served.dataset.need(Role.LEVEL)

    def steps(self, text: str) -> Array:
        """Return the steps that a time or an interval names, as `steps_named`."""
        assert self.time is not None
        return steps_named(self.time, text, self.moments)

    def read(self, picks: Picks) -> Array:
        """Return the field at places along the other dimensions, as rows and columns."""
        at = dict(picks)
        slices = tuple(
            slice(at[d], at[d] + 1, 1) if d in at else slice(0, n, 1)
            for d, n in zip(self.variable.dimensions, self.variable.shape, strict=True)
        )
        values = self.served.read(self.variable.floats(), slices)
        rows, columns = (
            self.variable.dimensions.index(d) for d in self.grid.dimensions
        )
        left = [axis for axis in range(values.ndim) if axis not in (rows, columns)]
        flat = values.transpose([*left, rows, columns])
        return flat.reshape(flat.shape[-2:])

    def read_part(
        self, steps: Array, levels: Array, rows: Array, columns: Array
    ) -> Array:
        """Return values at indices along each axis, shape (steps, levels, rows, columns)."""
        wanted = dict(zip(self.grid.dimensions, (rows, columns), strict=True))
        order = list(self.grid.dimensions)
        for present, dimension, cells in (
            (self.levels is not None, "_level_dimension", levels),
            (self.time is not None, "time_dimension", steps),
        ):
            if present:
                name = getattr(self, dimension)
                wanted[name], order = cells, [name, *order]
        dimensions = self.variable.dimensions
        picks = [wanted.get(dimension, np.zeros(1, int)) for dimension in dimensions]
        part = Selected(self.variable.floats(), picks)
        values = self.served.read(part, tuple(slice(0, n, 1) for n in part.shape))
        left = [axis for axis, name in enumerate(dimensions) if name not in order]
        values = values.transpose([*left, *(dimensions.index(name) for name in order)])
        sizes = [indices.size for indices in (steps, levels, rows, columns)]
        return values.reshape(sizes)

    def scale(
        self,
        palette: str | None,
        limits: tuple[float | None, float | None],
        picks: Picks,
    ) -> Colours:
        """Return the colours of the layer at a level, which are the same for all times and parts of
        a map."""
        fixed = {
            name: at
            for name, at in picks
            if self.time is None or name != self.time_dimension
        }
        key = (palette, limits, tuple(fixed.items()))
        if key not in self._scales and self.classes is not None:
            self._scales[key] = colours_of_classes(self.classes, palette)
        if key not in self._scales:
            centre = 0.0 if pivots(self.variable) else None
            sample = np.concatenate([part.ravel() for part in self._sampled(fixed)])
            scale = scale_for(sample, self.variable, palette, limits, centre)
            self._scales[key] = Colours(scale, centre, shades_of(scale, centre))
        return self._scales[key]

    def _sampled(self, fixed: dict[str, int]) -> Iterator[Array]:
        size = len(self.time) if self.time is not None else 1
        first = {name: fixed.get(name, at) for name, at in self.picks(None, None)}
        for at in np.unique(np.linspace(0, size - 1, _SAMPLES).astype(int)):
            if self.time is not None:
                first[self.time_dimension] = int(at)
            yield self.read(tuple(first.items()))


def layers_of(served: Served) -> dict[str, Layer]:
    """Return the layers of a dataset by the names of their variables.

    Of an ensemble a layer shows the first member until another is chosen. A variable with more
    dimensions than these, time, level and those of the grid is no layer.
    """
    in_order = put_times_in_order(as_one_row(served.dataset))
    served = replace(served, dataset=in_order)
    dataset, grid = served.dataset, Grid(served.dataset)
    if not grid.there:
        return {}
    rows, columns = grid.dimensions
    lengths = dataset.lengths
    known = {rows, columns} | {
        str(coordinate.dimension)
        for role in (Role.TIME, Role.LEVEL)
        if (coordinate := dataset.coordinate(role)) is not None
    }
    along_members = find_member_dimension(dataset)
    layers = {}
    for variable in dataset.fields:
        others = [name for name in variable.dimensions if lengths[name] > 1]
        left = set(others) - known
        if not {rows, columns} <= set(variable.dimensions):
            continue
        if variable.data.dtype.kind not in "fiu" or left - {along_members}:
            continue
        layer = Layer(served, variable, grid)
        if left:
            names = tuple(labels_along(dataset, str(along_members)))
            first = _one_member(dataset, variable, 0)
            layer = Layer(served, first, grid, names, variable, names[0])
        layers[variable.name] = layer
    return layers


def _one_member(dataset: Dataset, variable: Variable, at: int) -> Variable:
    """Return one member of an ensemble."""
    name = member_dimension(dataset)
    axis = variable.dimensions.index(name)
    picks = [np.array([at]) if d == name else None for d in variable.dimensions]
    part = Selected(variable.floats(), picks)
    left = tuple(d for d in variable.dimensions if d != name)
    return variable.replace(dimensions=left, data=WithoutAxis(part, axis), missing=None)
